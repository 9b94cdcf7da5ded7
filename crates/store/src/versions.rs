//! Documents that are added version by version, and retired rather than
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
    /// App that may use it (default: all apps); every app's where nothing is said.
    pub app: Option<String>,
    /// Of a lexicon: it holds for all text in its language, and not only where
    /// it is asked for.
    pub always: bool,
    pub document: String,
    pub origin: VersionOrigin,
}

impl NewVersion {
    /// A document of no app in particular, added by a person.
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

/// Number of versions that are kept of a document that apps add themselves.
const MOST_OF_APPS: i64 = 20;

/// All versions of a name.
macro_rules! of_name {
    ($kind:expr, $name:expr) => {
        versions::table.filter(versions::kind.eq($kind)).filter(versions::name.eq($name))
    };
}

impl Store {
    /// Keeps a document as the next version of its name; gives the version
    /// that is now in force.
    ///
    /// Where it is in force already, nothing is written. A file is compared
    /// with what last came from that file, so that one that did not change
    /// does not undo what a person added or retired since.
    ///
    /// # Errors
    /// [`StoreError::Taken`] where another app has the name.
    pub async fn put_version(&self, new: NewVersion, at: i64) -> Result<i64, StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let newest_first = of_name!(new.kind, &new.name).order(versions::version.desc());
            let newest: Option<DocumentVersion> =
                newest_first.select(DocumentVersion::as_select()).first(c).optional()?;
            let in_force = newest.as_ref().filter(|newest| newest.retired_at.is_none());
            if new.kind.is_of_apps() && in_force.is_some_and(|theirs| theirs.app != new.app) {
                return Err(StoreError::Taken { what: new.kind.what(), name: new.name });
            }
            let same = match &new.origin {
                VersionOrigin::File(_) => newest_first
                    .filter(versions::origin.eq(&new.origin))
                    .select(DocumentVersion::as_select())
                    .first(c)
                    .optional()?
                    .is_some_and(|before| before.holds(&new)),
                VersionOrigin::Person(_) => in_force.is_some_and(|before| before.holds(&new)),
            };
            let newest = newest.map_or(0, |newest| newest.version);
            if same {
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
            if kind.is_of_apps() {
                let old = of_name!(kind, &row.name).filter(versions::version.le(version - MOST_OF_APPS));
                diesel::delete(old).execute(c)?;
            }
            diesel::insert_into(versions::table).values(row).execute(c)?;
            Ok(version)
        };
        self.writer.submit(Durability::Disk, write).await
    }

    /// What is in force of a kind, by name: of each name the newest version,
    /// where it is not retired.
    pub async fn in_force(&self, kind: VersionedKind) -> Result<Vec<DocumentVersion>, StoreError> {
        self.read(move |c| {
            let later = diesel::alias!(versions as later);
            let is_later = later
                .filter(later.field(versions::kind).eq(versions::kind))
                .filter(later.field(versions::name).eq(versions::name))
                .filter(later.field(versions::version).gt(versions::version));
            Ok(versions::table
                .filter(versions::kind.eq(kind))
                .filter(versions::retired_at.is_null())
                .filter(diesel::dsl::not(diesel::dsl::exists(is_later)))
                .order(versions::name.asc())
                .select(DocumentVersion::as_select())
                .load(c)?)
        })
        .await
    }

    /// The version of a name that is in force.
    pub async fn version_in_force(&self, kind: VersionedKind, name: String) -> Result<DocumentVersion, StoreError> {
        self.read(move |c| in_force(c, kind, name)).await
    }

    /// All versions of a name, the newest first.
    pub async fn versions(&self, kind: VersionedKind, name: String) -> Result<Vec<DocumentVersion>, StoreError> {
        self.read(move |c| {
            let newest_first = of_name!(kind, &name).order(versions::version.desc());
            Ok(newest_first.select(DocumentVersion::as_select()).load(c)?)
        })
        .await
    }

    /// Takes a name out of use; its versions stay on record.
    pub async fn retire(&self, kind: VersionedKind, name: String, by: String, at: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            let in_use = of_name!(kind, &name).filter(versions::retired_at.is_null());
            if diesel::update(in_use).set(versions::retired_at.eq(at)).execute(c)? == 0 {
                return Err(StoreError::Missing { what: kind.what(), name });
            }
            note(c, at, &by, kind.actions().1, &name)
        };
        self.writer.submit(Durability::Disk, write).await
    }
}

/// The version of a name that is in force.
pub(crate) fn in_force(
    c: &mut SqliteConnection,
    kind: VersionedKind,
    name: String,
) -> Result<DocumentVersion, StoreError> {
    let in_use = of_name!(kind, &name).filter(versions::retired_at.is_null());
    let found = in_use.order(versions::version.desc()).select(DocumentVersion::as_select()).first(c).optional()?;
    found.ok_or(StoreError::Missing { what: kind.what(), name })
}
