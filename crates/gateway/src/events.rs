//! Events for observers: the console, whose figures move
//! while somebody watches. Nothing is kept; who looks on later reads the records.

use dispatcher_core::{BreakerState, Work};
use dispatcher_store::{DispatchState, StoredNotice};
use tokio::sync::broadcast;

use crate::Gateway;

/// Events that who looks on may be behind.
const BEHIND: usize = 256;

/// Something that has happened.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A dispatch has ended.
    Dispatch { id: String, app: String, work: Work, engine: Option<String>, state: DispatchState, requested: String },
    /// The breaker of an engine has opened, half opened or closed.
    Breaker { engine: String, state: BreakerState },
    /// An alert was sent, or is over.
    Notice(StoredNotice),
}

/// Tells events.
pub(crate) struct Announcer(broadcast::Sender<Event>);

impl Default for Announcer {
    fn default() -> Self {
        Announcer(broadcast::Sender::new(BEHIND))
    }
}

impl Announcer {
    /// Tells an event to those who look on, if there are any.
    pub(crate) fn tell(&self, event: impl FnOnce() -> Event) {
        if self.0.receiver_count() > 0 {
            // The last of them may leave at this moment.
            let _ = self.0.send(event());
        }
    }
}

/// Events from now on.
pub struct Events(broadcast::Receiver<Event>);

impl Events {
    /// The next event; nothing of it where some were missed, since they came
    /// faster than they were taken. Ends with the gateway.
    pub async fn next(&mut self) -> Option<Option<Event>> {
        match self.0.recv().await {
            Ok(event) => Some(Some(event)),
            Err(broadcast::error::RecvError::Lagged(_)) => Some(None),
            Err(broadcast::error::RecvError::Closed) => None,
        }
    }
}

impl Gateway {
    /// What happens from now on.
    pub fn events(&self) -> Events {
        Events(self.inner.events.0.subscribe())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn who_takes_events_too_slowly_is_told_that_some_are_missed() {
        let announcer = Announcer::default();
        announcer.tell(|| panic!("nobody looks on"));
        let mut events = Events(announcer.0.subscribe());
        let breaker = |number: usize| Event::Breaker { engine: number.to_string(), state: BreakerState::Open };
        for number in 0..=BEHIND {
            announcer.tell(|| breaker(number));
        }
        assert_eq!(events.next().await, Some(None));
        assert_eq!(events.next().await, Some(Some(breaker(1))));
        drop(announcer);
        let mut left = 0;
        while events.next().await.is_some() {
            left += 1;
        }
        assert_eq!(left, BEHIND - 1);
    }
}
