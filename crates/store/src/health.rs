//! What was measured of engines, voices, models and routes, by the hour.

use diesel::connection::DefaultLoadingMode;
use diesel::prelude::*;

use crate::models::HealthHour;
use crate::schema::health_hours;
use crate::{Durability, HealthScope, Store, StoreError};

impl Store {
    /// Writes hours in place of what was written of them before, and removes
    /// those before `oldest`.
    pub async fn put_health(&self, hours: Vec<HealthHour>, oldest: i64) -> Result<(), StoreError> {
        let write = move |c: &mut SqliteConnection| {
            for hour in hours {
                diesel::replace_into(health_hours::table).values(hour).execute(c)?;
            }
            diesel::delete(health_hours::table.filter(health_hours::hour.lt(oldest))).execute(c)?;
            Ok(())
        };
        self.writer.submit(Durability::Process, write).await
    }

    /// Takes in what is known since an hour of one kind of thing, by name and
    /// the oldest first, one after the other: of many voices there is much.
    pub async fn fold_health<T: Default + Send + 'static>(
        &self,
        scope: HealthScope,
        hour: i64,
        mut fold: impl FnMut(&mut T, HealthHour) + Send + 'static,
    ) -> Result<T, StoreError> {
        self.read(move |c| {
            let known = health_hours::table
                .filter(health_hours::hour.ge(hour).and(health_hours::scope.eq(scope)))
                .order((health_hours::name, health_hours::work, health_hours::hour))
                .select(HealthHour::as_select());
            let mut folded = T::default();
            for row in known.load_iter::<HealthHour, DefaultLoadingMode>(c)? {
                fold(&mut folded, row?);
            }
            Ok(folded)
        })
        .await
    }

    /// What is known since an hour of all things; the oldest first.
    pub async fn health_since(&self, hour: i64) -> Result<Vec<HealthHour>, StoreError> {
        self.read(move |c| {
            let known = health_hours::table.filter(health_hours::hour.ge(hour)).order(health_hours::hour);
            Ok(known.select(HealthHour::as_select()).load(c)?)
        })
        .await
    }
}
