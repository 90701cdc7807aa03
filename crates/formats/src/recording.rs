//! A recording's files turned into uniform samples, with a word for everything that was done.

use crate::case_file::CaseSource;
use crate::numbers::{channel_factor, speed_factor, time_factor};
use crate::source::FileSource;
use crate::spool::Rows;
use crate::{clock, csv_in, gpx, wav};
use baricord_core::case::{Case, CsvWriting, RecordingSpec, ReferenceSpec};
use baricord_core::error::{Problem, Warning};
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};

/// Fetches a file of the case by name; none where it is missing.
pub type Fetch<'a> = &'a dyn Fn(&str) -> Result<Option<FileSource>, Problem>;

/// Reads every recording of a case; what cannot be read is refused with a warning of its own.
pub fn read_all(case: &Case, source: &CaseSource) -> Vec<(RecordingSpec, Samples)> {
    case.recordings.iter().map(|r| (r.clone(), read_recording(r, &|name| source.file(name)))).collect()
}

/// Reads one recording. `file` fetches a file of the case by name.
pub fn read_recording(spec: &RecordingSpec, file: Fetch<'_>) -> Samples {
    match read(spec, file) {
        Ok(s) => s,
        Err(p) => {
            let mut w = Warning::new(&p.code, p.message);
            w.line = p.line;
            w.at = p.field;
            Samples { warnings: vec![w], refused: true, ..Samples::default() }
        }
    }
}

fn read(spec: &RecordingSpec, files: Fetch<'_>) -> Result<Samples, Problem> {
    let fetch = |name: &str| {
        files(name)?.ok_or_else(|| Problem::new("missing-file", format!("the file {name} is missing")).field("file"))
    };
    let file = fetch(&spec.file)?;
    if file.is_empty()? {
        return Err(Problem::new("empty-file", format!("{} is empty", spec.file)));
    }
    if spec.channels.len() > 8 {
        return Err(Problem::new("too-many-channels", "up to 8 channels are read").field("channels"));
    }
    let mut s = if file.head(4)? == b"RIFF" { from_wav(spec, &file)? } else { from_csv(spec, &file)? };
    for (reference, is_speed) in [(&spec.speed, true), (&spec.rpm, false)] {
        let Some(r) = reference else { continue };
        if let Some(name) = &r.file {
            let rows = reference_file(r, &fetch(name)?, is_speed, &mut s.warnings)?;
            if is_speed { s.speed = rows } else { s.rpm = rows }
        }
    }
    check_reference(&mut s)?;
    bound(&mut s);
    check_units(spec, &mut s)?;
    if s.speed.len() > 3 && s.speed.iter().all(|r| r.1 == 0.0) && s.rpm.is_empty() {
        s.warnings.push(Warning::new("speed-zero", "the speed column holds zeros only"));
    }
    Ok(s)
}

/// Faster drives nobody, m/s, and turns no engine, Hz: a receiver's slip, which is left out.
const FASTEST_MS: f64 = 200.0;
const FASTEST_ENGINE_HZ: f64 = 1_000.0;
/// So many times that, no instrument says: the column is something else.
const IMPOSSIBLE_FACTOR: f64 = 1_000.0;

/// Leaves out readings of speed and rpm that cannot be, and refuses columns that cannot be either.
fn check_reference(s: &mut Samples) -> Result<(), Problem> {
    let mut noticed = vec![];
    for (readings, most, what, field) in
        [(&mut s.speed, FASTEST_MS, "km/h", "speed"), (&mut s.rpm, FASTEST_ENGINE_HZ, "rpm", "rpm")]
    {
        let shown = |v: f64| if field == "speed" { 3.6 * v } else { 60.0 * v };
        let far = |r: &&(f64, f64)| r.1.abs() > most;
        let Some(&(t, v)) = readings.iter().find(far) else { continue };
        let left_out = readings.iter().filter(far).count();
        if left_out * 2 > readings.len() || readings.iter().any(|r| r.1.abs() > IMPOSSIBLE_FACTOR * most) {
            let why = format!("{:.3e} {what} at {t:.2} s: no vehicle does that; is this the right column?", shown(v));
            return Err(Problem::new("out-of-range", why).field(field));
        }
        readings.retain(|r| r.1.abs() <= most);
        let message = format!("{left_out} readings of {:.0} {what} and the like were left out", shown(v));
        noticed.push(Warning::new("out-of-range", message).second(t).at(field));
    }
    s.warnings.extend(noticed);
    Ok(())
}

/// A drive that is longer is looked at up to here, s: eight hours and twenty minutes.
const LONGEST_DRIVE_S: f64 = 30_000.0;

/// Keeps the beginning of a recording that is longer than any drive: the file stays whole.
fn bound(s: &mut Samples) {
    let kept = (LONGEST_DRIVE_S * s.rate.get()) as usize;
    if s.len() <= kept {
        return;
    }
    let hours = s.duration().get() / 3600.0;
    let end = s.start.get() + LONGEST_DRIVE_S;
    s.channels.iter_mut().for_each(|c| c.data = c.data.first(kept));
    s.speed.retain(|v| v.0 <= end);
    s.rpm.retain(|v| v.0 <= end);
    s.gaps.retain(|g| g.start < kept);
    let message = format!(
        "the recording is {hours:.1} hours long: its first {:.1} are used; cut the file to look at the rest",
        LONGEST_DRIVE_S / 3600.0
    );
    s.warnings.push(Warning::new("too-long", message).second(end));
}

fn quantity(spec: &RecordingSpec, i: usize) -> Result<Quantity, Problem> {
    let q = &spec.channels[i].quantity;
    Quantity::parse(q).ok_or_else(|| {
        Problem::new("unknown-quantity", format!("“{q}” is not known: acceleration, sound, velocity or pulse"))
            .field(format!("channels[{i}].quantity"))
    })
}

fn factor(spec: &RecordingSpec, i: usize, in_heading: Option<&str>) -> Result<(f64, &'static str), Problem> {
    let c = &spec.channels[i];
    let unit = c.unit.as_deref().or(in_heading).unwrap_or("");
    channel_factor(&c.quantity, unit).ok_or_else(|| {
        Problem::new("unknown-unit", format!("unit “{unit}” of channel {} does not fit {}", c.column, c.quantity))
            .field(format!("channels[{i}].unit"))
    })
}

fn reference_factor(r: &ReferenceSpec, in_heading: Option<&str>, is_speed: bool) -> Result<f64, Problem> {
    if !is_speed {
        return Ok(1.0 / 60.0);
    }
    let unit = r.unit.as_deref().or(in_heading).unwrap_or("km/h");
    speed_factor(unit).ok_or_else(|| {
        Problem::new("unknown-unit", format!("“{unit}” is no unit of speed: km/h, mph, m/s or kn")).field("speed.unit")
    })
}

fn from_wav(spec: &RecordingSpec, file: &FileSource) -> Result<Samples, Problem> {
    let described: Vec<_> =
        (0..spec.channels.len()).map(|i| quantity(spec, i).and(factor(spec, i, None))).collect::<Result<_, _>>()?;
    let w = wav::read(file, |i| described.get(i).map_or(1.0, |d| d.0))?;
    let mut s = Samples { rate: Hz(w.rate), ..Samples::default() };
    if spec.channels.len() > w.channels.len() {
        s.warnings.push(Warning::new(
            "fewer-channels",
            format!("{} channels are described, the file has {}", spec.channels.len(), w.channels.len()),
        ));
    }
    for (i, (data, (_, unit))) in w.channels.into_iter().zip(described).enumerate() {
        s.channels.push(Channel { name: spec.channels[i].column.clone(), quantity: quantity(spec, i)?, unit: unit.into(), data });
    }
    Ok(s)
}

/// The largest sample that is read, in its own unit: what is larger is no reading.
const LARGEST_SAMPLE: f64 = 1e9;

/// Lines of rows: only where a line was left out in between is anything kept.
#[derive(Default)]
struct Lines(Vec<(u64, u64)>);

impl Lines {
    fn push(&mut self, row: u64, line: u64) {
        if self.0.last().is_none_or(|&(r, l)| line - l != row - r) {
            self.0.push((row, line));
        }
    }
    fn line_of(&self, row: u64) -> u64 {
        let i = self.0.partition_point(|e| e.0 <= row);
        self.0.get(i.wrapping_sub(1)).map_or(0, |&(r, l)| l + row - r)
    }
}

/// A reference column in the file of the channels.
struct Column {
    at: usize,
    factor: f64,
    is_speed: bool,
    rows: Vec<(f64, f64)>,
    thin: bool,
}

/// Readings of a reference that are kept as they are; beyond them only changes are.
const MAX_READINGS: usize = 1 << 20;
/// The closest two kept changes may stand, s.
const CLOSEST_CHANGE_S: f64 = 0.02;

impl Column {
    fn push(&mut self, time: f64, value: f64) {
        if self.thin && !Self::is_news(self.rows.last(), time, value) {
            return;
        }
        self.rows.push((time, value));
        if !self.thin && self.rows.len() >= MAX_READINGS {
            self.thin = true;
            let mut kept: Vec<(f64, f64)> = vec![];
            for r in self.rows.drain(..) {
                if Self::is_news(kept.last(), r.0, r.1) {
                    kept.push(r);
                }
            }
            self.rows = kept;
        }
    }

    fn is_news(last: Option<&(f64, f64)>, time: f64, value: f64) -> bool {
        last.is_none_or(|l| value != l.1 && time >= l.0 + CLOSEST_CHANGE_S)
    }
}

fn from_csv(spec: &RecordingSpec, file: &FileSource) -> Result<Samples, Problem> {
    let time =
        spec.time.as_ref().ok_or_else(|| Problem::new("missing", "a CSV recording needs its time column").field("time"))?;
    let n = spec.channels.len();
    if n == 0 {
        return Err(Problem::new("missing", "a recording needs at least one channel").field("channels"));
    }
    let own: Vec<(&ReferenceSpec, &str, bool)> = [(&spec.speed, true), (&spec.rpm, false)]
        .into_iter()
        .filter_map(|(r, is_speed)| {
            let r = r.as_ref().filter(|r| r.file.is_none())?;
            Some((r, r.column.as_deref()?, is_speed))
        })
        .collect();
    let mut wanted: Vec<&str> = vec![&time.column];
    wanted.extend(spec.channels.iter().map(|c| c.column.as_str()));
    wanted.extend(own.iter().map(|o| o.1));
    let table = csv_in::Table::open(file, &wanted, &spec.csv.clone().unwrap_or_default())?;
    let unit = time.unit.as_deref().or(table.units[0].as_deref()).unwrap_or("s");
    let k = time_factor(unit)
        .ok_or_else(|| Problem::new("unknown-unit", format!("“{unit}” is no unit of time: s, ms, us, min")).field("time.unit"))?;
    let quantities: Vec<Quantity> = (0..n).map(|i| quantity(spec, i)).collect::<Result<_, _>>()?;
    let factors: Vec<(f64, &'static str)> =
        (0..n).map(|i| factor(spec, i, table.units[1 + i].as_deref())).collect::<Result<_, _>>()?;
    let mut columns: Vec<Column> = vec![];
    for (i, (of, _, is_speed)) in own.iter().enumerate() {
        let factor = reference_factor(of, table.units[1 + n + i].as_deref(), *is_speed)?;
        columns.push(Column { at: 1 + n + i, factor, is_speed: *is_speed, rows: vec![], thin: false });
    }
    let (mut rows, mut lines, mut no_time) = (Rows::new(n), Lines::default(), (0u64, 0u64));
    let mut warnings = table.rows(|line, cells| {
        if let Some(i) = cells[1..=n].iter().position(|v| v.abs() > LARGEST_SAMPLE) {
            let column = &spec.channels[i].column;
            let why = format!("{column} is {:.3e} here: no sensor says that; is this the right column?", cells[1 + i]);
            return Err(Problem::new("out-of-range", why).field(column).line(line));
        }
        let t = cells[0] * k;
        if t.is_nan() {
            no_time = (no_time.0 + 1, if no_time.0 == 0 { line } else { no_time.1 });
            return Ok(());
        }
        let row = rows.len();
        lines.push(row, line);
        for c in columns.iter_mut().filter(|c| !cells[c.at].is_nan()) {
            c.push(t, cells[c.at] * c.factor);
        }
        rows.push(t, cells[1..=n].iter().zip(&factors).map(|(v, f)| (v * f.0) as f32))
    })?;
    if no_time.0 > 0 {
        warnings.push(Warning::new("no-time", format!("{} rows have no time and were dropped", no_time.0)).line(no_time.1));
    }
    let clock = clock::fit(&mut rows, |row| lines.line_of(row))?;
    warnings.extend(clock.warnings.iter().cloned());
    let mut fillers: Vec<clock::Filler> = (0..n).map(|_| clock::Filler::default()).collect();
    clock::resample_readings(&clock, &mut rows, |at, values| {
        fillers.iter_mut().zip(values).try_for_each(|(f, v)| f.put(at, *v))
    })?;
    let mut s =
        Samples { rate: Hz(clock.rate), start: Seconds(clock.start), gaps: clock.gaps.clone(), warnings, ..Samples::default() };
    for (i, (f, quantity)) in fillers.into_iter().zip(quantities).enumerate() {
        let name = spec.channels[i].column.clone();
        s.channels.push(Channel { name, quantity, unit: factors[i].1.into(), data: f.finish(clock.length)? });
    }
    for c in columns {
        let readings = rising(c.rows);
        if c.is_speed { s.speed = readings } else { s.rpm = readings }
    }
    Ok(s)
}

/// Readings whose time moves on; the others belong to rows that were dropped.
fn rising(rows: Vec<(f64, f64)>) -> Vec<(f64, f64)> {
    let mut out: Vec<(f64, f64)> = vec![];
    for r in rows {
        if out.last().is_none_or(|l| r.0 >= l.0) {
            out.push(r);
        }
    }
    out
}

/// A reference in a file of its own: CSV with its time column, or GPX.
fn reference_file(
    r: &ReferenceSpec,
    file: &FileSource,
    is_speed: bool,
    warnings: &mut Vec<Warning>,
) -> Result<Vec<(f64, f64)>, Problem> {
    if is_speed && file.head(1 << 10)?.trim_ascii_start().starts_with(b"<") {
        return gpx::read(file);
    }
    let column = r.column.as_deref().unwrap_or(if is_speed { "speed" } else { "rpm" });
    let time = r.time.as_ref().map_or("t", |t| t.column.as_str());
    let table = csv_in::Table::open(file, &[time, column], &CsvWriting::default())?;
    let unit = r.time.as_ref().and_then(|t| t.unit.as_deref()).or(table.units[0].as_deref()).unwrap_or("s");
    let k = time_factor(unit)
        .ok_or_else(|| Problem::new("unknown-unit", format!("“{unit}” is no unit of time")).field("speed.time.unit"))?;
    let f = reference_factor(r, table.units[1].as_deref(), is_speed)?;
    let mut rows: Vec<(f64, f64)> = vec![];
    let mut dropped = (0u64, 0);
    let noticed = table.rows(|line, cells| {
        let (t, v) = (cells[0] * k, cells[1] * f);
        if t.is_nan() || v.is_nan() {
            return Ok(());
        }
        if rows.last().is_some_and(|l| t <= l.0) {
            dropped = (if dropped.1 == 0 { line } else { dropped.0 }, dropped.1 + 1);
        } else {
            rows.push((t, v));
        }
        Ok(())
    })?;
    warnings.extend(noticed);
    if dropped.1 > 0 {
        warnings.push(
            Warning::new(
                "backward-time",
                format!("{} rows of the {column} file do not move on in time and were dropped", dropped.1),
            )
            .line(dropped.0),
        );
    }
    Ok(rows)
}

/// A unit wrong by 9.81 shows only where gravity stands in the means. One axis of several holds a part of it where a
/// sensor is tilted: all of a unit are looked at together.
fn check_units(spec: &RecordingSpec, s: &mut Samples) -> Result<(), Problem> {
    let mut means: Vec<(bool, &str, f64)> = vec![];
    for (c, d) in s.channels.iter().zip(&spec.channels) {
        if c.quantity != Quantity::Acceleration || c.data.is_empty() {
            continue;
        }
        let mut sum = 0.0;
        c.data.blocks(|_, b| sum += b.iter().map(|v| f64::from(*v)).sum::<f64>())?;
        means.push((d.unit.as_deref() == Some("g"), c.name.as_str(), sum / c.data.len() as f64));
    }
    for in_g in [false, true] {
        let of: Vec<(&str, f64)> = means.iter().filter(|m| m.0 == in_g).map(|m| (m.1, m.2)).collect();
        let Some((name, _)) = of.iter().max_by(|a, b| a.1.abs().total_cmp(&b.1.abs())) else { continue };
        let all = of.iter().map(|m| m.1 * m.1).sum::<f64>().sqrt();
        let message = match in_g {
            false if (0.85..1.15).contains(&all) => {
                format!("gravity in the mean of {name} is {all:.2}: that looks like g, not m/s²; check its unit")
            }
            true if (80.0..110.0).contains(&all) => {
                format!("gravity in the mean of {name} is {:.1} g: that looks like m/s²; check its unit", all / 9.80665)
            }
            _ => continue,
        };
        s.warnings.push(Warning::new("unit-suspect", message));
    }
    Ok(())
}

/// Writes samples as CSV, speed in sparse cells: what the simulator's and the browser's recordings become.
pub fn write_csv(s: &Samples, speed_unit_kmh: bool) -> Result<String, Problem> {
    use std::fmt::Write;
    let data: Vec<Vec<f32>> = s.channels.iter().map(|c| c.data.to_vec()).collect::<Result<_, _>>()?;
    let mut out = String::with_capacity(s.len() * 20);
    let _ = write!(out, "t");
    for c in &s.channels {
        let _ = write!(out, ",{}", c.name);
    }
    out.push_str(",speed\n");
    let rate = s.rate.get();
    let mut speeds = s.speed.iter().peekable();
    for i in 0..s.len() {
        let t = s.start.get() + i as f64 / rate;
        let _ = write!(out, "{t:.4}");
        for c in &data {
            let _ = write!(out, ",{:.4}", c[i]);
        }
        out.push(',');
        if speeds.peek().is_some_and(|r| r.0 <= t + 0.5 / rate)
            && let Some(r) = speeds.next()
        {
            let _ = write!(out, "{:.1}", if speed_unit_kmh { r.1 * 3.6 } else { r.1 });
        }
        out.push('\n');
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn spec(more: serde_json::Value) -> RecordingSpec {
        let mut v = json!({"id": "R1", "file": "r.csv", "time": {"column": "t", "unit": "s"},
            "channels": [{"column": "az", "quantity": "acceleration", "unit": "m/s2"}], "speed": {"column": "speed", "unit": "km/h"}});
        for (k, x) in more.as_object().unwrap() {
            v[k] = x.clone();
        }
        serde_json::from_value(v).unwrap()
    }
    fn get(spec: &RecordingSpec, text: &str) -> Samples {
        let bytes = text.as_bytes().to_vec();
        read_recording(spec, &move |n| Ok((n == "r.csv").then(|| bytes.clone().into())))
    }
    fn rows(n: usize) -> String {
        let mut s = String::from("t,az,speed\n");
        for i in 0..n {
            s += &format!("{:.2},{},{}\n", i as f64 / 100.0, (i % 7) as f64 / 10.0, if i % 20 == 0 { "36" } else { "" });
        }
        s
    }

    #[test]
    fn a_plain_file_reads_without_a_word() {
        let s = get(&spec(json!({})), &rows(100));
        assert!(s.warnings.is_empty() && !s.refused, "{:?}", s.warnings);
        assert_eq!(s.len(), 100);
        assert_eq!(s.speed.len(), 5);
        assert!((s.speed[1].1 - 10.0).abs() < 1e-9 && (s.speed[1].0 - 0.2).abs() < 1e-9);
    }

    #[test]
    fn refusals_name_what_is_wrong() {
        let code = |sp: serde_json::Value, text: &str| {
            let s = get(&spec(sp), text);
            assert!(s.refused);
            s.warnings[0].code.clone()
        };
        assert_eq!(code(json!({}), ""), "empty-file");
        assert_eq!(code(json!({"file": "other.csv"}), "x"), "missing-file");
        assert_eq!(code(json!({"speed": {"column": "speed", "unit": "warp"}}), &rows(50)), "unknown-unit");
        assert_eq!(code(json!({"channels": [{"column": "az", "quantity": "smell"}]}), &rows(50)), "unknown-quantity");
        assert_eq!(code(json!({"channels": [{"column": "ay", "quantity": "acceleration"}]}), &rows(50)), "missing-column");
        assert_eq!(code(json!({}), "t,az,speed\n0,1,2\n1,1,2\n"), "too-short");
    }

    #[test]
    fn what_cannot_be_is_refused_or_left_out() {
        let with = |at: usize, speed: &str| {
            let lines: Vec<String> = rows(400)
                .lines()
                .enumerate()
                .map(|(i, l)| if i == at { format!("{},0.1,{speed}", l.split(',').next().unwrap()) } else { l.to_string() })
                .collect();
            get(&spec(json!({})), &(lines.join("\n") + "\n"))
        };
        for absurd in ["1e300", "-1e300", "1e9"] {
            let s = with(50, absurd);
            assert!(s.refused, "{absurd}");
            assert_eq!((s.warnings[0].code.as_str(), s.warnings[0].at.as_deref()), ("out-of-range", Some("speed")));
        }
        let s = with(50, "900");
        assert!(!s.refused && s.speed.iter().all(|r| r.1 < FASTEST_MS) && s.speed.len() == 20);
        assert_eq!((s.warnings[0].code.as_str(), s.warnings[0].at_s), ("out-of-range", Some(0.49)));
        let s = get(&spec(json!({})), &rows(100).replace(",0.3,", ",1e300,"));
        assert_eq!((s.refused, s.warnings[0].code.as_str(), s.warnings[0].line), (true, "out-of-range", Some(5)));
        let s = get(&spec(json!({"time": {"column": "t", "unit": "us"}})), &rows(100).replace("0.", "0.000000"));
        assert!(s.refused);
    }

    #[test]
    fn zeros_and_a_suspect_unit_are_told() {
        let mut text = String::from("t,az,speed\n");
        for i in 0..200 {
            text += &format!("{:.2},{},0\n", f64::from(i) / 100.0, 1.0 + f64::from(i % 3) / 100.0);
        }
        let codes: Vec<_> = get(&spec(json!({})), &text).warnings.iter().map(|w| w.code.clone()).collect();
        assert_eq!(codes, ["unit-suspect", "speed-zero"]);
    }

    #[test]
    fn what_is_longer_than_a_drive_is_cut_and_told() {
        let mut s = get(&spec(json!({})), &rows(100));
        let plain = s.channels[0].data.to_vec().unwrap();
        // As if its hundred samples were ten minutes apart.
        s.rate = Hz(1.0 / 600.0);
        s.speed = vec![(0.0, 1.0), (LONGEST_DRIVE_S + 1.0, 2.0)];
        s.gaps = vec![3..4, 70..80];
        bound(&mut s);
        assert_eq!((s.len(), s.speed.len(), s.gaps.len()), (50, 1, 1));
        assert_eq!(s.channels[0].data.to_vec().unwrap(), plain[..50]);
        assert_eq!(s.warnings.last().unwrap().code, "too-long");
        let before = s.warnings.len();
        bound(&mut s);
        assert_eq!(s.warnings.len(), before);
    }

    #[test]
    fn written_samples_read_back() {
        let s = get(&spec(json!({})), &rows(100));
        let again = get(&spec(json!({})), &write_csv(&s, true).unwrap());
        assert_eq!(again.speed, s.speed);
        assert_eq!(again.channels[0].data.to_vec().unwrap(), s.channels[0].data.to_vec().unwrap());
    }
}
