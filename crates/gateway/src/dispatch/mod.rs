//! A request on its way: calls within their limits, one candidate after the
//! other, delivery, and the record of each attempt.

pub(crate) mod admit;
pub(crate) mod allowances;
pub(crate) mod attempt;
pub(crate) mod breakers;
pub(crate) mod caller_limits;
pub(crate) mod candidates;
pub(crate) mod channels;
pub(crate) mod completion;
pub(crate) mod congestion;
pub(crate) mod deliver;
pub(crate) mod dispatch_record;
pub(crate) mod fingerprint;
pub(crate) mod health;
pub(crate) mod hear;
pub(crate) mod hedge;
pub(crate) mod limiter;
pub(crate) mod recalled;
pub(crate) mod rehearse;
pub(crate) mod speak;
mod speaker;
pub(crate) mod spending;
pub(crate) mod tokens;
pub(crate) mod utterance;
