//! The `dispatcher` binary.

fn main() -> std::process::ExitCode {
    dispatcher_cli::main()
}
