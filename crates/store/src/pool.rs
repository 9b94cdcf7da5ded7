//! Opening the database: migrations, the writer, and the readers' pool.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use diesel::connection::SimpleConnection as _;
use diesel::prelude::*;
use diesel::r2d2::{ConnectionManager, CustomizeConnection, Pool, PooledConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness as _, embed_migrations};
use tokio::sync::Semaphore;

use crate::StoreError;
use crate::writer::Writer;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");
const READERS: u32 = 4;

pub(crate) type ReaderConnection = PooledConnection<ConnectionManager<SqliteConnection>>;

/// The records. Cheap to clone.
#[derive(Clone)]
pub struct Store {
    pub(crate) writer: Writer,
    readers: Pool<ConnectionManager<SqliteConnection>>,
    /// One for each reader: who waits for one holds no thread.
    turns: Arc<Semaphore>,
}

#[derive(Debug)]
struct ReaderSettings;

impl CustomizeConnection<SqliteConnection, diesel::r2d2::Error> for ReaderSettings {
    fn on_acquire(&self, connection: &mut SqliteConnection) -> Result<(), diesel::r2d2::Error> {
        connection
            .batch_execute("PRAGMA busy_timeout = 5000; PRAGMA query_only = 1; PRAGMA cache_size = -2000;")
            .map_err(diesel::r2d2::Error::QueryError)
    }
}

/// The writer's connection, with its settings and the newest schema.
pub(crate) fn open_writer(path: &Path) -> Result<SqliteConnection, StoreError> {
    let failed = |source: Box<dyn std::error::Error + Send + Sync>| StoreError::Open { path: path.into(), source };
    let mut connection = SqliteConnection::establish(&path.to_string_lossy()).map_err(|error| failed(error.into()))?;
    // None of these can be set inside a transaction.
    connection
        .batch_execute(
            "PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL; \
             PRAGMA foreign_keys = ON; PRAGMA secure_delete = ON;",
        )
        .map_err(|error| failed(error.into()))?;
    connection.run_pending_migrations(MIGRATIONS).map_err(failed)?;
    Ok(connection)
}

impl Store {
    /// Opens or makes the database and brings its schema up to date.
    ///
    /// # Errors
    /// [`StoreError::Open`] when the file cannot be used.
    pub fn open(path: &Path) -> Result<Store, StoreError> {
        let connection = open_writer(path)?;
        let writer = Writer::start(connection, path.to_owned());
        let readers = Pool::builder()
            .max_size(READERS)
            .min_idle(Some(1))
            .test_on_check_out(false)
            .connection_timeout(Duration::from_secs(5))
            .connection_customizer(Box::new(ReaderSettings))
            .build(ConnectionManager::new(path.to_string_lossy()))
            .map_err(|error| StoreError::Open { path: path.into(), source: error.into() })?;
        Ok(Store { writer, readers, turns: Arc::new(Semaphore::new(READERS as usize)) })
    }

    /// Runs a query on a reader, off the async threads.
    pub(crate) async fn read<T: Send + 'static>(
        &self,
        query: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        let turn = self.turns.clone().acquire_owned().await.map_err(|_| StoreError::Stopped)?;
        let readers = self.readers.clone();
        let run = move || {
            let _turn = turn;
            let mut connection: ReaderConnection = readers.get().map_err(|_| StoreError::Busy)?;
            query(&mut connection)
        };
        tokio::task::spawn_blocking(run).await.map_err(|_| StoreError::Stopped)?
    }

    /// Commits what is queued and stops the writer. Later writes fail.
    pub fn close(&self) {
        self.writer.stop();
    }
}
