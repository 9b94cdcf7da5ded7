//! All tests of this crate's public interface in one program: to link one
//! for each file would take longer than to run them.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod accounting;
mod canaries;
mod credentials;
mod dictation;
mod fingerprints;
mod grants;
mod guards;
mod hearing;
mod hedging;
mod inserts;
mod jobs;
mod live;
mod recall;
mod regions;
mod resuming;
mod retention;
mod routes;
mod scripts;
mod speaking;
mod support;
mod tariffs;
