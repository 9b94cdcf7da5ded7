//! Values of other crates in columns of text.

use std::fmt;

use diesel::backend::Backend;
use diesel::deserialize::{self, FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::serialize::{self, IsNull, Output, ToSql};
use diesel::sql_types::{Nullable, Text};
use diesel::sqlite::Sqlite;
use dispatcher_core::{AllowancePeriod, Currency, Site, Watched, Work};

/// A value that has one word.
pub(crate) trait Worded: Sized {
    fn word(&self) -> &str;
    fn of_word(word: &str) -> Option<Self>;
}

impl Worded for Work {
    fn word(&self) -> &str {
        self.name()
    }

    fn of_word(word: &str) -> Option<Work> {
        Work::ALL.into_iter().find(|work| work.name() == word)
    }
}

impl Worded for Site {
    fn word(&self) -> &str {
        self.name()
    }

    fn of_word(word: &str) -> Option<Site> {
        Site::of_name(word)
    }
}

impl Worded for Watched {
    fn word(&self) -> &str {
        self.name()
    }

    fn of_word(word: &str) -> Option<Watched> {
        Watched::from_name(word)
    }
}

impl Worded for AllowancePeriod {
    fn word(&self) -> &str {
        self.name()
    }

    fn of_word(word: &str) -> Option<AllowancePeriod> {
        AllowancePeriod::of_name(word)
    }
}

impl Worded for Currency {
    fn word(&self) -> &str {
        self.code()
    }

    fn of_word(word: &str) -> Option<Currency> {
        word.parse().ok()
    }
}

/// Such a value as a column has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Text)]
pub struct Word<T: fmt::Debug>(pub(crate) T);

impl<T: fmt::Debug> From<T> for Word<T> {
    fn from(value: T) -> Self {
        Word(value)
    }
}

impl From<Word<Work>> for Work {
    fn from(word: Word<Work>) -> Work {
        word.0
    }
}

impl From<Word<Watched>> for Watched {
    fn from(word: Word<Watched>) -> Watched {
        word.0
    }
}

impl From<Word<AllowancePeriod>> for AllowancePeriod {
    fn from(word: Word<AllowancePeriod>) -> AllowancePeriod {
        word.0
    }
}

impl From<Word<Currency>> for Currency {
    fn from(word: Word<Currency>) -> Currency {
        word.0
    }
}

impl<T: Worded + fmt::Debug> ToSql<Text, Sqlite> for Word<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        out.set_value(self.0.word());
        Ok(IsNull::No)
    }
}

impl<T: Worded + fmt::Debug> FromSql<Text, Sqlite> for Word<T> {
    fn from_sql(value: <Sqlite as Backend>::RawValue<'_>) -> deserialize::Result<Self> {
        let word = <String as FromSql<Text, Sqlite>>::from_sql(value)?;
        let found = T::of_word(&word).map(Word);
        found.ok_or_else(|| format!("'{word}' is no {}", std::any::type_name::<T>()).into())
    }
}

/// Such a value in a column that may have none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, AsExpression, FromSqlRow)]
#[diesel(sql_type = Nullable<Text>)]
pub struct OptionalWord<T: fmt::Debug>(pub(crate) Option<T>);

impl<T: fmt::Debug> From<Option<T>> for OptionalWord<T> {
    fn from(value: Option<T>) -> Self {
        OptionalWord(value)
    }
}

/// Not for every type: `Option` is not ours.
macro_rules! optional {
    ($($word:ty),+) => { $(
        impl From<OptionalWord<$word>> for Option<$word> {
            fn from(word: OptionalWord<$word>) -> Option<$word> {
                word.0
            }
        }
    )+ };
}

optional!(Site, Currency);

impl<T: Worded + fmt::Debug> ToSql<Nullable<Text>, Sqlite> for OptionalWord<T> {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Sqlite>) -> serialize::Result {
        let Some(value) = &self.0 else { return Ok(IsNull::Yes) };
        out.set_value(value.word());
        Ok(IsNull::No)
    }
}

impl<T: Worded + fmt::Debug> FromSql<Nullable<Text>, Sqlite> for OptionalWord<T> {
    fn from_sql(value: <Sqlite as Backend>::RawValue<'_>) -> deserialize::Result<Self> {
        Word::from_sql(value).map(|Word(value)| OptionalWord(Some(value)))
    }

    fn from_nullable_sql(value: Option<<Sqlite as Backend>::RawValue<'_>>) -> deserialize::Result<Self> {
        value.map_or(Ok(OptionalWord(None)), Self::from_sql)
    }
}
