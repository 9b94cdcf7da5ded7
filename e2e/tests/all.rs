//! All tests of this crate's public interface in one program: to link one
//! for each file would take longer than to run them.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod accessibility;
mod alerts;
mod allowances;
mod attacked;
mod attacked_documents;
mod bounds;
mod browser;
mod canaries;
mod chaos;
mod client;
mod console;
mod console_compare;
mod console_transcripts;
mod convert;
mod engines;
mod exchange_pages;
mod exchanges;
mod fault_matrix;
mod formats;
mod guarding;
mod guide;
mod in_a_page;
mod in_a_program;
mod jobs;
mod keeping;
mod killed;
mod libraries;
mod links;
mod listening;
mod live;
mod long_work;
mod midnight;
mod money;
mod narration;
mod nothing_lost;
mod overload;
mod prompts;
mod provenance;
mod rights;
mod samples;
mod screenshots;
mod scripts;
mod set_up;
mod shaping;
mod speaking;
mod staying_up;
mod streaming;
mod tokens;
mod traces;
mod transcripts;

/// The product under test.
const BINARY: &str = env!("CARGO_BIN_EXE_dispatcher-under-test");
