//! The HTTP front: Rocket, sessions, OpenAPI, the console's files, metrics.
//!
//! Every call is in the table of [`routes`]; every error leaves through
//! [`problem`]; what happens to a connection below HTTP is in [`connection`].

mod access;
mod answers;
mod api;
mod body;
mod catchers;
mod config;
mod connection;
mod connections;
mod console;
mod document_reader;
mod drain;
#[cfg(test)]
mod every_problem;
mod headers;
mod idempotency;
mod launch;
mod links;
mod logging;
#[cfg(test)]
mod matrix;
mod openapi;
mod origins;
mod parameters;
mod preparation;
mod problem;
mod problem_kind;
mod public_url;
mod ranged;
mod routes;
mod sheet_files;
mod sign_in;
mod spool;
mod statuses;
mod uploads;
mod wire;

pub use config::{Config, ConfigError, EngineOverride, LogFormat};
pub use document_reader::read_document_main;
pub use launch::{RunningService, ServeError, Service, launch};
pub use logging::init_logging;
pub use openapi::document as openapi_document;
pub use preparation::make_data_folder;
pub use sheet_files::offline_registry;
