//! The program `baricord`: command line, configuration, start-up.

mod commands;
mod serve;
mod simulate;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = commands::Cli::parse();
    match commands::run(cli) {
        Ok(()) => ExitCode::SUCCESS,
        Err(p) => {
            eprintln!("{}", p.to_json());
            ExitCode::from(2)
        }
    }
}
