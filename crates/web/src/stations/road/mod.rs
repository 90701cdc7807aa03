//! Road: recordings in, their analysis as it runs, the order map and what stands in it.

mod analysis_task;
pub mod drive;
pub mod export;
mod ladder;
mod listen;
pub mod map_view;
mod mapping;
pub mod order_detail;
pub mod recordings;

use crate::App;
use crate::auth::Member;
use crate::charts::{self};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::safety_findings::SafetyFindings;
use crate::stations::test_cards::{TestCard, cards, one_card, with_it};
use crate::wording::rung;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::analysis::RecordingAnalysis;
use baricord_core::case::RecordingSpec;
use baricord_core::case::intake;
use baricord_core::drive::run_plan::PlannedRun;
use baricord_core::measure::orders::{Base, OrderLine, orders};
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::knowledge::Test;
use baricord_core::vehicle::Vehicle;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::{ActionKind, station_of_test};
use baricord_store::Scope;
use baricord_store::analysis_tasks::AnalysisTask;
use baricord_store::drives::Drive;
use baricord_store::incoming::Incoming;
use ladder::{ladder_view, rung_of};
use map_view::{Look, MapContext, MapView};
use order_detail::Chosen;
use serde::Deserialize;
use uuid::Uuid;

/// How high the map of a vehicle reaches, in wheel orders: past twice the shaft and the firing.
pub fn map_top(v: &Vehicle, engine_per_wheel: Option<f64>) -> f64 {
    let shaft = v.props.iter().filter_map(|p| v.final_ratio(p.end)).fold(0.0, f64::max);
    let firing = v.engine.map_or(1.0, |e| f64::from(e.cylinders) * 2.0 / f64::from(e.strokes)) * engine_per_wheel.unwrap_or(0.0);
    (2.2 * shaft).max(1.15 * firing).clamp(7.0, 16.0)
}

#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
struct Asked {
    #[serde(default)]
    s: Option<String>,
    #[serde(default)]
    run: Option<String>,
    #[serde(default)]
    line: Option<usize>,
    /// A test that is opened.
    #[serde(default)]
    test: Option<String>,
    #[serde(default)]
    at: Option<String>,
    #[serde(default)]
    gear: Option<String>,
}

/// Single knocks that are shown.
const KNOCKS: usize = 6;

struct RunTab {
    id: String,
    words: String,
    here: bool,
}

struct OrderRow {
    index: usize,
    rung: String,
    family: &'static str,
    order: String,
    error: String,
    base: &'static str,
    level: String,
    level_error: String,
    unit: String,
    felt: String,
    at: String,
    growth: String,
    sources: String,
    /// Where it stands in one gear alone.
    alone: String,
    chosen: bool,
}

struct PulseRow {
    per_turn: String,
    strength: String,
    sources: String,
}

/// The plan of runs, in words.
struct PlanView {
    /// How it is driven, and what it separates and cannot.
    runs: Vec<(String, String)>,
    never: Vec<String>,
}

#[derive(Template)]
#[template(path = "road/road.html")]
struct RoadPage {
    f: Frame,
    runs: Vec<RunTab>,
    run: String,
    sentence: String,
    task: Option<AnalysisTask>,
    task_open: bool,
    map: Option<MapView>,
    rows: Vec<OrderRow>,
    pulses: Vec<PulseRow>,
    /// Single knocks: in words, and where they are heard.
    knocks: Vec<(String, String)>,
    chosen: Option<Chosen>,
    resonances: Vec<String>,
    warnings: Vec<String>,
    refused: bool,
    waiting: Vec<Incoming>,
    drive: Option<Drive>,
    faults: Vec<(String, String)>,
    /// Only here does the simulated recorder drive.
    demo: bool,
    /// It must not be driven: no run is planned or begun.
    grounded: bool,
    upload_open: bool,
    after: bool,
    /// The test that was asked for: it stands first, and open.
    wanted: Option<TestCard>,
    tests: Vec<TestCard>,
    plan: Option<PlanView>,
}

/// The runs with what each separates and what it cannot, and what none separates.
fn plan(k: &LoadedCase) -> Option<PlanView> {
    if k.case().is_grounded() {
        return None;
    }
    let v = &k.case().vehicle;
    let p = baricord_core::reasoning::road_plan::plan_for_symptom(k.case(), k.symptom.as_deref()?, &k.answer()?.ranked)?;
    let gear = |r: &PlannedRun| r.gear.as_ref().map_or(String::new(), |g| format!("gear {g}, "));
    let speeds = |r: &PlannedRun| format!("{}{:.0} to {:.0} km/h, slowly through", gear(r), r.from.get(), r.to.get());
    Some(PlanView {
        runs: p.runs.iter().map(|r| (speeds(r), r.words(v))).collect(),
        never: p.never_words(v, |t| k.knowledge.test(t).map_or(t.to_string(), |t| t.ask.clone())),
    })
}

/// A run in words.
pub fn run_words(r: &RecordingSpec) -> String {
    let mut parts = vec![];
    match r.gear.as_deref() {
        Some("varies") => parts.push("gears vary".to_string()),
        Some(g) => parts.push(format!("gear {g}")),
        None => parts.push("gear unknown".to_string()),
    }
    parts.extend(r.throttle.clone());
    parts.extend(r.place.as_ref().map(|p| p.replace('-', " ")));
    if r.is_after() {
        parts.push("after the repair".into());
    }
    if r.is_simulated() {
        parts.push("simulated".into());
    }
    parts.join(", ")
}

fn source_words(o: &[baricord_core::analysis::Source]) -> String {
    let k = baricord_core::reasoning::knowledge::builtin();
    let mut names: Vec<String> = vec![];
    for s in o {
        let name = k.fault(&s.fault).map_or(s.fault.clone(), |f| f.name.clone());
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let more = names.len().saturating_sub(4);
    let shown = names.into_iter().take(4).collect::<Vec<_>>().join(", ");
    match (shown.is_empty(), more) {
        (true, _) => "no part of this vehicle turns at this rate".into(),
        (_, 0) => shown,
        (_, n) => format!("{shown}, {n} more"),
    }
}

fn rows(r: &RecordingAnalysis, ladder: &[OrderLine], line: usize) -> Vec<OrderRow> {
    r.orders
        .iter()
        .take(12)
        .enumerate()
        .map(|(i, o)| {
            let near = rung_of(o, ladder, r.engine_per_wheel);
            let (level, error) = o.level();
            let key = near.map_or_else(|| rung(o.base, o.order), |(l, _)| rung(l.base, l.order.get()));
            OrderRow {
                index: i,
                rung: key,
                family: near.map_or("none", |(l, _)| charts::family_class(l.what.family())),
                order: format!("{:.2}", o.order),
                error: format!("{:.2}", o.order_sigma.max(0.005)),
                base: if o.base == Base::Engine { "× engine" } else { "× wheel" },
                level: format!("{level:.2}"),
                level_error: format!("{:.2}", error.max(0.005)),
                unit: o.unit.clone().unwrap_or("m/s²".into()),
                felt: o.felt.map_or(String::new(), |f| if f >= 1.0 { format!("felt, {f:.1} ×") } else { "not felt".into() }),
                at: format!("{:.0} km/h, {:.0} Hz", o.peak_speed_kmh, o.peak_hz),
                growth: o.growth.map_or("—".into(), |g| format!("{g:.1}")),
                sources: source_words(&o.sources),
                alone: o.only_in_gear.as_ref().map_or(String::new(), |g| format!("only in gear {g}: made inside the gearbox")),
                chosen: i == line,
            }
        })
        .collect()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(a): Query<Asked>, Query(look): Query<Look>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let asked = (Asked { s: None, ..a.clone() }, look.clone());
    let slot = m.page("road", a.s.as_deref()).asked(&asked).with_under_way().of(&mut s, id).await?;
    let (waiting, drive) = (s.incoming_now(slot.now()).await?, s.drive_now(slot.now()).await?);
    // Samples and maps are of their run, which is never another's.
    let mut slot = slot.beside((&waiting, &drive)).passing(drive.is_some() || !waiting.is_empty());
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    slot.render(&road_page(&m, &mut s, &k, &a, &look, (waiting, drive)).await?)
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Asked::default()), Query(Look::default())))
}

/// The tests that are driven: the one that was asked for by name, else the next step where it is one; and the others.
fn driven_tests(k: &LoadedCase, open: &OpenSymptom<'_>, a: &Asked) -> (Option<TestCard>, Vec<TestCard>) {
    let of_the_road = |t: &Test| station_of_test(&k.knowledge, &t.id) == Station::Road && !t.recorded;
    let named = a.test.as_deref().map(|t| (t, a.at.as_deref(), a.gear.as_deref()));
    let next = &k.assessment.next;
    let own_step = next.as_test().filter(|_| next.kind == ActionKind::Test && next.symptom == k.symptom);
    let wanted = named.or(own_step).filter(|(t, ..)| k.knowledge.test(t).is_some_and(of_the_road)).and_then(|(t, at, gear)| {
        let card = one_card(k, open, t, at, gear)?;
        Some(TestCard { with_it: with_it(k, open, t, at, gear), ..card })
    });
    let is_wanted = |t: &Test, at: Option<&str>| {
        wanted.as_ref().is_some_and(|w| w.test == t.id && w.at == at.unwrap_or_default() && w.gear.is_empty())
    };
    let mut tests = cards(k, open, |t, at| of_the_road(t) && !is_wanted(t, at), 6);
    // What is offered with it is not listed twice.
    let with: Vec<&str> = wanted.iter().flat_map(|w| &w.with_it).map(|w| w.href.as_str()).collect();
    tests.retain(|c| !with.contains(&c.href.as_str()));
    // The one that stands before them is the first.
    let before = usize::from(wanted.is_some());
    tests.iter_mut().enumerate().for_each(|(i, c)| c.number = i + 1 + before);
    (wanted, tests)
}

async fn road_page(
    m: &Member,
    s: &mut Scope,
    k: &LoadedCase,
    a: &Asked,
    look: &Look,
    (waiting, drive): (Vec<Incoming>, Option<Drive>),
) -> Result<RoadPage, PageError> {
    let f = Frame::new(m, k, Station::Road);
    let (case, id) = (k.case(), k.stored.id);
    let runs: Vec<&RecordingSpec> = case.recordings.iter().collect();
    let run = a
        .run
        .as_deref()
        .and_then(|r| runs.iter().find(|x| x.id == r))
        .or_else(|| runs.iter().rev().find(|x| !x.is_after()))
        .or(runs.last())
        .copied();
    let found = run.and_then(|r| k.analysis.as_ref()?.recording(&r.id));
    let line = a.line.unwrap_or(0);
    let asked = a.clone();
    let (wanted, tests) = k.with_open_beside(move |k, open| driven_tests(k, open, &asked)).await?;
    let mut page = RoadPage {
        runs: runs
            .iter()
            .map(|r| RunTab { id: r.id.clone(), words: run_words(r), here: run.is_some_and(|x| x.id == r.id) })
            .collect(),
        run: run.map_or(String::new(), |r| r.id.clone()),
        sentence: String::new(),
        task_open: k.task.as_ref().is_some_and(AnalysisTask::is_open),
        task: k.task.clone(),
        map: None,
        rows: vec![],
        pulses: vec![],
        knocks: vec![],
        chosen: None,
        resonances: vec![],
        warnings: vec![],
        refused: found.is_some_and(|r| r.refused),
        waiting,
        drive,
        faults: if case.demo { crate::stations::road::drive::faults(case) } else { vec![] },
        demo: case.demo,
        grounded: case.is_grounded(),
        upload_open: runs.is_empty(),
        after: case.is_after_repair(),
        wanted,
        tests,
        plan: plan(k),
        f,
    };
    let (Some(run), Some(r)) = (run, found) else {
        let heard = k.symptom.as_deref().and_then(|s| case.symptom(s)).map(intake::condition_words).unwrap_or_default();
        page.sentence = if runs.is_empty() && !heard.is_empty() {
            format!("No run yet. Drive as it was heard: {heard}.")
        } else if runs.is_empty() {
            "No run yet. Drive through the speeds where it is felt, in one gear, and load the recording.".into()
        } else {
            "This run has not been analysed yet.".into()
        };
        return Ok(page);
    };
    page.warnings = r
        .warnings
        .iter()
        .map(|w| match (w.at_s, w.line) {
            (Some(t), _) => format!("at {t:.1} s: {}", w.message),
            (None, Some(l)) => format!("line {l}: {}", w.message),
            _ => w.message.clone(),
        })
        .collect();
    page.sentence = sentence(run, r);
    if r.refused {
        return Ok(page);
    }
    let ladder = orders(&case.vehicle, run.fixed_gear()).or_else(|_| orders(&case.vehicle, None))?;
    page.rows = rows(r, &ladder, line);
    page.pulses = r
        .pulses
        .iter()
        .take(5)
        .map(|p| PulseRow {
            per_turn: format!("{:.2}", p.per_wheel_turn),
            strength: format!("{:.0}", p.strength),
            sources: source_words(&p.sources),
        })
        .collect();
    page.resonances = noticed(r);
    page.knocks = r
        .events
        .iter()
        .take(KNOCKS)
        .map(|e| {
            let at = format!("/cases/{id}/runs/{}/{}/listen.wav", run.id, crate::wording::segment(&e.channel));
            let words = format!("at {:.1} s in {}, {:.0} dB over what is around it", e.at_s, e.channel, e.strength);
            (words, format!("{at}?from={:.2}&to={:.2}", (e.at_s - 2.0).max(0.0), e.at_s + 2.0))
        })
        .collect();
    let picked = r.orders.get(line).or(r.orders.first());
    page.chosen = picked.map(|o| order_detail::chosen(r, &ladder, o, (&format!("/cases/{id}/runs/{}", run.id), line)));
    let channels: Vec<String> = run.channels.iter().filter(|c| c.quantity != "pulse").map(|c| c.column.clone()).collect();
    let channel = picked.map_or_else(|| channels.first().cloned().unwrap_or_default(), |o| o.channel.clone());
    let here = format!("/cases/{id}/road?s={}&run={}", page.f.symptom, run.id);
    let rungs = ladder_view(&case.vehicle, r, &ladder, line, &here);
    let analysis = k.analysis.as_ref().ok_or(PageError::NotFound)?;
    let mark = picked.and_then(|o| o.wheel_order(r.engine_per_wheel).map(|w| (o.peak_speed_kmh, w)));
    let made = MapContext {
        case: id,
        vehicle: &case.vehicle,
        analysis,
        run: &run.id,
        channels,
        channel,
        runs: runs.iter().map(|r| r.id.clone()).collect(),
        here: format!("{here}&line={line}"),
        rungs: &rungs,
        mark,
    };
    page.map = map_view::map_view(s, made, look).await?;
    Ok(page)
}

/// What stands beside the orders: something that rings, beats, a converter that slips.
fn noticed(r: &RecordingAnalysis) -> Vec<String> {
    let list = |orders: &[f64]| orders.iter().map(|o| format!("{o:.2}")).collect::<Vec<_>>().join(" and ");
    let rings = r.resonances.iter().map(|x| format!("resonance near {:.0} Hz: {} peak there", x.hz, list(&x.orders)));
    let beats = r.beats.iter().map(|b| {
        let other = b.other.map_or(String::new(), |o| format!(" (the other stands at {o:.2})"));
        let beat = format!("{:.2} rises and falls every {:.1} s, {:.0} % deep", b.order, b.period_s, 100.0 * b.depth);
        format!("{beat}: two parts turn nearly alike, {:.3} of a wheel turn apart{other}; two tyres, or two shafts", b.gap)
    });
    let slip = r.slip.iter().map(|s| {
        format!(
            "the converter slips {:.1} ± {:.1} %: {} stand there as engine orders",
            s.percent,
            s.sigma_percent,
            list(&s.orders)
        )
    });
    rings.chain(beats).chain(slip).collect()
}

fn sentence(run: &RecordingSpec, r: &RecordingAnalysis) -> String {
    let mut out = run_words(run);
    if let Some(x) = &r.reference {
        match (x.source.as_str(), x.lag_s) {
            ("speed" | "rpm", Some(l)) => out += &format!(". The speed signal is {l:.2} s late"),
            ("pulse", _) => out += ". Turns are counted by the pulse sensor",
            ("ridge", _) => out += ". Turns are taken from the clearest ridge",
            _ if x.delay_words().is_some() => {
                let words = x.delay_words().unwrap_or_default();
                out += &format!(". {}", words.trim_end_matches('.'));
            }
            _ => {}
        }
        let percent = (1.0 / x.scale - 1.0) * 100.0;
        if percent.abs() >= 0.05 {
            out += &format!(
                "; the tyre is {:.1} % {} than described",
                percent.abs(),
                if percent > 0.0 { "larger" } else { "smaller" }
            );
        }
        out.push('.');
    }
    if !r.refused && r.orders.is_empty() && r.pulses.is_empty() {
        out += if r.events.is_empty() {
            " Nothing that turns stands out of the road's own noise."
        } else {
            " Nothing that turns stands out, only single knocks."
        };
    }
    out
}

#[derive(Template, WebTemplate)]
#[template(path = "road/drive_card.html")]
struct Card {
    title: String,
    vehicle: String,
    symptom: String,
    heard: String,
    plan: Option<PlanView>,
    grounded: bool,
    /// What was said on driving, or is proposed to be said.
    safety: SafetyFindings,
    back: String,
    theme: &'static str,
}

/// The planned runs on one page, to be printed and taken along.
async fn card(m: Member, Path(id): Path<Uuid>, Query(a): Query<Asked>) -> Result<Card, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, a.s.as_deref()).await?;
    let case = k.case();
    let symptom = k.symptom.as_deref().and_then(|s| case.symptom(s));
    Ok(Card {
        title: case.title.clone(),
        vehicle: case.vehicle.name.clone(),
        symptom: symptom.map_or(String::new(), |s| format!("{}: {}", crate::wording::kind_words(&s.kind), s.words)),
        heard: symptom.map(intake::condition_words).unwrap_or_default(),
        plan: plan(&k),
        safety: SafetyFindings::new(&k),
        grounded: case.is_grounded(),
        back: format!("/cases/{id}/road?s={}", k.symptom.as_deref().unwrap_or_default()),
        theme: crate::theme::now(),
    })
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/road", get(show))
        .route("/cases/{id}/road/card", get(card))
        .merge(analysis_task::routes())
        .merge(map_view::routes())
        .merge(export::routes())
        .merge(listen::routes())
        .merge(order_detail::routes())
        .merge(recordings::routes())
        .merge(drive::routes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::*;

    #[test]
    fn the_map_reaches_past_twice_the_shaft() {
        assert!(map_top(&rear_drive(2), Some(3.44)) > 8.2);
        assert!(map_top(&front_drive(), Some(3.0)) >= 6.0);
        assert_eq!(map_top(&rear_drive(2), Some(20.0)), 16.0);
    }
}
