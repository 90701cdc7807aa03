//! The order map as it is looked at: which channel, over orders or Hz, which part of it, beside or
//! less another run. All of it stands in the address, so that it can be kept, sent and gone back to.

use crate::App;
use crate::auth::Member;
use crate::charts::{self, Axes, Rung};
use crate::error::PageError;
use crate::wording::segment;
use crate::work_limits::{Maps, Turn};
use axum::Router;
use axum::extract::{FromRequestParts, Path, Query};
use axum::http::header;
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use baricord_core::analysis::{Analysis, OrderMap};
use baricord_core::error::Problem;
use baricord_core::vehicle::Vehicle;
use baricord_store::Scope;
use serde::Deserialize;
use std::fmt::Write;
use uuid::Uuid;

/// What a person asked to see.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
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
    pub(super) fn over_hz(&self) -> bool {
        self.axis.as_deref() == Some("hz")
    }
    fn less(&self) -> bool {
        self.how.as_deref() == Some("less")
    }

    /// The part in view: what was asked, kept inside what there is and not smaller than can be read.
    pub(super) fn axes(&self, all: Axes) -> Axes {
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
    /// As people read it.
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
pub struct MapContext<'a> {
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
pub(super) fn hz_per_kmh(v: &Vehicle, a: &Analysis, run: &str) -> Result<f64, Problem> {
    let found = a.recording(run).and_then(|r| r.reference.as_ref());
    found
        .ok_or_else(|| {
            Problem::new("no-reference", format!("{run} has no reference: nothing turns its map into Hz")).field("axis")
        })?
        .hz_per_kmh(v)
}

/// A map as it was asked for: less another, over frequency.
pub(super) async fn asked(
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

/// A map that a request asks for, in a turn of its own: member, address and view are read once here.
pub struct RequestedMap {
    pub member: Member,
    pub case: Uuid,
    pub run: String,
    pub channel: String,
    pub look: Look,
    pub map: OrderMap,
    /// Held until the answer is made.
    _turn: Turn<Maps>,
}

impl FromRequestParts<App> for RequestedMap {
    type Rejection = Response;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Response> {
        let member = Member::from_request_parts(parts, app).await.map_err(IntoResponse::into_response)?;
        let turn = Turn::<Maps>::from_request_parts(parts, app).await.map_err(IntoResponse::into_response)?;
        let Path((case, run, channel)) =
            Path::<(Uuid, String, String)>::from_request_parts(parts, app).await.map_err(IntoResponse::into_response)?;
        let Query(look) = Query::<Look>::from_request_parts(parts, app).await.map_err(IntoResponse::into_response)?;
        let map = load(&member, case, &run, &channel, &look).await.map_err(IntoResponse::into_response)?;
        Ok(Self { member, case, run, channel, look, map, _turn: turn })
    }
}

async fn load(m: &Member, id: Uuid, run: &str, channel: &str, l: &Look) -> Result<OrderMap, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    asked(&mut s, id, &case.vehicle, &a, run, channel, l).await?.ok_or(PageError::NotFound)
}

/// Makes the view; none where the run has no map.
pub async fn map_view(s: &mut Scope, m: MapContext<'_>, l: &Look) -> Result<Option<MapView>, PageError> {
    let channel = l.ch.clone().filter(|c| m.channels.contains(c)).unwrap_or(m.channel.clone());
    let Some(map) = asked(s, m.case, m.vehicle, m.analysis, m.run, &channel, l).await? else { return Ok(None) };
    let hz = if l.over_hz() { Some(hz_per_kmh(m.vehicle, m.analysis, m.run)?) } else { None };
    let all = Axes { hz_per_kmh: hz, ..Axes::new(&map) };
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
async fn ink(r: RequestedMap) -> Response {
    ([(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "private, no-cache")], r.map.ink)
        .into_response()
}

/// Routes of the map.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/map/{run}/{channel}", get(ink))
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
