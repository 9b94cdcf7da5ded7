//! The one writer: a thread that commits many small writes as one group.
//!
//! Invariant: nobody is answered before the outer commit, and a group whose
//! transaction was rolled back under it answers every item with an error.

use std::path::PathBuf;
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::Duration;

use diesel::connection::{AnsiTransactionManager, SimpleConnection as _, TransactionManager as _};
use diesel::prelude::*;
use parking_lot::Mutex;
use tokio::sync::oneshot;

use crate::StoreError;
use crate::pool::open_writer;

/// Items in one group at most: about 3 ms of work.
const MAX_GROUP: usize = 256;

/// Number of items from which a group is followed by a pause, in which the next one
/// gathers: a commit writes the same pages for two items as for twenty. Who
/// writes alone never waits.
const CROWD: usize = 4;
const PAUSE: Duration = Duration::from_micros(150);

/// How long a write is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Durability {
    /// Committed; outlives the process.
    Process,
    /// Committed and synced; outlives the machine.
    Disk,
}

/// What to do once a write is committed (or, with `false`, was not).
type Reply = Box<dyn FnOnce(bool) + Send>;

/// Runs inside the group's transaction, in a savepoint of its own. Gives
/// whether the group may go on.
type Once = Box<dyn FnOnce(&mut SqliteConnection) -> (bool, Reply) + Send>;

/// Runs inside the group's transaction, in a savepoint or without one, and
/// again where the group was taken back. An error tells whether the group may
/// go on where it had a savepoint.
type Repeatable = Box<dyn FnMut(&mut SqliteConnection, Guard) -> Result<(), bool> + Send>;

/// How much of a group a failing item takes along.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Guard {
    /// Itself alone.
    Savepoint,
    /// The group, which is then written again with savepoints.
    Group,
}

enum Work {
    Once(Once),
    Repeatable(Repeatable, Reply),
}

struct QueuedWrite {
    durability: Durability,
    work: Work,
}

/// A handle on the writer thread.
#[derive(Clone)]
pub(crate) struct Writer {
    queue: Arc<Mutex<Option<mpsc::Sender<QueuedWrite>>>>,
    thread: Arc<Mutex<Option<JoinHandle<()>>>>,
}

impl Writer {
    pub(crate) fn start(connection: SqliteConnection, path: PathBuf) -> Writer {
        let (queue, items) = mpsc::channel();
        let thread = std::thread::Builder::new()
            .name("store-writer".into())
            .spawn(move || run(connection, &path, &items))
            .map_err(|error| tracing::error!(%error, "the writer thread cannot start"))
            .ok();
        Writer { queue: Arc::new(Mutex::new(Some(queue))), thread: Arc::new(Mutex::new(thread)) }
    }

    /// Queues a write and gives a future of its outcome. The write happens
    /// even where the future is dropped.
    pub(crate) fn submit<T: Send + 'static>(
        &self,
        durability: Durability,
        write: impl FnOnce(&mut SqliteConnection) -> Result<T, StoreError> + Send + 'static,
    ) -> impl Future<Output = Result<T, StoreError>> + Send {
        let (answer, outcome) = oneshot::channel();
        let once: Once = Box::new(move |connection| {
            // A savepoint: a failing item must not take its group along.
            let result = connection.transaction(|connection| write(connection));
            let go_on = result.as_ref().err().is_none_or(StoreError::is_of_one_item);
            let reply = move |committed: bool| {
                // A caller who left needs no answer.
                let _ = answer.send(if committed { result } else { result.and(Err(StoreError::Stopped)) });
            };
            (go_on, Box::new(reply) as Reply)
        });
        self.queue(durability, Work::Once(once));
        async move { outcome.await.unwrap_or(Err(StoreError::Stopped)) }
    }

    /// The same for what every request writes, and which does the same when it
    /// is done again: it needs no savepoint, which costs as much as a row.
    pub(crate) fn submit_repeatable(
        &self,
        durability: Durability,
        mut write: impl FnMut(&mut SqliteConnection) -> Result<(), StoreError> + Send + 'static,
    ) -> impl Future<Output = Result<(), StoreError>> + Send {
        let (answer, outcome) = oneshot::channel();
        let result = Arc::new(Mutex::new(Err(StoreError::Stopped)));
        let last = result.clone();
        let repeatable: Repeatable = Box::new(move |connection, guard| {
            let result = match guard {
                Guard::Group => write(connection),
                Guard::Savepoint => connection.transaction(|connection| write(connection)),
            };
            let told = result.as_ref().map_err(StoreError::is_of_one_item).copied();
            *last.lock() = result;
            told
        });
        let reply = move |committed: bool| {
            let result = std::mem::replace(&mut *result.lock(), Ok(()));
            // A caller who left needs no answer.
            let _ = answer.send(if committed { result } else { result.and(Err(StoreError::Stopped)) });
        };
        self.queue(durability, Work::Repeatable(repeatable, Box::new(reply)));
        async move { outcome.await.unwrap_or(Err(StoreError::Stopped)) }
    }

    fn queue(&self, durability: Durability, work: Work) {
        if let Some(queue) = self.queue.lock().as_ref() {
            // A writer that has ended drops the answer, which the caller notices.
            let _ = queue.send(QueuedWrite { durability, work });
        }
    }

    pub(crate) fn stop(&self) {
        self.queue.lock().take();
        let thread = self.thread.lock().take();
        if let Some(thread) = thread {
            // The callers of a writer that panicked have been notified.
            let _ = thread.join();
        }
    }
}

fn run(connection: SqliteConnection, path: &std::path::Path, items: &mpsc::Receiver<QueuedWrite>) {
    let mut committer = Committer { connection, level: None };
    let mut crowded = false;
    while let Ok(first) = items.recv() {
        if crowded {
            std::thread::sleep(PAUSE);
        }
        let mut group = vec![first];
        group.extend(items.try_iter().take(MAX_GROUP - 1));
        crowded = group.len() >= CROWD;
        // A panic would leave the transaction open for ever: start afresh.
        let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| committer.commit(group)));
        if outcome.is_err() {
            tracing::error!("a write panicked; the database is opened again");
            match open_writer(path) {
                Ok(connection) => committer = Committer { connection, level: None },
                Err(error) => return tracing::error!(%error, "the database cannot be opened again"),
            }
        }
    }
    // The log is read at the next start where it stays.
    let _ = committer.connection.batch_execute("PRAGMA wal_checkpoint(TRUNCATE);");
}

/// Why a group was taken back.
#[derive(Debug)]
enum GroupError {
    /// An item failed that had no savepoint: the group is to be written again.
    Again,
    Refused(diesel::result::Error),
}

impl From<diesel::result::Error> for GroupError {
    fn from(error: diesel::result::Error) -> GroupError {
        GroupError::Refused(error)
    }
}

struct Committer {
    connection: SqliteConnection,
    /// As the connection is set.
    level: Option<Durability>,
}

impl Committer {
    /// Sets how durable the next commit is, which only works between transactions.
    fn set_level(&mut self, durability: Durability) -> Result<(), diesel::result::Error> {
        if self.level != Some(durability) {
            let level = if durability == Durability::Disk { "FULL" } else { "NORMAL" };
            self.connection.batch_execute(&format!("PRAGMA synchronous = {level};"))?;
            self.level = Some(durability);
        }
        Ok(())
    }

    fn commit(&mut self, group: Vec<QueuedWrite>) {
        let durability = group.iter().map(|item| item.durability).max().unwrap_or(Durability::Process);
        let (mut repeatables, mut onces, mut replies) = (Vec::new(), Vec::new(), Vec::new());
        for item in group {
            match item.work {
                Work::Repeatable(write, reply) => {
                    repeatables.push(write);
                    replies.push(reply);
                }
                Work::Once(write) => onces.push(write),
            }
        }
        let mut outcome = self.set_level(durability).map_err(GroupError::from);
        for guard in [Guard::Group, Guard::Savepoint] {
            outcome = outcome.and_then(|()| self.write_group(guard, &mut repeatables, &mut onces, &mut replies));
            match outcome {
                Err(GroupError::Again) => outcome = Ok(()),
                _ => break,
            }
        }
        if let Err(GroupError::Refused(error)) = &outcome {
            tracing::error!(%error, items = replies.len(), "a group of writes was rolled back");
        }
        for reply in replies {
            reply(outcome.is_ok());
        }
    }

    /// Writes a group: first what can be written again, since the rest cannot
    /// be once it was taken back.
    fn write_group(
        &mut self,
        guard: Guard,
        repeatables: &mut [Repeatable],
        onces: &mut Vec<Once>,
        replies: &mut Vec<Reply>,
    ) -> Result<(), GroupError> {
        self.connection.immediate_transaction(|connection| {
            for write in repeatables {
                match write(connection, guard) {
                    Ok(()) => {}
                    Err(_) if guard == Guard::Group => return Err(GroupError::Again),
                    Err(go_on) => check(connection, go_on)?,
                }
            }
            for write in onces.drain(..) {
                let (go_on, reply) = write(connection);
                replies.push(reply);
                check(connection, go_on)?;
            }
            Ok(())
        })
    }
}

/// Ends a group that may not go on. An item may have rolled it back, too.
fn check(connection: &mut SqliteConnection, go_on: bool) -> Result<(), GroupError> {
    let depth = AnsiTransactionManager::transaction_manager_status_mut(connection);
    match go_on && matches!(depth.transaction_depth(), Ok(Some(_))) {
        true => Ok(()),
        false => Err(GroupError::Refused(diesel::result::Error::RollbackTransaction)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Store;

    #[tokio::test]
    async fn a_failing_item_leaves_its_group_intact() {
        let folder = tempfile::tempdir().expect("folder");
        let store = Store::open(&folder.path().join("records.db")).expect("opens");
        let insert = |name: &'static str| {
            store.writer.submit(Durability::Disk, move |connection| {
                let statement =
                    format!("INSERT INTO people (name, password_hash, created_at) VALUES ('{name}', 'hash', 1)");
                diesel::sql_query(statement)
                    .execute(connection)
                    .map_err(|error| StoreError::taken(error, "person", name))
            })
        };
        let writes = [insert("ada"), insert("bo"), insert("ada"), insert("cy")];
        let outcomes = futures_of(writes).await;
        assert!(matches!(outcomes[2], Err(StoreError::Taken { what: "person", .. })), "{outcomes:?}");
        assert!(outcomes[0].is_ok() && outcomes[1].is_ok() && outcomes[3].is_ok(), "{outcomes:?}");
    }

    #[tokio::test]
    async fn what_every_request_writes_does_not_fail_with_its_group() {
        let folder = tempfile::tempdir().expect("folder");
        let store = Store::open(&folder.path().join("records.db")).expect("opens");
        let tried = Arc::new(std::sync::atomic::AtomicUsize::new(0));
        let insert = |names: &'static [&'static str]| {
            let tried = tried.clone();
            store.writer.submit_repeatable(Durability::Disk, move |connection| {
                tried.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                for name in names {
                    diesel::sql_query(format!(
                        "INSERT INTO people (name, password_hash, created_at) VALUES ('{name}', 'hash', 1)"
                    ))
                    .execute(connection)?;
                }
                Ok(())
            })
        };
        let held = hold_up(&store);
        // The third of the group fails with its second row.
        let writes = [insert(&["ada"]), insert(&["bo"]), insert(&["cy", "ada"]), insert(&["di"])];
        let once = store.writer.submit(Durability::Process, |c| {
            Ok(diesel::sql_query("INSERT INTO people (name, password_hash, created_at) VALUES ('eve', 'hash', 1)")
                .execute(c)?)
        });
        drop(held);
        let outcomes = futures_of(writes).await;
        assert_eq!(outcomes.iter().map(Result::is_ok).collect::<Vec<_>>(), [true, true, false, true], "{outcomes:?}");
        assert_eq!(once.await.expect("written"), 1, "what can be written once is written once");
        assert_eq!(names(&store).await, ["ada", "bo", "di", "eve"], "nothing is left of what failed");
        assert_eq!(tried.load(std::sync::atomic::Ordering::SeqCst), 3 + 4, "first without savepoints, then with them");
        insert(&["fay"]).await.expect("written");
        assert_eq!(tried.load(std::sync::atomic::Ordering::SeqCst), 8, "without a fault once is enough");
    }

    #[tokio::test]
    async fn an_item_that_rolls_everything_back_fails_its_group_and_no_later_one() {
        let folder = tempfile::tempdir().expect("folder");
        let store = Store::open(&folder.path().join("records.db")).expect("opens");
        let write = |statement: &'static str| {
            store.writer.submit(Durability::Process, move |c| Ok(diesel::sql_query(statement).execute(c)?))
        };
        write("INSERT INTO people (name, password_hash, created_at) VALUES ('ada', 'hash', 1)").await.expect("written");
        let group = hold_up(&store);
        let before = write("INSERT INTO people (name, password_hash, created_at) VALUES ('bo', 'hash', 1)");
        let bad = write("INSERT OR ROLLBACK INTO people (name, password_hash, created_at) VALUES ('ada', 'hash', 1)");
        let behind = write("INSERT INTO people (name, password_hash, created_at) VALUES ('cy', 'hash', 1)");
        drop(group);
        let outcomes = futures_of([before, bad, behind]).await;
        assert!(outcomes.iter().all(Result::is_err), "nothing of the group was kept: {outcomes:?}");
        assert_eq!(names(&store).await, ["ada"], "and so it is");
        let after = write("INSERT INTO people (name, password_hash, created_at) VALUES ('bo', 'hash', 1)").await;
        assert!(after.is_ok(), "{after:?}");
        assert_eq!(names(&store).await, ["ada", "bo"]);
    }

    /// Holds the writer up until it is dropped, so that what is submitted
    /// meanwhile becomes one group.
    fn hold_up(store: &Store) -> mpsc::Sender<()> {
        let (release, held) = mpsc::channel::<()>();
        let (started, begun) = mpsc::channel::<()>();
        drop(store.writer.submit(Durability::Process, move |_| {
            let _ = started.send(());
            let _ = held.recv();
            Ok(())
        }));
        begun.recv().expect("the writer runs");
        release
    }

    async fn names(store: &Store) -> Vec<String> {
        store.people().await.expect("read").into_iter().map(|person| person.name).collect()
    }

    #[derive(QueryableByName)]
    struct Level {
        #[diesel(sql_type = diesel::sql_types::BigInt)]
        synchronous: i64,
    }

    #[tokio::test]
    async fn a_group_is_as_durable_as_the_strongest_of_its_items_asks_for() {
        let folder = tempfile::tempdir().expect("folder");
        let store = Store::open(&folder.path().join("records.db")).expect("opens");
        let level = |durability| {
            store
                .writer
                .submit(durability, |c| Ok(diesel::sql_query("PRAGMA synchronous").get_result::<Level>(c)?.synchronous))
        };
        // 1 is NORMAL: no sync of the log at a commit; 2 is FULL.
        for (group, wanted) in [
            (vec![Durability::Process, Durability::Process], 1),
            (vec![Durability::Process, Durability::Disk, Durability::Process], 2),
            (vec![Durability::Disk, Durability::Process], 2),
            (vec![Durability::Process], 1),
        ] {
            let held = hold_up(&store);
            let writes: Vec<_> = group.iter().map(|durability| level(*durability)).collect();
            drop(held);
            for outcome in futures_of(writes).await {
                assert_eq!(outcome.expect("read"), wanted, "{group:?}");
            }
        }
    }

    #[tokio::test]
    async fn nobody_is_answered_before_the_commit() {
        let folder = tempfile::tempdir().expect("folder");
        let path = folder.path().join("records.db");
        let store = Store::open(&path).expect("opens");
        for n in 0..20 {
            let insert =
                format!("INSERT INTO people (name, password_hash, created_at) VALUES ('person {n:02}', 'hash', 1)");
            let write = store.writer.submit(Durability::Process, move |c| Ok(diesel::sql_query(insert).execute(c)?));
            write.await.expect("written");
            assert_eq!(names(&store).await.len(), n + 1, "another connection sees what was answered");
        }
    }

    #[tokio::test]
    async fn a_panic_in_a_write_does_not_stop_the_writer() {
        let folder = tempfile::tempdir().expect("folder");
        let store = Store::open(&folder.path().join("records.db")).expect("opens");
        let panicked =
            store.writer.submit(Durability::Process, |_| -> Result<(), StoreError> { panic!("as tested") }).await;
        assert!(matches!(panicked, Err(StoreError::Stopped)));
        let after = store.writer.submit(Durability::Process, |c| {
            Ok(diesel::sql_query("INSERT INTO people (name, password_hash, created_at) VALUES ('ada', 'hash', 1)")
                .execute(c)?)
        });
        assert!(after.await.is_ok());
    }

    async fn futures_of<T>(writes: impl IntoIterator<Item = impl Future<Output = T>>) -> Vec<T> {
        let mut outcomes = Vec::new();
        for write in writes {
            outcomes.push(write.await);
        }
        outcomes
    }
}
