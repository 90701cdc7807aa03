//! Columns of a CSV file: comma, semicolon or tab; dot or comma decimals; a preamble before the
//! headings; headings again in the middle.

use crate::csv_guard::{CsvGuard, MAX_LINE_BYTES};
use crate::numbers::{heading, number};
use crate::source::FileSource;
use baricord_core::case::CsvWriting;
use baricord_core::error::{Problem, Warning};
use std::collections::HashMap;
use std::io::{BufRead, Read};

/// How much of a file shows how it is written.
const HEAD_BYTES: usize = 16 << 10;

/// How a file is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CsvShape {
    /// Between cells.
    pub separator: u8,
    /// Whether decimals have a comma.
    pub comma: bool,
    /// Lines before the headings.
    pub preamble: usize,
    /// Headings with the unit in their brackets.
    pub headings: Vec<(String, Option<String>)>,
}

fn not_utf8(line: u64) -> Problem {
    Problem::new("not-utf8", format!("line {line} is not UTF-8 text; save the file as CSV in UTF-8")).line(line)
}

fn text_of(bytes: &[u8]) -> Result<&str, Problem> {
    std::str::from_utf8(bytes).map_err(|e| not_utf8(1 + bytes[..e.valid_up_to()].iter().filter(|b| **b == b'\n').count() as u64))
}

/// How a file is written: guessed from its first lines, where it was not said.
pub fn sniff_as(bytes: &[u8], how: &CsvWriting) -> Result<CsvShape, Problem> {
    let head = &bytes[..bytes.len().min(HEAD_BYTES)];
    // A cut in the middle of a character is no fault of the file's: only whole bytes before it count.
    let whole = if bytes.len() > head.len() { head.iter().rposition(|b| b.is_ascii()).map_or(0, |i| i + 1) } else { head.len() };
    let head = text_of(&head[..whole])?;
    let lines: Vec<&str> = head.lines().take(60).collect();
    if lines.iter().all(|l| l.trim().is_empty()) {
        return Err(Problem::new("empty-file", "the file is empty"));
    }
    let sample: Vec<&str> = lines.iter().copied().filter(|l| !l.trim().is_empty()).collect();
    let count = |c: char| sample.iter().filter(|l| l.contains(c)).count();
    let separator = if let Some(s) = how.separator {
        u8::try_from(s).ok().filter(|s| b",;\t".contains(s)).ok_or_else(|| {
            Problem::new("unknown-separator", format!("“{s}” does not separate cells here: comma, semicolon or tab"))
                .field("csv.separator")
        })?
    } else if count(';') * 2 > sample.len() {
        b';'
    } else if count('\t') * 2 > sample.len() {
        b'\t'
    } else {
        b','
    };
    let cells = |l: &str| -> Vec<String> { l.split(separator as char).map(|c| c.trim().to_string()).collect() };
    let has_comma = |c: &String| {
        c.split_once(',').is_some_and(|(a, b)| {
            !b.is_empty()
                && b.chars().all(|x| x.is_ascii_digit())
                && a.trim_start_matches('-').chars().all(|x| x.is_ascii_digit())
        })
    };
    let comma = match how.decimal {
        Some(d) => d == ',',
        None => separator != b',' && sample.iter().flat_map(|l| cells(l)).any(|c| has_comma(&c)),
    };
    // Headings: the last line without numbers before the first line with them.
    let is_data = |l: &str| {
        let c = cells(l);
        c.len() > 1
            && c.iter().filter(|x| number(x, comma).is_some()).count() * 2 >= c.iter().filter(|x| !x.is_empty()).count().max(1)
            && c.iter().any(|x| number(x, comma).is_some())
    };
    let first_data = lines.iter().position(|l| is_data(l)).unwrap_or(lines.len());
    let row = lines[..first_data].iter().rposition(|l| cells(l).len() > 1 || !l.trim().is_empty()).unwrap_or(0);
    Ok(CsvShape { separator, comma, preamble: row, headings: cells(lines[row]).iter().map(|c| heading(c)).collect() })
}

/// Takes a row: its line, and the cells asked for.
type RowSink<'a> = dyn FnMut(u64, &[f64]) -> Result<(), Problem> + 'a;

/// A table whose columns were found by their headings, ready to be read row by row.
pub(crate) struct Table<'a> {
    file: &'a FileSource,
    shape: CsvShape,
    quoted: bool,
    wanted: Vec<String>,
    at: Vec<usize>,
    /// Unit in the heading of each column.
    pub units: Vec<Option<String>>,
}

impl<'a> Table<'a> {
    /// Finds the columns asked for.
    pub fn open(file: &'a FileSource, wanted: &[&str], how: &CsvWriting) -> Result<Self, Problem> {
        let head = file.head(HEAD_BYTES + 1)?;
        let shape = sniff_as(&head, how)?;
        let place: HashMap<String, usize> =
            shape.headings.iter().enumerate().rev().map(|(i, (h, _))| (h.to_lowercase(), i)).collect();
        let full: HashMap<String, usize> = shape
            .headings
            .iter()
            .enumerate()
            .filter_map(|(i, (h, u))| u.as_ref().map(|u| (format!("{h} [{u}]").to_lowercase(), i)))
            .collect();
        let mut at = vec![];
        for w in wanted {
            let key = heading(w).0.to_lowercase();
            let i = full.get(&w.to_lowercase()).or_else(|| place.get(&w.to_lowercase())).or_else(|| place.get(&key));
            let Some(&i) = i else {
                let have: Vec<&str> = shape.headings.iter().map(|h| h.0.as_str()).collect();
                return Err(Problem::new(
                    "missing-column",
                    format!("there is no column “{w}”; the file has {}", have.join(", ")),
                )
                .field(*w)
                .line(shape.preamble as u64 + 1));
            };
            at.push(i);
        }
        Ok(Self {
            file,
            quoted: head.contains(&b'"'),
            wanted: wanted.iter().map(|w| (*w).to_string()).collect(),
            units: at.iter().map(|&i| shape.headings[i].1.clone()).collect(),
            at,
            shape,
        })
    }

    /// Hands every row that can be read to `row`, with its line; a cell is NaN where it is empty.
    /// What could not be read is a warning.
    pub fn rows(&self, mut row: impl FnMut(u64, &[f64]) -> Result<(), Problem>) -> Result<Vec<Warning>, Problem> {
        self.file.read_with(|r| {
            for _ in 0..=self.shape.preamble {
                let mut skipped = vec![];
                Read::take(&mut *r, MAX_LINE_BYTES as u64 + 1)
                    .read_until(b'\n', &mut skipped)
                    .map_err(|e| self.file.broken(&e))?;
                if skipped.len() > MAX_LINE_BYTES {
                    return Err(Problem::new("line-too-long", "a line before the rows is longer than 1 MiB").line(1));
                }
            }
            self.rows_after_headings(r, &mut row)
        })
    }

    fn rows_after_headings(&self, r: &mut dyn BufRead, row: &mut RowSink<'_>) -> Result<Vec<Warning>, Problem> {
        let before = self.shape.preamble as u64 + 1;
        let (guard, stopped) = CsvGuard::new(r, before + 1, self.quoted.then_some(self.shape.separator));
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(self.shape.separator)
            .has_headers(false)
            .flexible(true)
            .quoting(self.quoted)
            .buffer_capacity(1 << 16)
            .from_reader(guard);
        let names: Vec<String> = self.wanted.iter().map(|w| heading(w).0.to_lowercase()).collect();
        let (mut repeated, mut bad) = ((0u64, 0usize), (0u64, 0u64, String::new()));
        let (mut record, mut cells, mut good) = (csv::ByteRecord::new(), vec![f64::NAN; self.at.len()], 0u64);
        while reader.read_byte_record(&mut record).map_err(|e| {
            let message = || Problem::new("bad-csv", e.to_string()).line(before + e.position().map_or(0, |p| p.line()));
            stopped.take().unwrap_or_else(message)
        })? {
            let line = before + record.position().map_or(0, |p| p.line());
            let mut wrong = None;
            for (k, (&i, out)) in self.at.iter().zip(&mut cells).enumerate() {
                let raw = record.get(i).unwrap_or(b"").trim_ascii();
                *out = f64::NAN;
                if raw.is_empty() {
                    continue;
                }
                let text = std::str::from_utf8(raw).map_err(|_| not_utf8(line))?;
                match number(text, self.shape.comma) {
                    Some(x) => *out = x,
                    // A cell that holds something else makes the row bad.
                    None => wrong = wrong.or(Some((k, text.to_string()))),
                }
            }
            let Some((k, text)) = wrong else {
                good += 1;
                row(line, &cells)?;
                continue;
            };
            let is_heading = self.at.iter().zip(&names).all(|(&i, n)| {
                std::str::from_utf8(record.get(i).unwrap_or(b"")).is_ok_and(|t| heading(t).0.eq_ignore_ascii_case(n))
            });
            if is_heading {
                repeated = (if repeated.1 == 0 { line } else { repeated.0 }, repeated.1 + 1);
                continue;
            }
            if bad.1 == 0 {
                bad = (line, 0, format!("“{text}” in column {}", self.wanted[k]));
            }
            bad.1 += 1;
        }
        let mut warnings = vec![];
        if repeated.1 > 0 {
            let message = format!("the headings stand again in the middle ({} times); skipped", repeated.1);
            warnings.push(Warning::new("header-repeated", message).line(repeated.0));
        }
        if bad.1 > 0 {
            let message = format!("{} is no number; {} such rows were dropped", bad.2, bad.1);
            warnings.push(Warning::new("bad-number", message).line(bad.0));
            if bad.1 > good {
                return Err(Problem::new("bad-number", format!("{} is no number, and most rows are like it", bad.2))
                    .field(self.wanted.join(", "))
                    .line(bad.0));
            }
        }
        Ok(warnings)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Debug)]
    struct Columns {
        values: Vec<Vec<f64>>,
        lines: Vec<u64>,
        units: Vec<Option<String>>,
        warnings: Vec<Warning>,
    }

    fn read(bytes: &[u8], wanted: &[&str]) -> Result<Columns, Problem> {
        let file = FileSource::from(bytes.to_vec());
        let table = Table::open(&file, wanted, &CsvWriting::default())?;
        let (mut values, mut lines) = (vec![vec![]; wanted.len()], vec![]);
        let warnings = table.rows(|line, cells| {
            lines.push(line);
            values.iter_mut().zip(cells).for_each(|(v, c)| v.push(*c));
            Ok(())
        })?;
        Ok(Columns { values, lines, units: table.units.clone(), warnings })
    }

    #[test]
    fn german_and_english_files_read_alike() {
        let a = read(b"t;az;speed\n0,000;1,5;\n0,005;-0,25;44,4\n", &["t", "az", "speed"]).unwrap();
        let b = read(b"t,az,speed\n0.000,1.5,\n0.005,-0.25,44.4\n", &["t", "az", "speed"]).unwrap();
        assert_eq!(a.values[1], b.values[1]);
        assert_eq!(a.values[2][1], 44.4);
        assert!(a.values[2][0].is_nan());
        assert_eq!(a.lines, [2, 3]);
    }

    #[test]
    fn a_preamble_units_and_a_byte_order_mark_are_no_trouble() {
        let c = read("\u{feff}phone 7\nrun 2\ntime [ms]\taz (g)\n0\t1\n5\t2\n".as_bytes(), &["time", "az"]).unwrap();
        assert_eq!(c.values[1], [1.0, 2.0]);
        assert_eq!(c.units, [Some("ms".into()), Some("g".into())]);
        assert_eq!(c.lines, [4, 5]);
    }

    #[test]
    fn headings_in_the_middle_and_words_between_numbers_are_told() {
        let c = read(b"t,az\n0,1\n1,2\nt,az\n2,oops\n3,4\n", &["t", "az"]).unwrap();
        let said: Vec<_> = c.warnings.iter().map(|w| (w.code.as_str(), w.line)).collect();
        assert_eq!(said, [("header-repeated", Some(4)), ("bad-number", Some(5))]);
        assert_eq!(c.values[0], [0.0, 1.0, 3.0]);
    }

    #[test]
    fn problems_name_column_or_line() {
        let p = read(b"t,ax\n0,1\n", &["t", "az"]).unwrap_err();
        assert_eq!((p.code.as_str(), p.field.as_deref()), ("missing-column", Some("az")));
        assert_eq!(read(b"", &["t"]).unwrap_err().code, "empty-file");
        assert_eq!(read(b"t,az\n0,1\n\xff\xfe,2\n", &["t", "az"]).unwrap_err().line, Some(3));
        assert_eq!(read(b"t,az\n0,x\n1,y\n2,z\n", &["t", "az"]).unwrap_err().code, "bad-number");
    }

    proptest! {
        #[test]
        fn mutated_files_never_panic(cut in 0usize..60, byte in any::<u8>(), at in 0usize..60) {
            let mut b = b"t;az;speed\n0,000;1,5;\n0,005;-0,25;44,4\n0,010;0,5;\n".to_vec();
            b.truncate(cut.min(b.len()));
            if at < b.len() { b[at] = byte; }
            let _ = read(&b, &["t", "az", "speed"]);
        }
        #[test]
        fn any_text_never_panics(s in ".{0,200}") {
            let _ = read(s.as_bytes(), &["t", "az"]);
        }
    }
}
