//! The program: settings, command line, wiring. No rules of the job live here.

mod by_rule;
mod commands;
mod demo;
mod follow;
mod listen;
mod serve;
mod settings;

use std::process::ExitCode;

use clap::Parser;

use commands::Cli;
use mimalloc::MiMalloc;

/// The system's allocator keeps what pages leave in the gaps of many threads' heaps: under fifty readers it held three
/// times the memory of this one, and answered a third fewer (docs/performance.md).
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

fn main() -> ExitCode {
    let cli = Cli::parse();
    match commands::run(cli) {
        Ok(code) => code,
        Err(error) => {
            eprintln!("gold-tiller: {error:#}");
            commands::code_of(&error)
        }
    }
}
