//! Prove: the run after over the run before, the change of each order, and the verdict.

use crate::App;
use crate::auth::Member;
use crate::charts::{Curve, level_chart};
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::Posted;
use crate::stations::road::run_words;
use crate::stations::test_cards::{CautionView, cautions};
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::edit::act::{CaseAct, Judgement};
use baricord_core::proof::proof_list::{ProofLine, as_it_was_felt, proof_list};
use baricord_core::proof::verify::{SymptomVerdict, Verdict};
use baricord_core::reasoning::wording::repair_words;
use baricord_core::safety::cautions::{RunningCheck, running_checks};
use baricord_core::workflow::{Station, is_proved};
use baricord_store::analysis_tasks::AnalysisTask;
use baricord_store::incoming::Incoming;
use uuid::Uuid;

struct ChangeRow {
    order: String,
    before: String,
    after: String,
    change: String,
    interval: String,
    verdict: &'static str,
    mark: &'static str,
}

#[derive(Template)]
#[template(path = "prove/prove.html")]
struct ProvePage {
    f: Frame,
    sentence: String,
    verdict: &'static str,
    verdict_id: &'static str,
    reasons: Vec<String>,
    rows: Vec<ChangeRow>,
    new_orders: Vec<String>,
    chart: String,
    has_before: bool,
    has_after: bool,
    task: Option<AnalysisTask>,
    task_open: bool,
    repair: Option<(String, String)>,
    /// All that are done and wait for their verdict: id and words, the last one first.
    repairs: Vec<(String, String)>,
    closed: String,
    waiting: Vec<Incoming>,
    /// What will prove it: each line before and after.
    lines: Vec<ProofRow>,
}

/// A line of what proves a repair.
struct ProofRow {
    again: String,
    before: String,
    after: String,
    /// The test with its place and gear, where it is answered here.
    test: String,
    at: String,
    gear: String,
    /// Its outcomes: id and words.
    outcomes: Vec<(String, String)>,
    /// Where it is recorded or read.
    href: String,
    cautions: Vec<CautionView>,
    checks: Vec<RunningCheck>,
}

/// What will prove a symptom's repair, line by line.
fn proof_rows(k: &LoadedCase, symptom: &str) -> Vec<ProofRow> {
    let (kb, case) = (&*k.knowledge, k.case());
    let row = |l: ProofLine| {
        let rule = l.test.as_deref().and_then(|t| kb.test(t));
        // A drive waits until somebody says that it may be driven.
        let held = l.driven && case.is_grounded();
        let href = match (&l.test, l.measurement.as_deref(), l.at.as_deref()) {
            (None, Some(tool), Some(at)) => format!("/cases/{}/measure?tool={tool}&at={at}&s={symptom}", k.stored.id),
            _ => String::new(),
        };
        let outcomes =
            rule.filter(|_| !held).map_or(vec![], |t| t.outcomes.iter().map(|o| (o.id.clone(), o.words.clone())).collect());
        ProofRow {
            again: l.again,
            before: l.before,
            after: l.after.unwrap_or_default(),
            test: l.test.unwrap_or_default(),
            at: l.at.unwrap_or_default(),
            gear: l.gear.unwrap_or_default(),
            outcomes,
            href,
            cautions: rule.map_or(vec![], |t| cautions(k, t, None)),
            checks: rule.map_or(vec![], |t| running_checks(case, t)),
        }
    };
    proof_list(case, kb, symptom).into_iter().map(row).collect()
}

fn reason_words(r: &str) -> String {
    match r {
        "gear" => "another gear".into(),
        "throttle" => "another load".into(),
        "range" => "another range".into(),
        "place" => "the sensor stood elsewhere".into(),
        "sensor" => "another sensor or channel".into(),
        "speed-range" => "the run after does not cover the speeds of the run before".into(),
        "no-after" => "there is no run after yet".into(),
        other => other.into(),
    }
}

fn mark(v: Verdict) -> &'static str {
    match v {
        Verdict::Cured => "good",
        Verdict::Worse => "bad",
        Verdict::Improved => "better",
        _ => "plain",
    }
}

fn rows(v: &SymptomVerdict) -> Vec<ChangeRow> {
    v.orders
        .iter()
        .take(8)
        .map(|o| ChangeRow {
            order: format!("{:.2}", o.order),
            before: o.before_ms2.map_or("—".into(), |x| format!("{x:.2}")),
            after: o.after_ms2.map_or("—".into(), |x| format!("{x:.2}")),
            change: o.change_db.map_or("—".into(), |c| format!("{c:+.1} dB")),
            interval: o.interval_db.map_or(o.reasons.iter().map(|r| reason_words(r)).collect::<Vec<_>>().join(", "), |[a, b]| {
                format!("{a:+.1} to {b:+.1}")
            }),
            verdict: o.verdict.words(),
            mark: mark(o.verdict),
        })
        .collect()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let slot = m.page("prove", w.s.as_deref()).with_under_way().of(&mut s, id).await?;
    let waiting = s.incoming_now(slot.now()).await?;
    let mut slot = slot.beside(&waiting).passing(!waiting.is_empty());
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    drop(s);
    slot.or_make(move || Ok(prove_page(&m, &k, waiting))).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Which::default())))
}

fn prove_page(m: &Member, k: &LoadedCase, waiting: Vec<Incoming>) -> ProvePage {
    let f = Frame::new(m, k, Station::Prove);
    let (kb, case) = (&*k.knowledge, k.case());
    let before = case.recordings.iter().rev().find(|r| !r.is_after());
    let open = case.repairs.iter().rfind(|r| r.waits_for_proof());
    let mut page = ProvePage {
        sentence: String::new(),
        verdict: "",
        verdict_id: "none",
        reasons: vec![],
        rows: vec![],
        new_orders: vec![],
        chart: String::new(),
        has_before: before.is_some(),
        has_after: case.recordings.iter().any(|r| r.is_after()),
        task_open: k.task.as_ref().is_some_and(AnalysisTask::is_open),
        task: k.task.clone(),
        repair: open.map(|r| (r.id.clone(), repair_words(kb, case, r))),
        repairs: case
            .repairs
            .iter()
            .rev()
            .filter(|r| r.waits_for_proof())
            .map(|r| (r.id.clone(), repair_words(kb, case, r)))
            .collect(),
        closed: case.repairs.last().and_then(|r| r.result.clone()).filter(|r| r != "open").map_or(String::new(), |r| {
            match r.as_str() {
                "cured" if !is_proved(case, k.proof.as_ref()) => "closed by ear, not compared".into(),
                "cured" => "cured and proved".into(),
                other => other.replace('-', " "),
            }
        }),
        waiting,
        lines: k.symptom.as_deref().filter(|_| case.repairs.iter().any(|r| r.is_open())).map_or(vec![], |s| proof_rows(k, s)),
        f,
    };
    let heard = k.symptom.as_deref().map_or(String::new(), |s| as_it_was_felt(case, s));
    let as_before = before.map_or(String::new(), |b| format!("Drive again as before: {}.", run_words(b)));
    let felt = if heard.is_empty() { "as when it was heard".to_string() } else { format!("as it was heard: {heard}") };
    page.sentence = match (page.has_before, page.has_after, page.repair.is_some()) {
        (.., false) if case.repairs.iter().all(|r| !r.is_open()) && page.closed.is_empty() => {
            "No repair has been done yet. The proof is the same provocation again, after it.".into()
        }
        (_, false, true) if case.is_grounded() => "Not to be driven: drives wait until somebody says that it may.".into(),
        (true, true, _) => "Before and after, over each other.".into(),
        (true, false, true) if !heard.is_empty() => format!("{as_before} And {felt}."),
        (true, false, true) => as_before,
        (false, _, true) if page.lines.is_empty() => format!("Drive {felt}, and say what is left."),
        (false, _, true) => "The same again, after the repair: each line below, made as it was made before.".into(),
        (_, _, false) => String::new(),
    };
    let found = k.proof.as_ref().and_then(|p| p.symptoms.iter().find(|v| Some(v.id.as_str()) == k.symptom.as_deref()));
    if let Some(v) = found.filter(|_| page.has_after) {
        page.verdict = v.verdict.words();
        page.verdict_id = mark(v.verdict);
        page.reasons = v.reasons.iter().map(|r| reason_words(r)).collect();
        page.rows = rows(v);
        page.new_orders = v
            .new_orders
            .iter()
            .map(|o| format!("{:.2} a wheel turn, {:.2} at {:.0} km/h", o.order, o.level().0, o.peak_speed_kmh))
            .collect();
        let main = v.orders.iter().max_by(|a, b| {
            a.felt_before.or(a.before_ms2).unwrap_or(0.0).total_cmp(&b.felt_before.or(b.before_ms2).unwrap_or(0.0))
        });
        if let Some(o) = main {
            page.chart = level_chart(
                &[
                    Curve { levels: &o.levels_before, class: "before", words: "before".into() },
                    Curve { levels: &o.levels_after, class: "after", words: "after".into() },
                ],
                &[],
                Some(o.peak_speed_kmh),
                &format!("{:.2} × {}, m/s²", o.order, o.base.words()),
            );
        }
    }
    page
}

/// The verdict is taken: the case is closed, or goes back to Decide with its history.
async fn close(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let result = f.need("result", "the result")?.to_string();
    let to = if result == "cured" { "prove" } else { "decide" };
    let repair = f.need("repair", "the repair")?.to_string();
    keep_now(&m, id, &f, CaseAct::JudgeRepair(Judgement { id: repair, result })).await?;
    Ok(Redirect::to(&format!("/cases/{id}/{to}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/prove", get(show)).route("/cases/{id}/verdict", post(close))
}
