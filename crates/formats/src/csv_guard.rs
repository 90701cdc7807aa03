//! What a CSV file must hold to before it is parsed: a line has an end, and a quote is closed on its line.
//!
//! The parser behind gathers a whole record before it answers; without a bound a file without line ends, or with
//! a quote that is never closed, would be gathered whole.

use baricord_core::error::Problem;
use std::cell::RefCell;
use std::io::{BufRead, Read};
use std::rc::Rc;

/// Longest line of a CSV file, bytes.
pub const MAX_LINE_BYTES: usize = 1 << 20;

/// Where a quote may open and close a cell, as the parser behind sees it.
#[derive(Clone, Copy, PartialEq)]
enum Cell {
    Start,
    Plain,
    Quoted,
    /// A quote inside a quoted cell: its end, or the first of two that stand for one.
    Closing,
}

/// The reason why the reading stopped, shared with whoever called the parser.
pub type Stopped = Rc<RefCell<Option<Problem>>>;

/// Passes a file on line by line, and stops where a line does not end.
pub struct CsvGuard<'a> {
    inner: &'a mut dyn BufRead,
    /// Between cells, where quotes count.
    separator: Option<u8>,
    cell: Cell,
    line: u64,
    length: usize,
    stopped: Stopped,
}

impl<'a> CsvGuard<'a> {
    /// `line`: the number of the first line that comes; `separator`: between cells, where quotes count.
    pub fn new(inner: &'a mut dyn BufRead, line: u64, separator: Option<u8>) -> (Self, Stopped) {
        let stopped = Stopped::default();
        (Self { inner, separator, cell: Cell::Start, line, length: 0, stopped: stopped.clone() }, stopped)
    }

    fn stop(&self, code: &str, message: String) -> std::io::Error {
        self.stopped.replace(Some(Problem::new(code, message).line(self.line)));
        std::io::Error::other("stopped")
    }

    fn line_end(&mut self) -> std::io::Result<()> {
        if self.cell == Cell::Quoted {
            return Err(self.stop("unclosed-quote", format!("the quote that opens in line {} is not closed there", self.line)));
        }
        (self.cell, self.length) = (Cell::Start, 0);
        self.line += 1;
        Ok(())
    }

    fn see(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        let Some(separator) = self.separator else {
            let mut rest = bytes;
            while let Some(end) = memchr::memchr(b'\n', rest) {
                self.grow(end)?;
                self.line_end()?;
                rest = &rest[end + 1..];
            }
            return self.grow(rest.len());
        };
        for &b in bytes {
            self.grow(1)?;
            self.cell = match (self.cell, b) {
                (_, b'\n') => {
                    self.line_end()?;
                    continue;
                }
                (Cell::Start, b'"') => Cell::Quoted,
                (Cell::Quoted, b'"') => Cell::Closing,
                (Cell::Closing, b'"') | (Cell::Quoted, _) => Cell::Quoted,
                (_, b) if b == separator => Cell::Start,
                _ => Cell::Plain,
            };
        }
        Ok(())
    }

    fn grow(&mut self, by: usize) -> std::io::Result<()> {
        self.length += by;
        if self.length > MAX_LINE_BYTES {
            return Err(self.stop("line-too-long", format!("line {} is longer than 1 MiB: this is no table", self.line)));
        }
        Ok(())
    }
}

impl Read for CsvGuard<'_> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        let n = self.inner.read(out)?;
        if n == 0 && !out.is_empty() && self.cell == Cell::Quoted {
            self.line_end()?;
        }
        self.see(&out[..n])?;
        Ok(n)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Cursor;

    fn read(text: &[u8], separator: Option<u8>) -> Result<Vec<u8>, Problem> {
        let mut inner = Cursor::new(text.to_vec());
        let (mut guard, stopped) = CsvGuard::new(&mut inner, 1, separator);
        let mut out = vec![];
        match guard.read_to_end(&mut out) {
            Ok(_) => Ok(out),
            Err(_) => Err(stopped.take().unwrap()),
        }
    }

    #[test]
    fn a_long_line_and_an_open_quote_are_told_with_their_line() {
        let long = [b"a,b\n".to_vec(), vec![b'1'; MAX_LINE_BYTES + 1]].concat();
        for separator in [None, Some(b',')] {
            let p = read(&long, separator).unwrap_err();
            assert_eq!((p.code.as_str(), p.line), ("line-too-long", Some(2)));
            assert!(read(&[b"a,b\n".to_vec(), vec![b'1'; MAX_LINE_BYTES]].concat(), separator).is_ok());
        }
        for text in ["t,\"az\n0,1\n", "t,\"az"] {
            let p = read(text.as_bytes(), Some(b',')).unwrap_err();
            assert_eq!((p.code.as_str(), p.line), ("unclosed-quote", Some(1)), "{text}");
        }
        let p = read(b"t,az\n0,1\n1,\"2\n3,4\n", Some(b',')).unwrap_err();
        assert_eq!(p.line, Some(3));
        for fine in ["\"t\";\"a \"\"z\"\"\"\n0;1\n", "t;5\" wheel\n0;1\n"] {
            assert!(read(fine.as_bytes(), Some(b';')).is_ok(), "{fine}");
        }
    }

    proptest! {
        #[test]
        fn what_passes_is_unchanged(text in "[a-z0-9,\"\n]{0,200}") {
            if let Ok(out) = read(text.as_bytes(), Some(b',')) {
                prop_assert_eq!(out, text.as_bytes());
            }
            prop_assert_eq!(read(text.as_bytes(), None).unwrap(), text.as_bytes());
        }
    }
}
