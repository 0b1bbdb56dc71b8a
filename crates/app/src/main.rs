//! The program: settings, command line, wiring. No rules of the job live here.

mod commands;
mod demo;
mod follow;
mod serve;
mod settings;

use std::process::ExitCode;

use clap::Parser;

use commands::Cli;

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
