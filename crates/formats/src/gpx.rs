//! Speed out of a GPX track: the logged speed where there is one, else the distance between points.

use baricord_core::problem::Problem;
use quick_xml::events::Event;

#[derive(Default)]
struct Point {
    lat: f64,
    lon: f64,
    time: Option<f64>,
    speed: Option<f64>,
}

/// Seconds from the first point, and m/s.
pub(crate) fn read(bytes: &[u8]) -> Result<Vec<(f64, f64)>, Problem> {
    let text =
        std::str::from_utf8(bytes).map_err(|_| Problem::new("not-utf8", "the GPX file is not UTF-8").field("speed.file"))?;
    let mut r = quick_xml::Reader::from_str(text);
    let bad = |e: &dyn std::fmt::Display, at: u64| {
        let line = 1 + bytes[..(at as usize).min(bytes.len())].iter().filter(|b| **b == b'\n').count() as u64;
        Problem::new("bad-gpx", format!("the GPX file cannot be read: {e}")).line(line)
    };
    let (mut points, mut now, mut tag) = (vec![], None::<Point>, String::new());
    loop {
        let at = r.buffer_position();
        match r.read_event() {
            Err(e) => return Err(bad(&e, at)),
            Ok(Event::Eof) => break,
            Ok(Event::Start(e) | Event::Empty(e)) => {
                tag = e.local_name().as_ref().to_string();
                if tag == "trkpt" {
                    let mut p = Point::default();
                    for a in e.attributes().flatten() {
                        let v = a.value.parse().unwrap_or(f64::NAN);
                        match a.key.as_ref() {
                            "lat" => p.lat = v,
                            "lon" => p.lon = v,
                            _ => {}
                        }
                    }
                    now = Some(p);
                }
            }
            Ok(Event::Text(t)) => {
                let text = t.trim().to_string();
                if let (Some(p), false) = (now.as_mut(), text.is_empty()) {
                    match tag.as_str() {
                        "time" => p.time = seconds(&text),
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
    let Some(first) = points.first().and_then(|p| p.time) else {
        return Err(Problem::new("bad-gpx", "the GPX file holds no track points with a time").field("speed.file"));
    };
    let mut out = vec![];
    for (i, p) in points.iter().enumerate() {
        let t = p.time.unwrap_or(first) - first;
        let speed = p.speed.or_else(|| {
            let q = &points[i.checked_sub(1)?];
            let dt = t - (q.time? - first);
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

/// Seconds of a time as GPX writes it, `2026-05-04T09:31:02.5Z`: of the day and the days before it.
fn seconds(text: &str) -> Option<f64> {
    let (date, time) = text.trim_end_matches('Z').split_once('T')?;
    let d: Vec<i64> = date.split('-').map(|x| x.parse().ok()).collect::<Option<_>>()?;
    let t: Vec<f64> = time.split(':').map(|x| x.parse().ok()).collect::<Option<_>>()?;
    let [y, m, day] = d[..] else { return None };
    let [h, min, s] = t[..] else { return None };
    // Days since a fixed one, by the civil calendar.
    let (y2, m2) = if m <= 2 { (y - 1, m + 9) } else { (y, m - 3) };
    let days = 365 * y2 + y2.div_euclid(4) - y2.div_euclid(100) + y2.div_euclid(400) + (153 * m2 + 2) / 5 + day;
    Some(days as f64 * 86400.0 + h * 3600.0 + min * 60.0 + s)
}

#[cfg(test)]
mod tests {
    use super::*;

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
}
