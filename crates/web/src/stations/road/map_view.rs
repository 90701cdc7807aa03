//! The order map as it is looked at: which channel, over orders or Hz, which part of it, beside or
//! less another run. All of it stands in the address, so that it can be kept, sent and gone back to.

use crate::App;
use crate::auth::Member;
use crate::charts::{self, Axes, Rung};
use crate::error::PageError;
use crate::page::segment;
use crate::table_export::TableExport;
use crate::work_limits::{Audio, Exports, Maps, Turn};
use axum::Router;
use axum::extract::{Path, Query};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use baricord_core::analysis::{Analysis, OrderMap, Part, listen, stretch_at};
use baricord_core::error::Problem;
use baricord_core::units::{KilometresPerHour, Seconds};
use baricord_core::vehicle::Vehicle;
use baricord_formats::write_wav;
use baricord_store::Scope;
use serde::Deserialize;
use std::fmt::Write;
use uuid::Uuid;

/// What a person asked to see.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct Look {
    /// Channel.
    #[serde(default)]
    pub ch: Option<String>,
    /// `hz`, or orders.
    #[serde(default)]
    pub axis: Option<String>,
    /// Speeds in view: `70,110`.
    #[serde(default)]
    pub v: Option<String>,
    /// Orders (or Hz) in view: `3,6`.
    #[serde(default)]
    pub o: Option<String>,
    /// Another run.
    #[serde(default)]
    pub with: Option<String>,
    /// `less` that run; beside it otherwise.
    #[serde(default)]
    pub how: Option<String>,
}

fn pair(text: Option<&str>) -> Option<(f64, f64)> {
    let (a, b) = text?.split_once(',')?;
    let (a, b) = (a.trim().parse::<f64>().ok()?, b.trim().parse::<f64>().ok()?);
    (a.is_finite() && b.is_finite() && b > a).then_some((a, b))
}

impl Look {
    fn over_hz(&self) -> bool {
        self.axis.as_deref() == Some("hz")
    }
    fn less(&self) -> bool {
        self.how.as_deref() == Some("less")
    }

    /// The part in view: what was asked, kept inside what there is and not smaller than can be read.
    fn axes(&self, all: Axes) -> Axes {
        let inside = |asked: Option<(f64, f64)>, (lo, hi): (f64, f64), least: f64| {
            let Some((a, b)) = asked else { return (lo, hi) };
            let width = (b - a).max(least).min(hi - lo);
            let from = a.clamp(lo, hi - width);
            (from, from + width)
        };
        let least = if self.over_hz() { 8.0 } else { 0.5 };
        Axes { speed: inside(pair(self.v.as_deref()), all.speed, 5.0), up: inside(pair(self.o.as_deref()), all.up, least), ..all }
    }

    /// As the end of an address, with some of it changed.
    fn query(&self, change: impl FnOnce(&mut Look)) -> String {
        let mut l = self.clone();
        change(&mut l);
        let mut out = String::new();
        for (k, v) in [("ch", &l.ch), ("axis", &l.axis), ("v", &l.v), ("o", &l.o), ("with", &l.with), ("how", &l.how)] {
            if let Some(v) = v.as_deref().filter(|v| !v.is_empty()) {
                let _ = write!(out, "&{k}={}", segment(v));
            }
        }
        out
    }
}

/// A press that changes the view.
pub struct Press {
    /// What stands on it.
    pub sign: &'static str,
    /// In words.
    pub words: &'static str,
    /// The key that does the same while the map has the focus.
    pub key: &'static str,
    /// Where it leads.
    pub href: String,
}

/// One picture.
pub struct Panel {
    /// Over it; empty where there is only one.
    pub title: String,
    /// Where its ink is.
    pub url: String,
    /// Size of the ink.
    pub columns: usize,
    pub rows: usize,
    /// The part of the ink in view: columns from and to, rows from and to.
    pub part: String,
    /// Axes and ladder.
    pub frame: String,
}

/// The map with everything around it.
pub struct MapView {
    pub panels: Vec<Panel>,
    pub presses: Vec<Press>,
    /// Channels with their address; the one shown first without.
    pub channels: Vec<(String, String, bool)>,
    /// Over orders, over Hz.
    pub axes: Vec<(&'static str, String, bool)>,
    /// Runs to hold against it.
    pub with: Vec<(String, String, bool)>,
    /// The address without the view, and all of the view: what dragging works with.
    pub base: String,
    pub whole: String,
    pub shown: String,
    /// What can be taken away.
    pub exports: Vec<(&'static str, String)>,
}

/// What the view is made of.
pub struct Made<'a> {
    pub case: Uuid,
    pub vehicle: &'a Vehicle,
    pub analysis: &'a Analysis,
    pub run: &'a str,
    pub channels: Vec<String>,
    /// The channel of the chosen line.
    pub channel: String,
    pub runs: Vec<String>,
    /// The address of the page up to here, with its run and line.
    pub here: String,
    pub rungs: &'a [Rung],
    pub mark: Option<(f64, f64)>,
}

/// Turns of the wheel a second at 1 km/h, by what a run says of the tyre.
fn hz_per_kmh(v: &Vehicle, a: &Analysis, run: &str) -> Result<f64, Problem> {
    let found = a.recording(run).and_then(|r| r.reference.as_ref());
    found
        .ok_or_else(|| {
            Problem::new("no-reference", format!("{run} has no reference: nothing turns its map into Hz")).field("axis")
        })?
        .hz_per_kmh(v)
}

/// A map as it was asked for: less another, over frequency.
async fn asked(
    s: &mut Scope,
    case: Uuid,
    v: &Vehicle,
    a: &Analysis,
    run: &str,
    channel: &str,
    l: &Look,
) -> Result<Option<OrderMap>, PageError> {
    let Some(mut map) = s.order_map(case, run, channel).await?.filter(|m| m.columns > 0) else { return Ok(None) };
    if let (true, Some(with)) = (l.less(), l.with.as_deref())
        && let Some(other) = s.order_map(case, with, channel).await?
    {
        map = map.less(&other);
    }
    if l.over_hz() {
        map = map.by_frequency(hz_per_kmh(v, a, run)?);
    }
    Ok(Some(map))
}

/// Makes the view; none where the run has no map.
pub async fn make(s: &mut Scope, m: Made<'_>, l: &Look) -> Result<Option<MapView>, PageError> {
    let channel = l.ch.clone().filter(|c| m.channels.contains(c)).unwrap_or(m.channel.clone());
    let Some(map) = asked(s, m.case, m.vehicle, m.analysis, m.run, &channel, l).await? else { return Ok(None) };
    let hz = if l.over_hz() { Some(hz_per_kmh(m.vehicle, m.analysis, m.run)?) } else { None };
    let all = Axes { hz_per_kmh: hz, ..Axes::of(&map) };
    let axes = l.axes(all);
    let panel = |run: &str, title: String, map: &OrderMap, mark: Option<(f64, f64)>, frame_axes: &Axes| Panel {
        title,
        url: format!("/cases/{}/map/{}/{}?{}", m.case, segment(run), segment(&channel), l.query(|_| {}).trim_start_matches('&')),
        columns: map.columns,
        rows: map.rows,
        part: part(map, frame_axes),
        frame: charts::map_frame(frame_axes, m.rungs, mark),
    };
    let other = l.with.clone().filter(|w| m.runs.contains(w) && w != m.run);
    let title = match (&other, l.less()) {
        (None, _) => String::new(),
        (Some(w), true) => format!("{}: what it has more of than {w}; full ink is 24 dB more", m.run),
        (Some(_), false) => m.run.to_string(),
    };
    let mut panels = vec![panel(m.run, title, &map, m.mark, &axes)];
    if let (Some(w), false) = (&other, l.less())
        && let Some(beside) = asked(s, m.case, m.vehicle, m.analysis, w, &channel, l).await?
    {
        panels.push(panel(w, w.clone(), &beside, None, &axes));
    }
    let with_view = |v: (f64, f64), o: (f64, f64)| {
        let text = |p: (f64, f64)| format!("{:.2},{:.2}", p.0, p.1);
        format!("{}{}", m.here, l.query(|l| (l.v, l.o) = (Some(text(v)), Some(text(o)))))
    };
    let exports_of = format!("/cases/{}/runs/{}/{}", m.case, segment(m.run), segment(&channel));
    let query = l.query(|_| {});
    let query = query.trim_start_matches('&');
    Ok(Some(MapView {
        presses: presses(&axes, &with_view, format!("{}{}", m.here, l.query(|l| (l.v, l.o) = (None, None)))),
        channels: m
            .channels
            .iter()
            .map(|c| (c.clone(), format!("{}{}", m.here, l.query(|l| l.ch = Some(c.clone()))), *c == channel))
            .collect(),
        axes: [("orders", None), ("Hz", Some("hz"))]
            .into_iter()
            .map(|(words, axis)| {
                let to = l.query(|l| (l.axis, l.o) = (axis.map(String::from), None));
                (words, format!("{}{to}", m.here), l.over_hz() == axis.is_some())
            })
            .collect(),
        with: m
            .runs
            .iter()
            .filter(|r| *r != m.run)
            .flat_map(|r| {
                let to = |how: Option<&str>| {
                    format!("{}{}", m.here, l.query(|l| (l.with, l.how) = (Some(r.clone()), how.map(String::from))))
                };
                let here = |less: bool| other.as_ref() == Some(r) && l.less() == less;
                [(format!("beside {r}"), to(None), here(false)), (format!("less {r}"), to(Some("less")), here(true))]
            })
            .collect(),
        base: format!("{}{}", m.here, l.query(|l| (l.v, l.o) = (None, None))),
        whole: format!("{},{},{},{}", all.speed.0, all.speed.1, all.up.0, all.up.1),
        shown: format!("{},{},{},{}", axes.speed.0, axes.speed.1, axes.up.0, axes.up.1),
        exports: vec![
            ("picture (SVG)", format!("{exports_of}/map.svg?{query}")),
            ("picture (PNG)", format!("{exports_of}/map.png?{query}")),
            ("numbers of the map (CSV)", format!("{exports_of}/map.csv?{query}")),
            ("levels (CSV)", format!("/cases/{}/levels.csv", m.case)),
            ("analysis (JSON)", format!("/cases/{}/analysis.json", m.case)),
        ],
        panels,
    }))
}

/// Of the ink, what stands in view.
fn part(map: &OrderMap, axes: &Axes) -> String {
    let c = |kmh: f64| (kmh - map.speed_from) / map.speed_step;
    let r = |up: f64| up / map.order_step;
    format!("{:.3},{:.3},{:.3},{:.3}", c(axes.speed.0), c(axes.speed.1), r(axes.up.0), r(axes.up.1))
}

fn presses(a: &Axes, to: &dyn Fn((f64, f64), (f64, f64)) -> String, whole: String) -> Vec<Press> {
    let zoom = |(lo, hi): (f64, f64), k: f64| {
        let (middle, half) = (0.5 * (lo + hi), 0.5 * k * (hi - lo));
        (middle - half, middle + half)
    };
    let shift = |(lo, hi): (f64, f64), by: f64| (lo + by * (hi - lo), hi + by * (hi - lo));
    let press = |sign, words, key, href| Press { sign, words, key, href };
    vec![
        press("+", "nearer", "+", to(zoom(a.speed, 0.5), zoom(a.up, 0.5))),
        press("−", "further", "-", to(zoom(a.speed, 2.0), zoom(a.up, 2.0))),
        press("◀", "slower speeds", "ArrowLeft", to(shift(a.speed, -0.25), a.up)),
        press("▶", "faster speeds", "ArrowRight", to(shift(a.speed, 0.25), a.up)),
        press("▲", "higher", "ArrowUp", to(a.speed, shift(a.up, 0.25))),
        press("▼", "lower", "ArrowDown", to(a.speed, shift(a.up, -0.25))),
        press("all", "all of it", "0", whole),
    ]
}

/// The ink of a map: one byte a cell, rows from the lowest up.
async fn ink(
    m: Member,
    _turn: Turn<Maps>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(l): Query<Look>,
) -> Result<Response, PageError> {
    let map = of(&m, id, &run, &channel, &l).await?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "private, no-cache")], map.ink)
        .into_response())
}

async fn of(m: &Member, id: Uuid, run: &str, channel: &str, l: &Look) -> Result<OrderMap, PageError> {
    let mut s = m.scope().await?;
    let case = s.case(id).await?.case;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    asked(&mut s, id, &case.vehicle, &a, run, channel, l).await?.ok_or(PageError::NotFound)
}

/// Something to be kept under a name.
pub fn attachment(kind: &'static str, name: &str, body: impl IntoResponse) -> Response {
    let safe: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || ".-".contains(c) { c } else { '-' }).collect();
    ([(header::CONTENT_TYPE, kind.to_string()), (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{safe}\""))], body)
        .into_response()
}

/// Amplitudes of a map, a row for each order, a column for each speed.
async fn csv(
    m: Member,
    _turn: Turn<Maps>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(l): Query<Look>,
) -> Result<Response, PageError> {
    let map = of(&m, id, &run, &channel, &l).await?;
    let speed = |c: usize| format!("{} km/h", map.speed_from + map.speed_step * (c as f64 + 0.5));
    let first = if l.over_hz() { "Hz" } else { "order" };
    let mut table = TableExport::new(std::iter::once(first.to_string()).chain((0..map.columns).map(speed)))?;
    for r in 0..map.rows {
        let up = format!("{:.5}", map.order_step * (r as f64 + 0.5));
        table.row(std::iter::once(up).chain((0..map.columns).map(|c| format!("{:.5}", map.amplitude(r, c)))))?;
    }
    Ok(attachment("text/csv; charset=utf-8", &format!("{run}-{channel}-map.csv"), table.finish()?))
}

/// The ink in view as a picture, upright.
fn picture(map: &OrderMap, axes: &Axes, width: usize, height: usize) -> Vec<u8> {
    let at = |x: usize, y: usize| {
        let kmh = axes.speed.0 + (axes.speed.1 - axes.speed.0) * (x as f64 + 0.5) / width as f64;
        let up = axes.up.1 - (axes.up.1 - axes.up.0) * (y as f64 + 0.5) / height as f64;
        let (c, r) = (((kmh - map.speed_from) / map.speed_step) as usize, (up / map.order_step) as usize);
        let v = f64::from(map.ink.get(r * map.columns + c).copied().unwrap_or(0));
        // The same ink as on the page.
        255 - (v * v * v / 65025.0 * 1.5 + v * 0.12).min(255.0) as u8
    };
    (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).map(|(x, y)| at(x, y)).collect()
}

fn png(grey: &[u8], width: usize, height: usize) -> Result<Vec<u8>, Problem> {
    let failed = |e: png::EncodingError| Problem::new("cannot-write", e.to_string());
    let mut out = vec![];
    let mut e = png::Encoder::new(&mut out, width as u32, height as u32);
    e.set_color(png::ColorType::Grayscale);
    e.set_depth(png::BitDepth::Eight);
    e.write_header().and_then(|mut w| w.write_image_data(grey)).map_err(failed)?;
    Ok(out)
}

async fn export_png(
    m: Member,
    _turn: Turn<Maps>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(l): Query<Look>,
) -> Result<Response, PageError> {
    let map = of(&m, id, &run, &channel, &l).await?;
    let axes = l.axes(Axes::of(&map));
    Ok(attachment("image/png", &format!("{run}-{channel}-map.png"), png(&picture(&map, &axes, 1380, 600), 1380, 600)?))
}

/// Styles that a picture carries with it when it leaves: ink on white.
const STYLE: &str = "text{font:13px 'Barlow Condensed','Arial Narrow','Liberation Sans Narrow',sans-serif;fill:#1d2b33}.figure{font-size:13px}.end{text-anchor:end}.mid{text-anchor:middle}\
                     .frame,.hair,.order{fill:none;stroke:#1d2b33}.hair{stroke-width:.7}.touch{fill:none}.quiet{opacity:.6}.shaft{stroke-dasharray:9 5}.half{stroke-dasharray:2 4}\
                     .engine{stroke-dasharray:10 4 2 4}.bearing{stroke-dasharray:5 3}.chosen{stroke-width:2}.spot{fill:none;stroke:#e8b200;stroke-width:3}\
                     .error{fill:#a9aca6;opacity:.35}.felt{fill:none;stroke:#2e6b4f;stroke-dasharray:5 4}.here{stroke:#e8b200;stroke-width:2}.reading{fill:#1d2b33}";

/// A drawing that carries its styles, on white.
pub fn on_white(inner: &str, width: u32, height: u32) -> String {
    format!(
        r##"<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}"><style>{STYLE}</style><rect width="{width}" height="{height}" fill="#fff"/>{inner}</svg>"##
    )
}

/// A map as a still picture: its ink as PNG, and the frame with the ladder that stands around it.
pub async fn still(s: &mut Scope, id: Uuid, run: &str, channel: &str, l: &Look) -> Result<(Vec<u8>, String), PageError> {
    let case = s.case(id).await?.case;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    let map = asked(s, id, &case.vehicle, &a, run, channel, l).await?.ok_or(PageError::NotFound)?;
    let hz = if l.over_hz() { Some(hz_per_kmh(&case.vehicle, &a, run)?) } else { None };
    let axes = l.axes(Axes { hz_per_kmh: hz, ..Axes::of(&map) });
    let frame = charts::map_frame(&axes, &crate::stations::road::rungs_of(&case, &a, run)?, None);
    Ok((png(&picture(&map, &axes, 1380, 600), 1380, 600)?, frame))
}

async fn export_svg(
    m: Member,
    _turn: Turn<Maps>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(l): Query<Look>,
) -> Result<Response, PageError> {
    use base64::Engine;
    let (ink, frame) = still(&mut m.scope().await?, id, &run, &channel, &l).await?;
    let (px, py, pw, ph) = charts::PLOT;
    let ink = base64::engine::general_purpose::STANDARD.encode(ink);
    let picture = format!(
        r##"<image x="{px}" y="{py}" width="{pw}" height="{ph}" preserveAspectRatio="none" href="data:image/png;base64,{ink}"/>{frame}"##
    );
    Ok(attachment("image/svg+xml", &format!("{run}-{channel}-map.svg"), on_white(&picture, 950, 340)))
}

/// Every order's level at every speed, all runs of a case.
async fn levels(m: Member, _turn: Turn<Exports>, Path(id): Path<Uuid>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    s.case(id).await?;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let mut table = TableExport::new([
        "run",
        "channel",
        "base",
        "order",
        "order_sigma",
        "speed_kmh",
        "amplitude",
        "amplitude_sigma",
        "unit",
        "behind_pulse_deg",
        "behind_pulse_sigma_deg",
    ])?;
    for r in &a.recordings {
        for o in &r.orders {
            let base = o.base.words();
            let unit = o.unit.as_deref().unwrap_or("m/s2");
            for x in &o.levels {
                let phase = o.phase.iter().find(|p| p.speed_kmh == x.speed_kmh);
                let behind = phase
                    .map_or([String::new(), String::new()], |p| [format!("{:.1}", p.behind_deg), format!("{:.1}", p.sigma_deg)]);
                let of_line =
                    [r.id.clone(), o.channel.clone(), base.into(), format!("{:.5}", o.order), format!("{:.5}", o.order_sigma)];
                let level = [x.speed_kmh.to_string(), format!("{:.6}", x.amplitude), format!("{:.6}", x.sigma), unit.into()];
                table.row(of_line.iter().chain(&level).chain(&behind))?;
            }
        }
    }
    Ok(attachment("text/csv; charset=utf-8", "levels.csv", table.finish()?))
}

/// What all runs of a case say, as `analyze` prints it.
async fn analysis(m: Member, _turn: Turn<Exports>, Path(id): Path<Uuid>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    s.case(id).await?;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let text = serde_json::to_string_pretty(&a).map_err(|e| PageError::Broken(e.to_string()))?;
    Ok(attachment("application/json", "analysis.json", text))
}

/// What is to be heard.
#[derive(Clone, Debug, Deserialize)]
struct Hear {
    /// `only`, `without`, or all of it.
    #[serde(default)]
    part: Option<String>,
    #[serde(default)]
    order: Option<f64>,
    /// The stretch in which the speed is nearest to this.
    #[serde(default)]
    kmh: Option<f64>,
    #[serde(default)]
    from: Option<f64>,
    #[serde(default)]
    to: Option<f64>,
    /// How many times as fast it is played: what is deep comes up to where it is heard.
    #[serde(default)]
    fast: Option<f64>,
}

/// How long a stretch is played where nobody said, s.
const HEARD: Seconds = Seconds(10.0);

async fn hear(
    m: Member,
    turn: Turn<Audio>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(h): Query<Hear>,
) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let case = s.case(id).await?.case;
    let reference = s.analysis(id).await?.and_then(|(a, _)| a.recording(&run).and_then(|r| r.reference.clone()));
    let samples = s.samples(id, &run).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let span = match (h.from, h.to) {
        (Some(a), Some(b)) => (Seconds(a), Seconds(b)),
        _ => stretch_at(&samples, KilometresPerHour(h.kmh.unwrap_or(80.0)), HEARD),
    };
    let part = match (h.part.as_deref(), h.order) {
        (Some("only"), Some(o)) => Part::Only(o),
        (Some("without"), Some(o)) => Part::Without(o),
        (Some("only" | "without"), None) => return Err(Problem::new("missing", "which order?").field("order").into()),
        _ => Part::All,
    };
    let fast = h.fast.filter(|f| (0.25..=8.0).contains(f)).unwrap_or(1.0);
    let made = tokio::task::spawn_blocking(move || -> Result<Vec<u8>, Problem> {
        let _turn = turn;
        let x = listen(&case.vehicle, &samples, &channel, reference.as_ref(), span, part)?;
        write_wav(&x.samples, (x.rate.get() * fast) as u32)
    })
    .await
    .map_err(|e| PageError::Broken(e.to_string()))??;
    Ok(([(header::CONTENT_TYPE, "audio/wav"), (header::CACHE_CONTROL, "private, max-age=600")], made).into_response())
}

/// Routes of the map and of what leaves it.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/map/{run}/{channel}", get(ink))
        .route("/cases/{id}/runs/{run}/{channel}/map.csv", get(csv))
        .route("/cases/{id}/runs/{run}/{channel}/map.png", get(export_png))
        .route("/cases/{id}/runs/{run}/{channel}/map.svg", get(export_svg))
        .route("/cases/{id}/runs/{run}/{channel}/listen.wav", get(hear))
        .route("/cases/{id}/levels.csv", get(levels))
        .route("/cases/{id}/analysis.json", get(analysis))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_view_stays_inside_what_there_is() {
        let all = Axes { speed: (40.0, 120.0), up: (0.0, 10.0), hz_per_kmh: None };
        let look = |v: &str, o: &str| Look { v: Some(v.into()), o: Some(o.into()), ..Look::default() }.axes(all);
        assert_eq!((look("70,90", "3,5").speed, look("70,90", "3,5").up), ((70.0, 90.0), (3.0, 5.0)));
        assert_eq!(look("110,150", "9,12").speed, (80.0, 120.0));
        assert_eq!(look("-500,900", "nan,1").speed, (40.0, 120.0));
        assert_eq!(look("80,80.1", "4,4.01"), Axes { speed: (80.0, 85.0), up: (4.0, 4.5), hz_per_kmh: None });
        for bad in ["", "5", "9,3", "a,b", "inf,1"] {
            assert_eq!(look(bad, bad), all, "{bad}");
        }
    }

    #[test]
    fn addresses_keep_what_was_asked_and_escape_it() {
        let l = Look { ch: Some("a z&b".into()), v: Some("70,90".into()), ..Look::default() };
        assert_eq!(l.query(|l| l.v = None), "&ch=a%20z%26b");
        assert!(l.query(|l| l.axis = Some("hz".into())).contains("&axis=hz&v=70%2C90"));
    }

    #[test]
    fn nearer_and_further_undo_each_other_and_all_is_all() {
        let a = Axes { speed: (60.0, 100.0), up: (2.0, 6.0), hz_per_kmh: None };
        let p = presses(&a, &|v, o| format!("{v:?}{o:?}"), "all".into());
        assert_eq!(p[0].href, "(70.0, 90.0)(3.0, 5.0)");
        assert_eq!(p[1].href, "(40.0, 120.0)(0.0, 8.0)");
        assert_eq!(p[6].href, "all");
    }
}
