//! The `dispatcher` binary.

/// A request makes some hundreds of small allocations, which are a tenth of its
/// work with the allocator of the system.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> std::process::ExitCode {
    dispatcher_cli::main()
}
