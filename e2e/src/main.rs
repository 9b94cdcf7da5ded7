//! The product's own binary, built beside its tests, so that they always run
//! what the sources say.

fn main() -> std::process::ExitCode {
    dispatcher_cli::main()
}
