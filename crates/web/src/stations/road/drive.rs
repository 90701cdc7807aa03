//! The drive with a recorder, as it is seen from the passenger's seat: the planned runs as strips that
//! fill, what is still missing in large type, speed, level and the map as they grow.

use crate::App;
use crate::auth::{Member, may_write};
use crate::charts::{self, Axes, Rung};
use crate::drive_runner::{self, Setup};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::Posted;
use crate::stations::road::map_top;
use crate::wording::{cause_words, rung};
use crate::work_limits::{Maps, Turn};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::Path;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use baricord_core::analysis::{OrderMap, USUAL_LAG, known_map};
use baricord_core::case::Case;
use baricord_core::drive::coach::{Done, Driven, Leg, gear_words, throttle_words};
use baricord_core::error::Problem;
use baricord_core::measure::orders::{Family, What, orders};
use baricord_core::reasoning::hypotheses;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::safety::drive_clearance::check_drive;
use baricord_core::workflow::Station;
use baricord_simulator::{KINDS, StandInSetup};
use baricord_store::drives::{Drive, Piece};
use uuid::Uuid;

/// Speeds around a leg that its map shows, km/h.
const AROUND: f64 = 6.0;
/// Rows of a map for each order.
const ROWS: f64 = 32.0;

/// Faults that the stand-in can have in this vehicle, with their words.
pub fn faults(case: &Case) -> Vec<(String, String)> {
    let felt = |id: &str| KINDS.iter().any(|k| k.id == id && !k.is_heard);
    hypotheses(&case.vehicle, builtin())
        .into_iter()
        .filter(|h| felt(&h.fault))
        .map(|h| (format!("{}@{}", h.fault, h.at), cause_words(builtin(), case, &h.fault, &h.at, None)))
        .collect()
}

/// One cell of a strip.
struct Cell {
    x: f64,
    width: f64,
    class: &'static str,
    share: f64,
}

struct StripView {
    words: String,
    from: String,
    to: String,
    done: String,
    cells: Vec<Cell>,
    /// Where the speed is now, per cent of the strip; none on another strip or outside it.
    now: Option<f64>,
}

struct LiveMap {
    url: String,
    columns: usize,
    rows: usize,
    frame: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "road/drive_state.html")]
struct StateView {
    id: Uuid,
    drive: Uuid,
    open: bool,
    standing: bool,
    ending: bool,
    failed: String,
    /// The sentence to be read from the corner of an eye, and what it is about.
    say: String,
    about: String,
    enough: bool,
    speed: String,
    level: String,
    strips: Vec<StripView>,
    map: Option<LiveMap>,
    trace: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "road/drive.html")]
struct DrivePage {
    f: Frame,
    state: StateView,
}

/// Where the map of a leg lies: speeds of its edges, its height.
fn map_shape(case: &Case, leg: &Leg) -> (f64, usize, f64) {
    let (lo, hi) = (leg.from.get().min(leg.to.get()), leg.from.get().max(leg.to.get()));
    let from = (lo - AROUND).max(0.0).floor();
    let per_wheel = case.vehicle.engine_per_wheel(leg.gear.as_deref(), None).ok().flatten().map(|e| e.get());
    (from, (hi + AROUND - from).ceil() as usize, map_top(&case.vehicle, per_wheel))
}

/// The map of a leg so far, laid into the speeds of the whole leg.
fn map_so_far(case: &Case, d: &Drive, leg: &Leg, piece: &Piece) -> Result<OrderMap, PageError> {
    let (from, columns, top) = map_shape(case, leg);
    let rows = (top * ROWS) as usize;
    let mut out = OrderMap {
        speed_from: from,
        speed_step: 1.0,
        columns,
        order_step: 1.0 / ROWS,
        rows,
        full: 0.0,
        ink: vec![0; columns * rows],
    };
    let s = drive_runner::samples(drive_runner::rate(d, &case.vehicle)?, piece);
    // Two readings are no track yet.
    if s.speed.len() < 4 {
        return Ok(out);
    }
    if let Some(m) = known_map(&case.vehicle, &s, USUAL_LAG, 1.0, top)?.filter(|m| m.columns > 0) {
        let shift = (m.speed_from - from).round() as isize;
        for r in 0..rows.min(m.rows) {
            for c in 0..m.columns {
                if let Some(to) = usize::try_from(c as isize + shift).ok().filter(|to| *to < columns) {
                    out.ink[r * columns + to] = m.ink[r * m.columns + c];
                }
            }
        }
        out.full = m.full;
    }
    Ok(out)
}

/// The lines that this vehicle can have in a gear, quietly beside the map.
fn rungs(case: &Case, leg: &Leg) -> Vec<Rung> {
    let v = &case.vehicle;
    let per_wheel = v.engine_per_wheel(leg.gear.as_deref(), None).ok().flatten();
    let mut out: Vec<Rung> = vec![];
    for l in orders(v, leg.gear.as_deref()).unwrap_or_default() {
        let Some(w) = l.wheel_order(per_wheel).map(|o| o.get()) else { continue };
        let hidden = l.what == What::HalfShaft || matches!(l.what.family(), Family::Bearing | Family::Half);
        if hidden || out.iter().any(|x| (x.order - w).abs() < 0.004 * w) {
            continue;
        }
        out.push(Rung {
            key: rung(l.base, l.order.get()),
            words: l.what.words().to_string(),
            order: w,
            family: l.what.family(),
            chosen: false,
            found: false,
            href: None,
        });
    }
    out
}

/// Root mean square of the last second.
fn level(piece: &Piece, rate: f64) -> Option<f64> {
    let n = (rate as usize).min(piece.samples.len());
    let last = &piece.samples[piece.samples.len() - n..];
    let mean = last.iter().map(|v| f64::from(*v)).sum::<f64>() / n.max(1) as f64;
    (n > 0).then(|| (last.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / n as f64).sqrt())
}

async fn state(m: &Member, id: Uuid, drive: Uuid) -> Result<StateView, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    let d = s.drive(id, drive).await?;
    let driven = drive_runner::driven(&mut s, &d).await?;
    let coach = drive_runner::coach(&mut s, id, &d.symptom).await?;
    let advice = drive_runner::advice(&coach, &driven);
    let now: Option<&(Driven, Piece)> = driven.last();
    let moving = d.state == "moving";
    let strips = advice
        .strips
        .iter()
        .map(|s| {
            let n = s.stretches.len() as f64;
            let gear = s.leg.gear.as_deref().map_or(String::new(), |g| format!("{}, ", gear_words(g)));
            let enough = s.stretches.iter().filter(|x| x.done == Done::Enough).count();
            StripView {
                words: format!("{gear}{}", throttle_words(&s.leg.throttle)),
                from: format!("{:.0}", s.leg.from.get()),
                to: format!("{:.0}", s.leg.to.get()),
                now: now.filter(|n| moving && n.0.leg.gear == s.leg.gear && n.0.leg.throttle == s.leg.throttle).and_then(|n| {
                    let (lo, v) = (s.leg.from.get(), n.0.speed.last()?.1);
                    Some(100.0 * (v - lo) / (s.leg.to.get() - lo)).filter(|x| (0.0..=100.0).contains(x))
                }),
                done: format!("{enough} of {}", s.stretches.len()),
                cells: s
                    .stretches
                    .iter()
                    .enumerate()
                    .map(|(i, x)| Cell {
                        x: 100.0 * i as f64 / n,
                        width: 100.0 / n,
                        class: match x.done {
                            Done::Missing => "missing",
                            Done::TooFast => "fast",
                            Done::Enough => "enough",
                        },
                        share: 100.0 * x.share / n,
                    })
                    .collect(),
            }
        })
        .collect();
    let (say, about) = match (d.state.as_str(), now) {
        ("done", _) => ("The drive is over.".to_string(), String::new()),
        // What is enough is said large, whatever is still being driven.
        ("moving", _) if advice.separated => (advice.say.clone(), String::new()),
        ("moving", Some((n, _))) => (n.leg.words(), "now".into()),
        ("standing", _) => (advice.say.clone(), "next".into()),
        _ => (advice.say.clone(), "first".into()),
    };
    let rate = drive_runner::rate(&d, &case.vehicle)?.get();
    let speed = now.filter(|_| moving).and_then(|n| n.0.speed.last()).map_or("0".into(), |r| format!("{:.0}", r.1));
    let level_now = now.filter(|_| moving).and_then(|n| level(&n.1, rate)).map_or("—".into(), |l| format!("{l:.2}"));
    let map = match now {
        Some((n, p)) => {
            let (from, columns, top) = map_shape(case, &n.leg);
            let rows = (top * ROWS) as usize;
            let empty =
                OrderMap { speed_from: from, speed_step: 1.0, columns, order_step: 1.0 / ROWS, rows, full: 0.0, ink: vec![] };
            Some(LiveMap {
                url: format!("/cases/{id}/drives/{drive}/map?n={}-{}", driven.len(), p.samples.len()),
                columns,
                rows,
                frame: charts::map_frame(&Axes::new(&empty), &rungs(case, &n.leg), None),
            })
        }
        None => None,
    };
    let trace =
        now.map_or(String::new(), |(n, p)| charts::trace(&n.speed, &levels(p, rate), n.leg.to.get().max(n.leg.from.get())));
    Ok(StateView {
        id,
        drive,
        open: d.is_open(),
        standing: d.is_open() && !moving,
        ending: d.ending,
        failed: d.problem.clone().unwrap_or_default(),
        say,
        about,
        enough: advice.separated,
        speed,
        level: level_now,
        strips,
        map,
        trace,
    })
}

/// Level of each half second: s, root mean square.
fn levels(piece: &Piece, rate: f64) -> Vec<(f64, f64)> {
    let n = ((0.5 * rate) as usize).max(1);
    piece
        .samples
        .chunks_exact(n)
        .enumerate()
        .map(|(i, c)| {
            let part = Piece { samples: c.to_vec(), speed: vec![] };
            (0.5 * (i as f64 + 0.5), level(&part, rate).unwrap_or(0.0))
        })
        .collect()
}

async fn page(m: Member, Path((id, drive)): Path<(Uuid, Uuid)>) -> Result<DrivePage, PageError> {
    let mut s = m.scope().await?;
    let symptom = s.drive(id, drive).await?.symptom;
    let k = LoadedCase::read(&mut s, id, Some(&symptom)).await?;
    let f = Frame::new(&m, &k, Station::Road);
    drop(s);
    Ok(DrivePage { f, state: state(&m, id, drive).await? })
}

/// How it goes; when it is over the road station is asked for, with the first of its runs.
async fn now(m: Member, Path((id, drive)): Path<(Uuid, Uuid)>) -> Result<Response, PageError> {
    let view = state(&m, id, drive).await?;
    let (open, failed) = (view.open, !view.failed.is_empty());
    let mut r = view.into_response();
    if !open && !failed {
        let runs: Vec<String> = serde_json::from_str(&m.scope().await?.drive(id, drive).await?.runs).unwrap_or_default();
        let to = runs.first().map_or(format!("/cases/{id}/road"), |r| format!("/cases/{id}/road?run={r}"));
        if let Ok(to) = HeaderValue::from_str(&to) {
            r.headers_mut().insert("hx-redirect", to);
        }
    }
    Ok(r)
}

/// The ink of the leg under way.
async fn map(m: Member, _turn: Turn<Maps>, Path((id, drive)): Path<(Uuid, Uuid)>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    let d = s.drive(id, drive).await?;
    let legs = drive_runner::legs(&d)?;
    let Some(leg) = legs.last() else { return Err(PageError::NotFound) };
    let piece = s.leg_so_far(drive, legs.len() as i32 - 1).await?;
    let map = map_so_far(case, &d, leg, &piece)?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")], map.ink).into_response())
}

/// A drive begins.
async fn begin(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    if let Some(open) = s.open_drive(id).await? {
        return Ok(Redirect::to(&format!("/cases/{id}/drives/{}", open.id)));
    }
    let symptom = f.need("symptom", "the symptom")?;
    if !case.demo {
        let message = "no recorder is connected, and the simulated one drives in demo cases only: load a recording instead";
        return Err(Problem::new("no-recorder", message).field("symptom").into());
    }
    check_drive(case)?;
    drive_runner::coach(&mut s, id, symptom).await?;
    let setup = StandInSetup {
        fault: f.text("fault").filter(|t| *t != "none").map(String::from),
        rough: f.text("road") == Some("rough"),
        hasty: f.text("driver") == Some("hasty"),
        seed: match f.text("seed") {
            None => 1,
            Some(t) => t.parse().map_err(|_| Problem::new("bad-number", format!("“{t}” is not a whole number")).field("seed"))?,
        },
    };
    // What cannot be simulated is refused here, not on the road.
    setup.faults(&case.vehicle)?;
    let pace = f.number("pace")?.unwrap_or(1.0);
    if !(0.25..=64.0).contains(&pace) {
        return Err(Problem::new("out-of-range", "a drive runs at up to 64 times its time").field("pace").into());
    }
    let setup = serde_json::to_string(&Setup::StandIn(setup)).map_err(|e| PageError::Broken(e.to_string()))?;
    let drive = s.begin_drive(id, symptom, &m.person.name, &setup, pace).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/drives/{drive}")))
}

/// The driver stops for good, standing.
async fn end(m: Member, Path((id, drive)): Path<(Uuid, Uuid)>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.end_drive(id, drive).await?;
    drive_runner::back(&mut s, id, &m.person.name).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/drives/{drive}")))
}

/// Routes of a drive.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/drives", post(begin))
        .route("/cases/{id}/drives/{drive}", get(page))
        .route("/cases/{id}/drives/{drive}/now", get(now))
        .route("/cases/{id}/drives/{drive}/map", get(map))
        .route("/cases/{id}/drives/{drive}/end", post(end))
}
