//! What the command line prints. Whoever reads it may stop reading: then there is nothing more to say, and the
//! program ends without a word.

use std::fmt::Arguments;
use std::io::{ErrorKind, Write};

/// Writes to standard output; ends the program where nobody reads it any more.
pub fn write(text: Arguments<'_>) {
    let mut out = std::io::stdout().lock();
    if let Err(e) = out.write_fmt(text).and_then(|()| out.flush()) {
        let code = if e.kind() == ErrorKind::BrokenPipe { 0 } else { 2 };
        if code != 0 {
            let _ =
                writeln!(std::io::stderr(), "{}", baricord_core::error::Problem::new("cannot-write", e.to_string()).to_json());
        }
        std::process::exit(code);
    }
}

/// Prints a line to standard output.
macro_rules! outln {
    ($($part:tt)*) => { $crate::output::write(format_args!("{}\n", format_args!($($part)*))) };
}
pub(crate) use outln;
