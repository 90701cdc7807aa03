//! Speed out of a GPX track: the logged speed where there is one, else the distance between points.

use crate::source::FileSource;
use baricord_core::error::Problem;
use jiff::Timestamp;
use quick_xml::events::Event;

#[derive(Default)]
struct Point {
    lat: f64,
    lon: f64,
    time: Option<Timestamp>,
    speed: Option<f64>,
    /// Where it stands in the text.
    at: usize,
}

/// Largest track, bytes.
const MAX_GPX_BYTES: u64 = 64 << 20;
/// Longest track, s: eleven days.
const LONGEST_TRACK_S: f64 = 1e6;

/// Seconds from the first point, and m/s.
pub(crate) fn read(file: &FileSource) -> Result<Vec<(f64, f64)>, Problem> {
    let field = |p: Problem| p.field("speed.file");
    if file.length()? > MAX_GPX_BYTES {
        return Err(field(Problem::new("too-large", "a GPX file may have up to 64 MiB: cut the track to the drive")));
    }
    // The length of a file in a zip is a claim: what is read is bounded too.
    let bytes = file.head(MAX_GPX_BYTES as usize)?;
    let text = std::str::from_utf8(&bytes).map_err(|_| field(Problem::new("not-utf8", "the GPX file is not UTF-8")))?;
    speeds(&points(text)?)
}

/// A problem of the track, with the line of a place in its text.
fn bad(text: &str, at: usize, why: &dyn std::fmt::Display) -> Problem {
    let line = 1 + memchr::memchr_iter(b'\n', &text.as_bytes()[..at.min(text.len())]).count() as u64;
    Problem::new("bad-gpx", format!("the GPX file cannot be read: {why}")).line(line)
}

/// The points of a track that have a time.
fn points(text: &str) -> Result<Vec<Point>, Problem> {
    let mut r = quick_xml::Reader::from_str(text);
    let (mut points, mut now, mut tag) = (vec![], None::<Point>, String::new());
    loop {
        let at = r.buffer_position() as usize;
        match r.read_event() {
            Err(e) => return Err(bad(text, at, &e)),
            Ok(Event::Eof) => break,
            Ok(Event::Start(e) | Event::Empty(e)) => {
                tag = e.local_name().as_ref().to_string();
                if tag == "trkpt" {
                    let mut p = Point { at, ..Point::default() };
                    for a in e.attributes().flatten() {
                        let v = a.value.parse().unwrap_or(f64::NAN);
                        match a.key.as_ref() {
                            "lat" => p.lat = v,
                            "lon" => p.lon = v,
                            _ => {}
                        }
                    }
                    if !((-90.0..=90.0).contains(&p.lat) && (-180.0..=180.0).contains(&p.lon)) {
                        return Err(bad(text, at, &"a point lies nowhere on the globe (lat −90 to 90, lon −180 to 180)"));
                    }
                    now = Some(p);
                }
            }
            Ok(Event::Text(t)) => {
                let text = t.trim().to_string();
                if let (Some(p), false) = (now.as_mut(), text.is_empty()) {
                    match tag.as_str() {
                        "time" => p.time = text.parse::<Timestamp>().ok(),
                        "speed" => p.speed = text.parse().ok(),
                        _ => {}
                    }
                }
            }
            Ok(Event::End(e)) => {
                if e.local_name().as_ref() == "trkpt"
                    && let Some(p) = now.take()
                    && p.time.is_some()
                {
                    points.push(p);
                }
                tag.clear();
            }
            _ => {}
        }
    }
    let Some(first) = points.first().and_then(|p: &Point| p.time) else {
        return Err(Problem::new("bad-gpx", "the GPX file holds no track points with a time").field("speed.file"));
    };
    let far = |p: &&Point| p.time.is_some_and(|t| t.duration_since(first).as_secs_f64().abs() > LONGEST_TRACK_S);
    match points.iter().find(far) {
        Some(p) => Err(bad(text, p.at, &"its time is more than eleven days from the first point's")),
        None => Ok(points),
    }
}

/// The logged speed where there is one, else that between a point and the one before.
fn speeds(points: &[Point]) -> Result<Vec<(f64, f64)>, Problem> {
    let first = points.first().and_then(|p| p.time);
    let at = |p: &Point| Some(p.time?.duration_since(first?).as_secs_f64());
    let mut out = vec![];
    for (i, p) in points.iter().enumerate() {
        let Some(t) = at(p) else { continue };
        let speed = p.speed.or_else(|| {
            let q = &points[i.checked_sub(1)?];
            let dt = t - at(q)?;
            (dt > 0.0).then(|| metres(p, q) / dt)
        });
        if let Some(v) = speed.filter(|v| v.is_finite()) {
            out.push((t, v));
        }
    }
    Ok(out)
}

/// Distance of two near points on the sphere.
fn metres(a: &Point, b: &Point) -> f64 {
    let (la, lb) = (a.lat.to_radians(), b.lat.to_radians());
    let x = (a.lon - b.lon).to_radians() * ((la + lb) / 2.0).cos();
    6_371_000.0 * x.hypot(la - lb)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(bytes: &[u8]) -> Result<Vec<(f64, f64)>, Problem> {
        super::read(&bytes.to_vec().into())
    }

    #[test]
    fn speed_comes_from_the_log_or_from_the_distance() {
        let g = r#"<gpx><trk><trkseg>
            <trkpt lat="54.0" lon="1.0"><time>2026-02-28T23:59:59Z</time><speed>10.5</speed></trkpt>
            <trkpt lat="54.00009" lon="1.0"><time>2026-03-01T00:00:00Z</time></trkpt></trkseg></trk></gpx>"#;
        let s = read(g.as_bytes()).unwrap();
        assert_eq!(s[0], (0.0, 10.5));
        assert!((s[1].0 - 1.0).abs() < 1e-9 && (s[1].1 - 10.0).abs() < 0.02);
    }

    #[test]
    fn broken_tracks_name_the_line() {
        assert_eq!(read(b"<gpx>\n<trk></gpx>").unwrap_err().line, Some(2));
        assert_eq!(read(b"<gpx></gpx>").unwrap_err().code, "bad-gpx");
    }

    #[test]
    fn a_track_that_leaves_the_globe_or_the_calendar_names_its_line() {
        let point = |lat: &str, lon: &str, time: &str| {
            format!(
                "<gpx>\n<trkpt lat=\"54\" lon=\"1\"><time>2026-03-01T00:00:00Z</time></trkpt>\n<trkpt lat=\"{lat}\" lon=\"{lon}\"><time>{time}</time></trkpt></gpx>"
            )
        };
        let fine = "2026-03-01T00:00:01+00:00";
        assert!(read(point("54.0001", "1", fine).as_bytes()).is_ok());
        for (lat, lon, time) in [
            ("91", "1", fine),
            ("1e300", "1", fine),
            ("54", "-180.5", fine),
            ("north", "1", fine),
            ("54", "NaN", fine),
            ("54", "1", "2027-03-01T00:00:00Z"),
        ] {
            let p = read(point(lat, lon, time).as_bytes()).unwrap_err();
            assert_eq!((p.code.as_str(), p.line), ("bad-gpx", Some(3)), "{lat} {lon} {time}");
        }
        // A year that no calendar has is no time: the point is left out.
        assert_eq!(read(point("54", "1", "99999999999999999-01-01T00:00:00Z").as_bytes()).unwrap().len(), 0);
        let large = vec![b' '; MAX_GPX_BYTES as usize + 1];
        assert_eq!(read(&large).unwrap_err().code, "too-large");
    }
}
