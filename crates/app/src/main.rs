//! The program `baricord`: command line, configuration, start-up.

mod commands;
mod database;
mod output;
mod people;
mod plan_output;
mod serve;
mod server;
mod simulate;
mod tls;

use baricord_core::error::Problem;
use clap::Parser;
use std::io::Write;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = match commands::Cli::try_parse() {
        Ok(cli) => cli,
        Err(e) if !e.use_stderr() => {
            output::write(format_args!("{e}"));
            return ExitCode::SUCCESS;
        }
        Err(e) => {
            let text = e.to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
            return failed(&Problem::new("usage", format!("{first} (baricord --help tells more)")));
        }
    };
    match commands::run(cli) {
        Ok(()) => ExitCode::SUCCESS,
        Err(p) => failed(&p),
    }
}

/// One error object on standard error, whether anybody reads it or not.
fn failed(p: &Problem) -> ExitCode {
    let _ = writeln!(std::io::stderr(), "{}", p.to_json());
    ExitCode::from(2)
}
