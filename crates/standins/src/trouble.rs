//! Foul weather as every stand-in has it; each tells of it in its own form.

use std::time::Duration;

use hyper::StatusCode;

use crate::serve::Answer;
use crate::weather::{Forecast, Weather};

/// What ends a call before it is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Trouble {
    Crowded,
    Away,
    Expired,
    NotActiveYet,
    WrongRegion,
    MissingRole,
    Unpaid,
    /// To be told with what the caller came with.
    Echo,
}

impl Trouble {
    pub(crate) fn status(self) -> StatusCode {
        match self {
            Trouble::Crowded => StatusCode::TOO_MANY_REQUESTS,
            Trouble::Away => StatusCode::SERVICE_UNAVAILABLE,
            Trouble::Expired => StatusCode::UNAUTHORIZED,
            Trouble::NotActiveYet | Trouble::WrongRegion | Trouble::MissingRole => StatusCode::FORBIDDEN,
            Trouble::Unpaid => StatusCode::PAYMENT_REQUIRED,
            Trouble::Echo => StatusCode::BAD_REQUEST,
        }
    }
}

/// The answer to a call in foul weather; `tell` writes it in the stand-in's
/// own form.
pub(crate) async fn foul(forecast: Option<&Forecast>, tell: impl FnOnce(Trouble) -> Answer) -> Option<Answer> {
    let trouble = match forecast?.weather {
        Weather::Throttled => Trouble::Crowded,
        Weather::Down => Trouble::Away,
        Weather::Expired => Trouble::Expired,
        Weather::NotActiveYet => Trouble::NotActiveYet,
        Weather::WrongRegion => Trouble::WrongRegion,
        Weather::MissingRole => Trouble::MissingRole,
        Weather::Unpaid => Trouble::Unpaid,
        Weather::Echo => Trouble::Echo,
        Weather::Reset => return Some(Err("reset".into())),
        Weather::Becalmed => {
            tokio::time::sleep(Duration::from_secs(120)).await;
            return Some(Err("becalmed".into()));
        }
        _ => return None,
    };
    Some(tell(trouble))
}
