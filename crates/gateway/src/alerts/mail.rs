//! Mail over SMTP (RFC 5321), for alerts.

use std::time::Duration;

use lettre::message::Mailbox;
use lettre::transport::smtp::authentication::Credentials;
use lettre::{AsyncSmtpTransport, AsyncTransport as _, Message, Tokio1Executor};
use secrecy::{ExposeSecret as _, SecretString};

use crate::GatewayError;

/// A server answers in this time.
const PATIENCE: Duration = Duration::from_secs(20);

/// How the connection to the mail server is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum MailSecurity {
    /// TLS after STARTTLS (RFC 3207), which must be offered.
    #[default]
    Starttls,
    /// TLS from the first byte (RFC 8314).
    Tls,
    /// None: for a server on this machine.
    None,
}

/// A server that takes mail, and who sends it.
pub struct Mail {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
}

impl Mail {
    /// A server by its host and port; `login` is a user and a password.
    ///
    /// # Errors
    /// When the sender is no address, or there are no certificates of this host.
    pub fn new(
        host: &str,
        port: u16,
        security: MailSecurity,
        from: &str,
        login: Option<(String, SecretString)>,
    ) -> Result<Mail, GatewayError> {
        let wrong = |error: &dyn std::fmt::Display| GatewayError::Mail(error.to_string());
        let from = from.parse().map_err(|error| wrong(&format!("the sender '{from}': {error}")))?;
        let builder = match security {
            MailSecurity::Starttls => AsyncSmtpTransport::<Tokio1Executor>::starttls_relay(host),
            MailSecurity::Tls => AsyncSmtpTransport::<Tokio1Executor>::relay(host),
            MailSecurity::None => Ok(AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host)),
        };
        let mut builder = builder.map_err(|error| wrong(&error))?.port(port).timeout(Some(PATIENCE));
        if let Some((user, password)) = login {
            builder = builder.credentials(Credentials::new(user, password.expose_secret().to_owned()));
        }
        Ok(Mail { transport: builder.build(), from })
    }

    /// Sends a message of plain text.
    ///
    /// # Errors
    /// In words, where the server does not take it.
    pub(super) async fn send(&self, to: &str, subject: &str, text: &str) -> Result<(), String> {
        let to: Mailbox = to.parse().map_err(|error| format!("'{to}' is no mailbox: {error}"))?;
        let message = Message::builder().from(self.from.clone()).to(to).subject(subject).body(text.to_owned());
        let message = message.map_err(|error| error.to_string())?;
        self.transport.send(message).await.map(drop).map_err(|error| error.to_string())
    }
}
