//! All tests of this crate's public interface in one program: to link one
//! for each file would take longer than to run them.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod catalogue;
mod credentials;
mod health;
mod jobs;
mod migrations;
mod money;
mod people;
mod prompts;
mod recall;
mod records;
mod support;
mod versions;
