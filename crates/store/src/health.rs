//! What was measured of engines, voices, models and routes, by the hour.

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

    /// What is known since an hour, of one kind of thing or of all; by name,
    /// and the oldest first.
    pub async fn health_since(&self, scope: Option<HealthScope>, hour: i64) -> Result<Vec<HealthHour>, StoreError> {
        self.read(move |c| {
            let mut query = health_hours::table.filter(health_hours::hour.ge(hour)).into_boxed();
            if let Some(scope) = scope {
                query = query.filter(health_hours::scope.eq(scope));
            }
            let ordered = query.order((health_hours::name, health_hours::work, health_hours::hour));
            Ok(ordered.select(HealthHour::as_select()).load(c)?)
        })
        .await
    }
}
