//! The program `baricord`: command line, configuration, start-up.

mod commands;
mod database;
mod people;
mod serve;
mod server;
mod simulate;
mod tls;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = match commands::Cli::try_parse() {
        Ok(cli) => cli,
        Err(e) if !e.use_stderr() => {
            print!("{e}");
            return ExitCode::SUCCESS;
        }
        Err(e) => {
            let text = e.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            eprintln!(
                "{}",
                baricord_core::problem::Problem::new("usage", format!("{first} (baricord --help tells more)")).to_json()
            );
            return ExitCode::from(2);
        }
    };
    match commands::run(cli) {
        Ok(()) => ExitCode::SUCCESS,
        Err(p) => {
            eprintln!("{}", p.to_json());
            ExitCode::from(2)
        }
    }
}
