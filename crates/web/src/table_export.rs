//! Tables that leave as CSV, written by the `csv` crate (RFC 4180). What people named themselves may begin like a formula, which a
//! spreadsheet would run: such a cell is defused.

use baricord_core::error::Problem;
use std::borrow::Cow;

/// A table that is written row by row.
pub struct TableExport(csv::Writer<Vec<u8>>);

/// A cell that no spreadsheet runs: text that begins like a formula has an apostrophe before it, a number stays one.
pub fn defused(cell: &str) -> Cow<'_, str> {
    let is_formula = cell.starts_with(['=', '+', '-', '@', '\t', '\r']) && cell.parse::<f64>().is_err();
    if is_formula { format!("'{cell}").into() } else { cell.into() }
}

impl TableExport {
    /// With a row of headings.
    pub fn new<I: IntoIterator<Item = T>, T: AsRef<str>>(headings: I) -> Result<Self, Problem> {
        let mut table = Self(csv::Writer::from_writer(vec![]));
        table.row(headings)?;
        Ok(table)
    }

    /// Writes a row.
    pub fn row<I: IntoIterator<Item = T>, T: AsRef<str>>(&mut self, cells: I) -> Result<(), Problem> {
        let failed = |e: csv::Error| Problem::new("cannot-write", e.to_string());
        for cell in cells {
            self.0.write_field(defused(cell.as_ref()).as_bytes()).map_err(failed)?;
        }
        self.0.write_record(None::<&[u8]>).map_err(failed)
    }

    /// All of it.
    pub fn finish(self) -> Result<Vec<u8>, Problem> {
        self.0.into_inner().map_err(|e| Problem::new("cannot-write", e.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_formula_is_defused_a_number_stays_and_a_comma_is_quoted() {
        let mut t = TableExport::new(["run", "x"]).unwrap();
        t.row(["=HYPERLINK(1)", "-0.5"]).unwrap();
        t.row(["mic, front", "@SUM(A1)"]).unwrap();
        let text = String::from_utf8(t.finish().unwrap()).unwrap();
        assert_eq!(text, "run,x\n'=HYPERLINK(1),-0.5\n\"mic, front\",'@SUM(A1)\n");
    }
}
