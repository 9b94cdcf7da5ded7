//! Documents that are put in version by version, and retired rather than
//! deleted: sheets, routes, presets, lexicons and prompt sets.

use std::fmt;

use diesel::backend::Backend;
use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::prelude::*;
use diesel::serialize::{self, IsNull, Output, ToSql};
use diesel::sql_types::Text;
use diesel::sqlite::Sqlite;

use crate::audit::note;
use crate::schema::versions;
use crate::states::VersionedKind;
use crate::{Durability, Store, StoreError};

/// Where a version came from.
#[derive(Debug, Clone, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub enum VersionOrigin {
    /// A file of the host.
    File(String),
    /// Somebody who put it in while the service ran.
    Person(String),
}

/// How the stored origin begins where it is a person.
const BY: &str = "by ";

impl VersionOrigin {
    /// The file or the person.
    pub fn name(&self) -> &str {
        match self {
            VersionOrigin::File(name) | VersionOrigin::Person(name) => name,
        }
    }
}

impl fmt::Display for VersionOrigin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            VersionOrigin::File(path) => f.write_str(path),
            VersionOrigin::Person(who) => write!(f, "{BY}{who}"),
        }
    }
}

impl ToSql<Text, Sqlite> for VersionOrigin {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.to_string());
        Ok(IsNull::No)
    }
}

impl FromSql<Text, Sqlite> for VersionOrigin {
    fn from_sql(value: <Sqlite as Backend>::RawValue<'_>) -> deserialize::Result<Self> {
        let text = <String as FromSql<Text, Sqlite>>::from_sql(value)?;
        Ok(match text.strip_prefix(BY) {
            Some(who) => VersionOrigin::Person(who.to_owned()),
            None => VersionOrigin::File(text),
        })
    }
}

/// A document to be kept as the next version of its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewVersion {
    pub kind: VersionedKind,
    pub name: String,
    /// Whose it is; every app's where nothing is said.
    pub app: Option<String>,
    /// Of a lexicon: it holds for all text in its language, and not only where
    /// it is asked for.
    pub always: bool,
    pub document: String,
    pub origin: VersionOrigin,
}

impl NewVersion {
    /// A document of no app in particular, put in by a person.
    pub fn by(who: &str, kind: VersionedKind, name: &str, document: String) -> NewVersion {
        let origin = VersionOrigin::Person(who.to_owned());
        NewVersion { kind, name: name.to_owned(), app: None, always: false, document, origin }
    }
}

/// One version of a document.
#[derive(Debug, Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = versions)]
pub struct DocumentVersion {
    pub kind: VersionedKind,
    pub name: String,
    /// 1 and up.
    pub version: i64,
    /// As in [`NewVersion`].
    pub app: Option<String>,
    pub always: bool,
    /// TOML, JSON or PLS, by its kind.
    pub document: String,
    pub origin: VersionOrigin,
    pub created_at: i64,
    pub retired_at: Option<i64>,
}

impl DocumentVersion {
    fn holds(&self, new: &NewVersion) -> bool {
        self.document == new.document && self.app == new.app && self.always == new.always
    }
}

/// All versions of a name, the newest first.
fn versions_of(c: &mut SqliteConnection, kind: VersionedKind, name: &str) -> Result<Vec<DocumentVersion>, StoreError> {
    Ok(versions::table
        .filter(versions::kind.eq(kind))
        .filter(versions::name.eq(name))
        .order(versions::version.desc())
        .select(DocumentVersion::as_select())
        .load(c)?)
}

/// Retires every version of a name.
///
/// # Errors
/// [`StoreError::Missing`] where none is in use; so with all of these.
pub(crate) fn retire(
    c: &mut SqliteConnection,
    kind: VersionedKind,
    name: &str,
    by: &str,
    at: i64,
) -> Result<(), StoreError> {
    let in_use = versions::table.filter(versions::kind.eq(kind)).filter(versions::name.eq(name));
    let in_use = in_use.filter(versions::retired_at.is_null());
    if diesel::update(in_use).set(versions::retired_at.eq(at)).execute(c)? == 0 {
        return Err(StoreError::Missing { what: kind.what(), name: name.to_owned() });
    }
    note(c, at, by, kind.actions().1, name)
}

impl Store {
    /// Keeps a document as the next version of its name; gives the version
    /// that is now in force.
    ///
    /// Where it is in force already, nothing is written. A file is compared
    /// with what last came from that file, so that one that did not change
    /// does not undo what a person put in or retired since.
    ///
    /// # Errors
    /// [`StoreError::Taken`] where another app has the name.
    pub async fn put_version(&self, new: NewVersion, at: i64) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let known = versions_of(c, new.kind, &new.name)?;
            let newest = known.first();
            let in_force = newest.filter(|newest| newest.retired_at.is_none());
            if let (Some(DocumentVersion { app: Some(theirs), .. }), Some(ours)) = (in_force, &new.app)
                && theirs != ours
                && new.kind == VersionedKind::PromptSet
            {
                return Err(StoreError::Taken { what: new.kind.what(), name: new.name });
            }
            let before = match &new.origin {
                VersionOrigin::File(_) => known.iter().find(|version| version.origin == new.origin),
                VersionOrigin::Person(_) => in_force,
            };
            let newest = newest.map_or(0, |newest| newest.version);
            if before.is_some_and(|before| before.holds(&new)) {
                return Ok(newest);
            }
            let NewVersion { kind, name, app, always, document, origin } = new;
            let version = newest + 1;
            note(c, at, origin.name(), kind.actions().0, &format!("{name} version {version}"))?;
            let row = DocumentVersion {
                kind,
                name,
                version,
                app,
                always,
                document,
                origin,
                created_at: at,
                retired_at: None,
            };
            diesel::insert_into(versions::table).values(row).execute(c)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// What is in force of a kind, by name: of each name the newest version,
    /// where it is not retired.
    pub async fn in_force(&self, kind: VersionedKind) -> Result<Vec<DocumentVersion>, StoreError> {
        self.read(move |c| {
            let rows: Vec<DocumentVersion> = versions::table
                .filter(versions::kind.eq(kind))
                .filter(versions::retired_at.is_null())
                .order((versions::name.asc(), versions::version.desc()))
                .select(DocumentVersion::as_select())
                .load(c)?;
            let mut newest: Vec<DocumentVersion> = Vec::new();
            for row in rows {
                if newest.last().is_none_or(|last| last.name != row.name) {
                    newest.push(row);
                }
            }
            Ok(newest)
        })
        .await
    }

    /// The version of a name that is in force.
    pub async fn version_in_force(&self, kind: VersionedKind, name: String) -> Result<DocumentVersion, StoreError> {
        self.read(move |c| in_force(c, kind, name)).await
    }

    /// All versions of a name, the newest first.
    pub async fn versions(&self, kind: VersionedKind, name: String) -> Result<Vec<DocumentVersion>, StoreError> {
        self.read(move |c| versions_of(c, kind, &name)).await
    }

    /// Takes a name out of use; its versions stay on record.
    pub async fn retire(&self, kind: VersionedKind, name: String, by: String, at: i64) -> Result<(), StoreError> {
        self.writer.submit(Durability::Disk, move |c| retire(c, kind, &name, &by, at)).await
    }
}

/// The version of a name that is in force.
pub(crate) fn in_force(
    c: &mut SqliteConnection,
    kind: VersionedKind,
    name: String,
) -> Result<DocumentVersion, StoreError> {
    let in_use = versions::table.filter(versions::kind.eq(kind)).filter(versions::name.eq(&name));
    let in_use = in_use.filter(versions::retired_at.is_null());
    let found = in_use.order(versions::version.desc()).select(DocumentVersion::as_select()).first(c).optional()?;
    found.ok_or(StoreError::Missing { what: kind.what(), name })
}
