//! Columns of a CSV file: comma, semicolon or tab; dot or comma decimals; a preamble before the
//! headings; headings again in the middle.

use crate::numbers::{heading, number};
use baricord_core::problem::{Problem, Warning};
use std::collections::HashMap;

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

/// The columns asked for, row by row.
#[derive(Debug)]
pub(crate) struct Columns {
    /// One vector a column; NaN where a cell is empty.
    pub values: Vec<Vec<f64>>,
    /// Line of each row.
    pub lines: Vec<u64>,
    /// Unit in the heading of each column.
    pub units: Vec<Option<String>>,
    pub warnings: Vec<Warning>,
}

fn text_of(bytes: &[u8]) -> Result<&str, Problem> {
    match std::str::from_utf8(bytes) {
        Ok(t) => Ok(t),
        Err(e) => {
            let line = 1 + bytes[..e.valid_up_to()].iter().filter(|b| **b == b'\n').count() as u64;
            Err(Problem::new("not-utf8", format!("line {line} is not UTF-8 text; save the file as CSV in UTF-8")).line(line))
        }
    }
}

/// Guesses how a file is written from its first lines.
pub fn sniff(bytes: &[u8]) -> Result<CsvShape, Problem> {
    let head = &bytes[..bytes.len().min(16 << 10)];
    // A cut in the middle of a character is no fault of the file's: only whole bytes before it count.
    let whole = if bytes.len() > head.len() { head.iter().rposition(|b| b.is_ascii()).map_or(0, |i| i + 1) } else { head.len() };
    let head = text_of(&head[..whole])?;
    let lines: Vec<&str> = head.lines().take(60).collect();
    if lines.iter().all(|l| l.trim().is_empty()) {
        return Err(Problem::new("empty-file", "the file is empty"));
    }
    let sample: Vec<&str> = lines.iter().copied().filter(|l| !l.trim().is_empty()).collect();
    let count = |c: char| sample.iter().filter(|l| l.contains(c)).count();
    let separator = if count(';') * 2 > sample.len() {
        b';'
    } else if count('\t') * 2 > sample.len() {
        b'\t'
    } else {
        b','
    };
    let cells = |l: &str| -> Vec<String> { l.split(separator as char).map(|c| c.trim().to_string()).collect() };
    let comma = separator != b','
        && sample.iter().flat_map(|l| cells(l)).any(|c| {
            c.split_once(',').is_some_and(|(a, b)| {
                !b.is_empty()
                    && b.chars().all(|x| x.is_ascii_digit())
                    && a.trim_start_matches('-').chars().all(|x| x.is_ascii_digit())
            })
        });
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

/// Reads columns by their headings.
pub(crate) fn read(bytes: &[u8], wanted: &[&str]) -> Result<Columns, Problem> {
    let shape = sniff(bytes)?;
    let text = text_of(bytes)?;
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
            return Err(Problem::new("missing-column", format!("there is no column “{w}”; the file has {}", have.join(", ")))
                .field(*w)
                .line(shape.preamble as u64 + 1));
        };
        at.push(i);
    }
    let mut offset = 0;
    for _ in 0..=shape.preamble {
        offset += text[offset..].find('\n').map_or(text.len() - offset, |n| n + 1);
    }
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(shape.separator)
        .has_headers(false)
        .flexible(true)
        .quoting(text.contains('"'))
        .from_reader(&text.as_bytes()[offset..]);
    let mut out = Columns {
        values: vec![vec![]; at.len()],
        lines: vec![],
        units: at.iter().map(|&i| shape.headings[i].1.clone()).collect(),
        warnings: vec![],
    };
    let (mut repeated, mut bad) = ((0u64, 0usize), (0u64, 0usize, String::new()));
    let mut record = csv::StringRecord::new();
    loop {
        match reader.read_record(&mut record) {
            Ok(false) => break,
            Ok(true) => {}
            Err(e) => {
                return Err(
                    Problem::new("bad-csv", e.to_string()).line(shape.preamble as u64 + 1 + e.position().map_or(0, |p| p.line()))
                );
            }
        }
        let line = shape.preamble as u64 + 1 + record.position().map_or(0, |p| p.line());
        let cell = |i: usize| record.get(i).unwrap_or("").trim();
        if at.iter().zip(wanted).all(|(&i, w)| heading(cell(i)).0.eq_ignore_ascii_case(&heading(w).0)) {
            repeated = (if repeated.1 == 0 { line } else { repeated.0 }, repeated.1 + 1);
            continue;
        }
        let row: Vec<Option<f64>> = at.iter().map(|&i| number(cell(i), shape.comma)).collect();
        // An empty cell means no new sample; a cell that holds something else makes the row bad.
        if let Some(k) = (0..at.len()).find(|&k| row[k].is_none() && !cell(at[k]).is_empty()) {
            if bad.1 == 0 {
                bad = (line, 0, format!("“{}” in column {}", cell(at[k]), wanted[k]));
            }
            bad.1 += 1;
            continue;
        }
        for (v, x) in out.values.iter_mut().zip(&row) {
            v.push(x.unwrap_or(f64::NAN));
        }
        out.lines.push(line);
    }
    if repeated.1 > 0 {
        out.warnings.push(
            Warning::new("header-repeated", format!("the headings stand again in the middle ({} times); skipped", repeated.1))
                .line(repeated.0),
        );
    }
    if bad.1 > 0 {
        out.warnings
            .push(Warning::new("bad-number", format!("{} is no number; {} such rows were dropped", bad.2, bad.1)).line(bad.0));
        if bad.1 > out.lines.len() {
            return Err(Problem::new("bad-number", format!("{} is no number, and most rows are like it", bad.2))
                .field(wanted.join(", "))
                .line(bad.0));
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

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
