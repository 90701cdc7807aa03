//! A recording's files turned into uniform samples, with a word for everything that was done.

use crate::case_file::CaseSource;
use crate::numbers::{channel_factor, speed_factor, time_factor};
use crate::{clock, csv_in, gpx, wav};
use baricord_core::case::{Case, RecordingSpec, ReferenceSpec};
use baricord_core::problem::{Problem, Warning};
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};

/// Fetches a file of the case by name; none where it is missing.
pub type Fetch<'a> = &'a dyn Fn(&str) -> Result<Option<Vec<u8>>, Problem>;

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

fn read(spec: &RecordingSpec, file: Fetch<'_>) -> Result<Samples, Problem> {
    let fetch =
        |name: &str| file(name)?.ok_or_else(|| Problem::new("missing-file", format!("the file {name} is missing")).field("file"));
    let bytes = fetch(&spec.file)?;
    if bytes.is_empty() {
        return Err(Problem::new("empty-file", format!("{} is empty", spec.file)));
    }
    if spec.channels.len() > 8 {
        return Err(Problem::new("too-many-channels", "up to 8 channels are read").field("channels"));
    }
    let mut s = if bytes.starts_with(b"RIFF") { from_wav(spec, &bytes)? } else { from_csv(spec, &bytes)? };
    for (reference, is_speed) in [(&spec.speed, true), (&spec.rpm, false)] {
        let Some(r) = reference else { continue };
        if let Some(name) = &r.file {
            let rows = reference_file(r, &fetch(name)?, is_speed, &mut s.warnings)?;
            if is_speed { s.speed = rows } else { s.rpm = rows }
        }
    }
    check_units(spec, &mut s);
    if s.speed.len() > 3 && s.speed.iter().all(|r| r.1 == 0.0) && s.rpm.is_empty() {
        s.warnings.push(Warning::new("speed-zero", "the speed column holds zeros only"));
    }
    Ok(s)
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

fn from_wav(spec: &RecordingSpec, bytes: &[u8]) -> Result<Samples, Problem> {
    let w = wav::read(bytes)?;
    let mut s = Samples { rate: Hz(w.rate), ..Samples::default() };
    if spec.channels.len() > w.channels.len() {
        s.warnings.push(Warning::new(
            "fewer-channels",
            format!("{} channels are described, the file has {}", spec.channels.len(), w.channels.len()),
        ));
    }
    for (i, data) in w.channels.into_iter().enumerate().take(spec.channels.len()) {
        let (k, unit) = factor(spec, i, None)?;
        s.channels.push(Channel {
            name: spec.channels[i].column.clone(),
            quantity: quantity(spec, i)?,
            unit: unit.into(),
            data: data.iter().map(|v| v * k as f32).collect(),
        });
    }
    Ok(s)
}

fn from_csv(spec: &RecordingSpec, bytes: &[u8]) -> Result<Samples, Problem> {
    let time =
        spec.time.as_ref().ok_or_else(|| Problem::new("missing", "a CSV recording needs its time column").field("time"))?;
    if spec.channels.is_empty() {
        return Err(Problem::new("missing", "a recording needs at least one channel").field("channels"));
    }
    let own = |r: &Option<ReferenceSpec>| r.as_ref().filter(|r| r.file.is_none()).and_then(|r| r.column.clone());
    let (speed, rpm) = (own(&spec.speed), own(&spec.rpm));
    let mut wanted: Vec<&str> = vec![&time.column];
    wanted.extend(spec.channels.iter().map(|c| c.column.as_str()));
    wanted.extend(speed.as_deref());
    wanted.extend(rpm.as_deref());
    let mut c = csv_in::read(bytes, &wanted)?;
    let unit = time.unit.as_deref().or(c.units[0].as_deref()).unwrap_or("s");
    let k = time_factor(unit)
        .ok_or_else(|| Problem::new("unknown-unit", format!("“{unit}” is no unit of time: s, ms, us, min")).field("time.unit"))?;
    let with_time: Vec<bool> = c.values[0].iter().map(|t| !t.is_nan()).collect();
    if let Some(i) = with_time.iter().position(|w| !w) {
        let n = with_time.iter().filter(|w| !**w).count();
        c.warnings.push(Warning::new("no-time", format!("{n} rows have no time and were dropped")).line(c.lines[i]));
        let mut keep = with_time.iter();
        c.lines.retain(|_| *keep.next().unwrap_or(&false));
        for v in &mut c.values {
            let mut keep = with_time.iter();
            v.retain(|_| *keep.next().unwrap_or(&false));
        }
    }
    let times: Vec<f64> = c.values[0].iter().map(|t| t * k).collect();
    let clock = clock::fit(&times, |i| c.lines.get(i).copied().unwrap_or(0))?;
    let mut s = Samples {
        rate: Hz(clock.rate),
        start: Seconds(clock.start),
        gaps: clock.gaps.clone(),
        warnings: c.warnings,
        ..Samples::default()
    };
    s.warnings.extend(clock.warnings.iter().cloned());
    for i in 0..spec.channels.len() {
        let quantity = quantity(spec, i)?;
        let (f, unit) = factor(spec, i, c.units[1 + i].as_deref())?;
        let values: Vec<f32> = c.values[1 + i].iter().map(|v| (v * f) as f32).collect();
        s.channels.push(Channel {
            name: spec.channels[i].column.clone(),
            quantity,
            unit: unit.into(),
            data: clock::lay(&clock, &values),
        });
    }
    let mut next = 1 + spec.channels.len();
    for (column, reference, is_speed) in [(&speed, &spec.speed, true), (&rpm, &spec.rpm, false)] {
        let (Some(_), Some(r)) = (column, reference) else { continue };
        let f = reference_factor(r, c.units[next].as_deref(), is_speed)?;
        let rows: Vec<(f64, f64)> = (0..times.len())
            .filter(|&i| clock.index[i].is_some() && !c.values[next][i].is_nan())
            .map(|i| (times[i], c.values[next][i] * f))
            .collect();
        if is_speed {
            s.speed = rows
        } else {
            s.rpm = rows
        }
        next += 1;
    }
    Ok(s)
}

/// A reference in a file of its own: CSV with its time column, or GPX.
fn reference_file(
    r: &ReferenceSpec,
    bytes: &[u8],
    is_speed: bool,
    warnings: &mut Vec<Warning>,
) -> Result<Vec<(f64, f64)>, Problem> {
    let start = bytes.iter().position(|b| !b.is_ascii_whitespace()).unwrap_or(0);
    if is_speed && bytes[start..].starts_with(b"<") {
        return gpx::read(bytes);
    }
    let column = r.column.as_deref().unwrap_or(if is_speed { "speed" } else { "rpm" });
    let time = r.time.as_ref().map_or("t", |t| t.column.as_str());
    let c = csv_in::read(bytes, &[time, column])?;
    let unit = r.time.as_ref().and_then(|t| t.unit.as_deref()).or(c.units[0].as_deref()).unwrap_or("s");
    let k = time_factor(unit)
        .ok_or_else(|| Problem::new("unknown-unit", format!("“{unit}” is no unit of time")).field("speed.time.unit"))?;
    let f = reference_factor(r, c.units[1].as_deref(), is_speed)?;
    warnings.extend(c.warnings);
    let mut rows: Vec<(f64, f64)> = vec![];
    let mut dropped = (0u64, 0);
    for (i, (t, v)) in c.values[0].iter().zip(&c.values[1]).enumerate() {
        if t.is_nan() || v.is_nan() {
            continue;
        }
        if rows.last().is_some_and(|l| t * k <= l.0) {
            dropped = (if dropped.1 == 0 { c.lines[i] } else { dropped.0 }, dropped.1 + 1);
            continue;
        }
        rows.push((t * k, v * f));
    }
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

/// A unit wrong by 9.81 shows only where gravity stands in the mean.
fn check_units(spec: &RecordingSpec, s: &mut Samples) {
    for (c, d) in s.channels.iter().zip(&spec.channels) {
        if c.quantity != Quantity::Acceleration || c.data.is_empty() {
            continue;
        }
        let mean = (c.data.iter().map(|v| f64::from(*v)).sum::<f64>() / c.data.len() as f64).abs();
        let said = d.unit.as_deref().unwrap_or("");
        if said != "g" && (0.85..1.15).contains(&mean) {
            s.warnings.push(Warning::new(
                "unit-suspect",
                format!("the mean of {} is {mean:.2}: that looks like g, not m/s²; check its unit", c.name),
            ));
        } else if said == "g" && (80.0..110.0).contains(&mean) {
            s.warnings.push(Warning::new(
                "unit-suspect",
                format!("the mean of {} is {:.1} g: that looks like m/s²; check its unit", c.name, mean / 9.80665),
            ));
        }
    }
}

/// Writes samples as CSV, speed in sparse cells: what the simulator's and the browser's recordings become.
pub fn write_csv(s: &Samples, speed_unit_kmh: bool) -> String {
    use std::fmt::Write;
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
        for c in &s.channels {
            let _ = write!(out, ",{:.4}", c.data[i]);
        }
        out.push(',');
        if speeds.peek().is_some_and(|r| r.0 <= t + 0.5 / rate)
            && let Some(r) = speeds.next()
        {
            let _ = write!(out, "{:.1}", if speed_unit_kmh { r.1 * 3.6 } else { r.1 });
        }
        out.push('\n');
    }
    out
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
        read_recording(spec, &move |n| Ok((n == "r.csv").then(|| bytes.clone())))
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
    fn zeros_and_a_suspect_unit_are_told() {
        let mut text = String::from("t,az,speed\n");
        for i in 0..200 {
            text += &format!("{:.2},{},0\n", f64::from(i) / 100.0, 1.0 + f64::from(i % 3) / 100.0);
        }
        let codes: Vec<_> = get(&spec(json!({})), &text).warnings.iter().map(|w| w.code.clone()).collect();
        assert_eq!(codes, ["unit-suspect", "speed-zero"]);
    }

    #[test]
    fn written_samples_read_back() {
        let s = get(&spec(json!({})), &rows(100));
        let again = get(&spec(json!({})), &write_csv(&s, true));
        assert_eq!(again.speed, s.speed);
        assert_eq!(again.channels[0].data, s.channels[0].data);
    }
}
