//! One line of a run by itself: its level against speed, in other gears too, its phase, its sound; and the
//! pictures of it that may be taken away.

use crate::App;
use crate::auth::Member;
use crate::charts::{self, Curve};
use crate::error::PageError;
use crate::stations::road::export::{attachment, on_white};
use crate::stations::road::ladder::rung_of;
use crate::wording::segment;
use axum::Router;
use axum::extract::Path;
use axum::response::Response;
use axum::routing::get;
use baricord_core::analysis::{GearVerdict, OrderFound, OtherGear, RESONANCE_PHASE_DEG, RecordingAnalysis, turned_by};
use baricord_core::measure::orders::{OrderLine, orders};
use baricord_core::signal::felt_level;
use baricord_core::units::Hz;
use uuid::Uuid;

/// A line that was picked, and what is shown of it.
pub struct Chosen {
    /// Players: what of it, and where it comes from.
    pub heard: Vec<(String, String)>,
    pub words: String,
    pub level: String,
    pub unit: String,
    pub error: String,
    pub at: String,
    pub felt_from: String,
    pub growth: String,
    pub chart: String,
    /// What other gears say of it.
    pub gears: Vec<String>,
    pub phase: String,
    pub phase_words: String,
    pub exports: Vec<(&'static str, String)>,
}

/// What one other gear says of a line; nothing where it was not driven so.
fn gear_words(g: &OtherGear) -> Option<String> {
    let verdict = |share: f64| match GearVerdict::from_share(share) {
        GearVerdict::There => "there too",
        GearVerdict::Weaker => "weaker",
        GearVerdict::Gone => "gone",
    };
    let wheel = g.wheel_share.map(|s| format!("{} at the same wheel order", verdict(s)));
    let engine = g.engine_share.map(|s| format!("{} at the same engine order ({:.2})", verdict(s), g.engine_order));
    let parts: Vec<String> = [wheel, engine].into_iter().flatten().collect();
    (!parts.is_empty()).then(|| format!("in gear {} ({}): {}", g.gear, g.recording, parts.join("; ")))
}

/// What the phase says.
fn phase_words(o: &OrderFound) -> String {
    let by = turned_by(&o.phase);
    match by.abs() {
        d if d >= RESONANCE_PHASE_DEG => format!("turns by {d:.0}°: it passes a resonance"),
        d => format!("turns by {d:.0}°: no resonance is passed"),
    }
}

/// The level of a line against speed, with the same line in other gears over it.
fn chart(r: &RecordingAnalysis, ladder: &[OrderLine], o: &OrderFound) -> String {
    let hz_per_kmh = o.peak_hz / o.peak_speed_kmh.max(1.0);
    let felt: Vec<(f64, f64)> = if o.amplitude_ms2.is_some() {
        o.levels.iter().map(|l| (l.speed_kmh, felt_level(Hz(hz_per_kmh * l.speed_kmh)).get())).collect()
    } else {
        vec![]
    };
    let near = rung_of(o, ladder, r.engine_per_wheel);
    let class = near.map_or("wheel", |(l, _)| charts::family_class(l.what.family()));
    let here = if o.other_gears.is_empty() { String::new() } else { "this run".into() };
    let mut curves = vec![Curve { levels: &o.levels, class, words: here }];
    for g in &o.other_gears {
        curves.push(Curve { levels: &g.wheel, class: "half", words: format!("gear {}, wheel order", g.gear) });
        curves.push(Curve { levels: &g.engine, class: "engine", words: format!("gear {}, engine order", g.gear) });
    }
    charts::level_chart(&curves, &felt, Some(o.peak_speed_kmh), o.unit.as_deref().unwrap_or("m/s²"))
}

fn exports(o: &OrderFound, run: &str, line: usize) -> Vec<(&'static str, String)> {
    let mut out = vec![("level against speed (SVG)", format!("{run}/lines/{line}/level.svg"))];
    if !o.phase.is_empty() {
        out.push(("phase against speed (SVG)", format!("{run}/lines/{line}/phase.svg")));
    }
    out
}

/// A line picked among a run's orders. `run` is the address of the run, and which of its lines it is.
pub fn chosen(r: &RecordingAnalysis, ladder: &[OrderLine], o: &OrderFound, (run, line): (&str, usize)) -> Chosen {
    let near = rung_of(o, ladder, r.engine_per_wheel);
    let (level, error) = o.level();
    let unit = o.unit.clone().unwrap_or("m/s²".into());
    let here = felt_level(Hz(o.peak_hz)).get();
    let from = format!("{run}/{}/listen.wav?kmh={:.1}", segment(&o.channel), o.peak_speed_kmh);
    let fast = if o.peak_hz < 120.0 { "&fast=4" } else { "" };
    let note = if fast.is_empty() { "" } else { ", four times as fast" };
    let mut heard = vec![(format!("ten seconds around {:.0} km/h{note}", o.peak_speed_kmh), format!("{from}{fast}"))];
    if let Some(w) = o.wheel_order(r.engine_per_wheel).filter(|_| r.reference.as_ref().is_some_and(|f| f.source == "speed")) {
        heard.push((format!("only {:.2}", o.order), format!("{from}{fast}&part=only&order={w:.4}")));
        heard.push((format!("everything but {:.2}", o.order), format!("{from}{fast}&part=without&order={w:.4}")));
    }
    Chosen {
        heard,
        words: near.map_or_else(|| format!("{:.2} × wheel", o.order), |(l, _)| l.what.words().to_string()),
        level: format!("{level:.2}"),
        error: format!("{:.2}", error.max(0.005)),
        at: format!("{:.0}", o.peak_speed_kmh),
        felt_from: if o.amplitude_ms2.is_some() { format!("{here:.2}") } else { String::new() },
        growth: o.growth.map_or(String::new(), |g| format!("{g:.1}")),
        chart: chart(r, ladder, o),
        gears: o.other_gears.iter().filter_map(gear_words).collect(),
        phase: charts::phase_chart(&o.phase),
        phase_words: phase_words(o),
        exports: exports(o, run, line),
        unit,
    }
}

/// A picture of a line: its level or its phase against speed.
async fn picture(m: Member, Path((id, run, line, what)): Path<(Uuid, String, usize, String)>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    let spec = case.recordings.iter().find(|r| r.id == run).ok_or(PageError::NotFound)?;
    let r = a.recording(&run).ok_or(PageError::NotFound)?;
    let o = r.orders.get(line).ok_or(PageError::NotFound)?;
    let svg = match what.as_str() {
        "level.svg" => {
            let ladder = orders(&case.vehicle, spec.fixed_gear()).or_else(|_| orders(&case.vehicle, None))?;
            chart(r, &ladder, o)
        }
        "phase.svg" if !o.phase.is_empty() => charts::phase_chart(&o.phase),
        _ => return Err(PageError::NotFound),
    };
    Ok(attachment("image/svg+xml", &format!("{run}-{:.2}-{what}", o.order), on_white(&svg, 772, 140)))
}

/// Routes of a line.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/runs/{run}/lines/{line}/{what}", get(picture))
}
