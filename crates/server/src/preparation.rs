//! What a service needs on the disk before it can serve: its data folder, the
//! root key, the key of webhooks, and at the first start an operator key.

use std::path::{Path, PathBuf};

use dispatcher_engines::WebhookClient;
use dispatcher_gateway::{App, Gateway, Mail, MailSecurity, RootKeys, Webhooks, new_access_key, now_micros};
use dispatcher_store::Store;
use dispatcher_vault::{RootKey, SigningKey, random_token};
use secrecy::{ExposeSecret as _, SecretString};

use crate::links::LinkSigner;
use crate::{Config, ServeError};

/// Makes the data folder, readable by the user of the service only. From then
/// on this applies to every file that the process writes.
pub fn make_data_folder(folder: &Path) -> Result<(), ServeError> {
    use std::os::unix::fs::DirBuilderExt as _;
    // SQLite makes files of its own.
    rustix::process::umask(rustix::fs::Mode::RWXG | rustix::fs::Mode::RWXO);
    let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
    made.map_err(|source| ServeError::Data { path: folder.into(), source })
}

/// Prepares the data folder, and returns the folder in it where bodies are spooled.
pub(crate) fn prepare_data(folder: &Path) -> Result<PathBuf, ServeError> {
    use std::os::unix::fs::PermissionsExt as _;
    let failed = |source| ServeError::Data { path: folder.into(), source };
    make_data_folder(folder)?;
    let mode = std::fs::metadata(folder).map_err(failed)?.permissions().mode() & 0o777;
    if mode & 0o077 != 0 {
        tracing::warn!(
            path = %folder.display(),
            mode = format!("{mode:03o}"),
            "the data folder is readable by others; run chmod 700 on it"
        );
    }
    let spool = folder.join("spool");
    // What an earlier run left behind belongs to nobody.
    match std::fs::remove_dir_all(&spool) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
        _ => {}
    }
    std::fs::create_dir_all(&spool).map_err(failed)?;
    make_private(folder).map_err(failed)?;
    Ok(spool)
}

/// Takes what an earlier version wrote away from others: mode 0600 for files
/// and 0700 for folders, whatever they had.
fn make_private(folder: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt as _;
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        if kind.is_symlink() {
            continue;
        }
        let mode = entry.metadata()?.permissions().mode();
        if mode & 0o077 != 0 {
            std::fs::set_permissions(entry.path(), std::fs::Permissions::from_mode(mode & 0o700))?;
        }
        if kind.is_dir() {
            make_private(&entry.path())?;
        }
    }
    Ok(())
}

fn root_file(config: &Config) -> PathBuf {
    config.root_key.clone().unwrap_or_else(|| config.data.join("root.key"))
}

/// A lost root key is never replaced in silence: what is sealed with it could
/// not be opened any more.
pub(crate) async fn check_root_file(config: &Config, store: &Store) -> Result<(), ServeError> {
    let path = root_file(config);
    let elsewhere = config.root_passphrase_variable.is_some() || config.root_key_variable.is_some();
    let sealed = store.credentials().await?.iter().filter(|row| !row.ciphertext.is_empty()).count();
    if elsewhere || sealed == 0 || path.exists() {
        return Ok(());
    }
    if config.forget_credentials {
        store.forget_credentials("host".into(), now_micros()).await?;
        tracing::warn!(sealed, "the credentials were revoked, since their root key is lost");
        return Ok(());
    }
    Err(ServeError::RootKeyLost { path, sealed })
}

/// The root key from where the host keeps it.
pub(crate) fn roots(config: &Config) -> Result<RootKeys, ServeError> {
    let given = |name: &str| std::env::var(name).ok().filter(|text| !text.is_empty()).map(SecretString::from);
    let needed = |name: &str| given(name).ok_or_else(|| ServeError::Variable(name.to_owned()));
    let made = |text: SecretString, salt: &str| match config.root_passphrase_variable {
        Some(_) => RootKey::from_passphrase(text.expose_secret(), &config.data.join(salt), &mut rand::rng()),
        None => RootKey::from_text(text.expose_secret()),
    };
    match config.root_passphrase_variable.as_ref().or(config.root_key_variable.as_ref()) {
        Some(name) => {
            let current = made(needed(name)?, "root.salt")?;
            let next = given(&format!("{name}_NEXT")).map(|text| made(text, "root.salt")).transpose()?;
            Ok(RootKeys::given(current, next))
        }
        None => Ok(RootKeys::of_file(&root_file(config))?),
    }
}

/// A signing key in a file of the data folder, made at the first start.
fn signing_key(config: &Config, file: &str) -> Result<SecretString, ServeError> {
    let path = config.data.join(file);
    let failed = |source| ServeError::Data { path: path.clone(), source };
    if !path.exists() {
        write_private(&path, SigningKey::new_pem()?.expose_secret().trim()).map_err(failed)?;
    }
    Ok(SecretString::from(std::fs::read_to_string(&path).map_err(failed)?))
}

/// Webhooks that may be notified of the end of a job.
pub(crate) fn webhooks(config: &Config) -> Result<Webhooks, ServeError> {
    let webhook_client = WebhookClient::new(signing_key(config, "webhook.key")?)?;
    Ok(Webhooks { webhook_client, hosts: config.webhook_hosts.clone() })
}

/// What signs complete audio.
pub(crate) fn audio_signer(config: &Config) -> Result<SigningKey, ServeError> {
    Ok(SigningKey::from_pem(&signing_key(config, "provenance.key")?)?)
}

/// What signs links; the secret is made at the first start.
pub(crate) fn link_signer(config: &Config) -> Result<LinkSigner, ServeError> {
    let path = config.data.join("link.key");
    let failed = |source| ServeError::Data { path: path.clone(), source };
    if !path.exists() {
        write_private(&path, &random_token(&mut rand::rng())).map_err(failed)?;
    }
    Ok(LinkSigner::new(&SecretString::from(std::fs::read_to_string(&path).map_err(failed)?)))
}

/// The server that takes mail, with its password.
pub(crate) fn mail(config: &Config) -> Result<Option<Mail>, ServeError> {
    let Some(server) = &config.mail else { return Ok(None) };
    let password = match (&server.password_file, &server.password_variable) {
        (Some(path), _) => {
            let failed = |source| ServeError::Data { path: path.clone(), source };
            Some(std::fs::read_to_string(path).map_err(failed)?.trim().to_owned())
        }
        (None, Some(name)) => Some(std::env::var(name).map_err(|_| ServeError::MailPassword(name.clone()))?),
        (None, None) => None,
    };
    let login = match (&server.user, password) {
        (Some(user), None) => return Err(ServeError::MailLogin(user.clone())),
        (user, password) => user.clone().zip(password.map(SecretString::from)),
    };
    let port = server.port.unwrap_or(match server.security {
        MailSecurity::Starttls => 587,
        MailSecurity::Tls => 465,
        MailSecurity::None => 25,
    });
    Ok(Some(Mail::new(&server.host, port, server.security, &server.from, login)?))
}

/// At the first start: the app that pays for the console, and an operator key
/// in a file of mode 0600.
pub(crate) async fn first_start(store: &Store, data: &Path) -> Result<(), ServeError> {
    if store.apps().await?.iter().any(|app| app.name == "console") {
        return Ok(());
    }
    let console = App::new("console", "Console", now_micros());
    store.add_app(console, "host".into()).await?;
    let path = data.join("operator.key");
    let (key, secret) = new_access_key("console", "made at the first start");
    store.add_key(key, "host".into()).await?;
    write_private(&path, secret.expose_secret()).map_err(|source| ServeError::Data { path: path.clone(), source })?;
    tracing::info!(path = %path.display(), "the first operator key was written to this file");
    Ok(())
}

/// A root key that opens nothing is the wrong one.
pub(crate) async fn check_roots(config: &Config, gateway: &Gateway) -> Result<(), ServeError> {
    let (sealed, opened) = gateway.sealed_credentials().await?;
    if sealed == 0 || opened > 0 {
        return Ok(());
    }
    if config.forget_credentials {
        gateway.forget_sealed_credentials("host").await?;
        tracing::warn!(sealed, "the credentials were revoked, since the root key does not open them");
        return Ok(());
    }
    Err(ServeError::RootKeyWrong { sealed })
}

fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    use std::os::unix::fs::OpenOptionsExt as _;
    let mut file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    writeln!(file, "{text}")
}
