//! The HTTP front: Rocket, sessions, OpenAPI, the console's files, metrics.
//!
//! Every route stands in the table of [`access`]; every error leaves through
//! [`problem`]; what happens to a connection below HTTP is in [`connection`].

mod access;
mod api;
mod body;
mod catchers;
mod config;
mod connection;
mod connections;
mod console;
mod document_reader;
mod drain;
mod headers;
mod idempotency;
mod launch;
#[cfg(test)]
mod matrix;
mod openapi;
mod problem;
mod problem_kind;
mod ranged;
mod sign_in;
mod spool;
mod statuses;
mod uploads;
mod wire;

pub use config::{Config, ConfigError, EngineOverride, LogFormat};
pub use document_reader::read_document_main;
pub use launch::{RunningService, ServeError, Service, init_logging, launch, offline_registry};
pub use openapi::document as openapi_document;
