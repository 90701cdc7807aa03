//! A second opinion: one case, shown to one person outside by a link that ends and can be taken back. It asks one
//! question, and the answer comes into the case.

use crate::App;
use crate::auth::{Member, may};
use crate::edits::new_edit;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::printout::Printout;
use crate::stations::form::FormFields;
use crate::stations::lift::attachments::serve;
use crate::stations::road::export::still;
use crate::stations::road::map_view::Look;
use crate::stations::road::run_words;
use crate::wording::segment;
use crate::work_limits::Maps;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{DefaultBodyLimit, Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::edit::act::{AskedOpinion, CaseAct, OpinionAnswer};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::workflow::Station;
use baricord_store::Scope;
use baricord_store::events::Author;
use baricord_store::opinions::Linked;
use std::sync::Arc;
use tower_governor::GovernorLayer;
use tower_governor::governor::GovernorConfigBuilder;
use tower_governor::key_extractor::PeerIpKeyExtractor;
use uuid::Uuid;

/// Days for which a link may stand.
const DAYS: [i32; 3] = [1, 7, 30];
/// Order maps that a link shows at the most.
const MAPS: usize = 4;
/// Longest question or answer.
const LONGEST: usize = 2000;

/// A second opinion on the page.
struct Row {
    id: Uuid,
    question: String,
    state: String,
    answer: Option<(String, String)>,
    open: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "second_opinions.html")]
struct OpinionsPage {
    f: Frame,
    rows: Vec<Row>,
    days: [i32; 3],
    /// The address of the link just made: shown once.
    link: String,
}

fn left(hours: f64) -> String {
    if hours > 48.0 { format!("ends in {:.0} days", hours / 24.0) } else { format!("ends in {:.0} hours", hours.max(0.0)) }
}

async fn page(m: &Member, id: Uuid, w: &Which, link: String) -> Result<OpinionsPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(m, &k, Station::Decide);
    let rows = s
        .opinions(id)
        .await?
        .into_iter()
        .map(|o| Row {
            open: o.is_open(),
            state: match () {
                () if o.revoked => "link revoked".into(),
                () if o.hours_left <= 0.0 => "link has ended".into(),
                () => left(o.hours_left),
            },
            id: o.id,
            question: o.question,
            answer: o.answer.map(|a| (a, o.answered_by.unwrap_or_default())),
        })
        .collect();
    Ok(OpinionsPage { f, rows, days: DAYS, link })
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<OpinionsPage, PageError> {
    page(&m, id, &w, String::new()).await
}

/// Asks: makes a link, which is shown once.
async fn ask(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<OpinionsPage, PageError> {
    may(&m, Act::Share)?;
    let f = FormFields::of(&m, f);
    let question = f.sentence("question", "the question", LONGEST)?;
    let days = f.text("days").and_then(|d| d.parse().ok()).filter(|d| DAYS.contains(d));
    let days = days.ok_or_else(|| Problem::new("bad-value", "for one day, seven or thirty?").field("days"))?;
    let mut s = m.scope().await?;
    let secret = s.ask_opinion(id, question, &m.person.name, days).await?;
    let secret = secret.ok_or_else(|| Problem::new("too-many", "ten links stand open: take one back first").field("question"))?;
    let asked = CaseAct::AskOpinion(AskedOpinion { question: question.into() });
    s.edit_case(id, &m.author(), new_edit(asked), None).await?;
    s.commit().await?;
    page(&m, id, &Which::default(), format!("/opinion/{secret}")).await
}

async fn revoke(m: Member, Path((id, opinion)): Path<(Uuid, Uuid)>) -> Result<Redirect, PageError> {
    may(&m, Act::Share)?;
    let mut s = m.scope().await?;
    s.revoke_opinion(id, opinion).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/opinions")))
}

/// An order map of a run.
struct LinkedMap {
    /// Address of its ink.
    ink: String,
    /// Axes and ladder.
    frame: String,
    words: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "linked_opinion.html")]
struct LinkedPage {
    theme: &'static str,
    asked_by: String,
    question: String,
    answer: Option<(String, String)>,
    until: String,
    maps: Vec<LinkedMap>,
    /// Pictures and sounds of the case: their addresses, and whether each is a picture.
    pinned: Vec<(String, bool)>,
    p: Printout,
}

async fn linked(app: &App, secret: &str) -> Result<Linked, PageError> {
    // Nothing is said of a link that has ended which would not be said of one that never was.
    app.store.linked(secret).await?.ok_or(PageError::NotFound)
}

/// Not to be kept by anything on the way, nor found by a search.
fn private(page: impl IntoResponse) -> Response {
    let headers = [(header::CACHE_CONTROL, "no-store"), (header::HeaderName::from_static("x-robots-tag"), "noindex, nofollow")];
    (headers, page).into_response()
}

/// The order maps of the first runs, each in the channel in which a line stands out most.
async fn maps(s: &mut Scope, k: &LoadedCase, secret: &str) -> Result<Vec<LinkedMap>, PageError> {
    let mut out = vec![];
    for r in k.case().recordings.iter() {
        let found = k.analysis.as_ref().and_then(|a| a.recording(&r.id)?.orders.first());
        let Some(channel) = found.map(|o| &o.channel).filter(|_| out.len() < MAPS) else { continue };
        let (_, frame) = still(s, k.stored.id, &r.id, channel, &Look::default()).await?;
        let ink = format!("/opinion/{secret}/map/{}/{}", segment(&r.id), segment(channel));
        out.push(LinkedMap { ink, frame, words: run_words(r) });
    }
    Ok(out)
}

/// What the link shows: the ledger, the question, and nothing else.
async fn outside(State(app): State<App>, Path(secret): Path<String>) -> Result<Response, PageError> {
    let l = linked(&app, &secret).await?;
    let _turn = app.limits.enter::<Maps>().await?;
    let mut s = app.store.scope(l.workshop_id).await?;
    let o = s.opinion(l.id).await?;
    let k = LoadedCase::read(&mut s, l.case_id, None).await?;
    let mut p = Printout::new(&k);
    // What others were asked and have answered is not this person's.
    p.opinions.clear();
    let files = k.case().pinned.clone();
    let maps = maps(&mut s, &k, &secret).await?;
    Ok(private(LinkedPage {
        theme: crate::theme::now(),
        until: left(o.hours_left),
        maps,
        pinned: files.iter().map(|f| (format!("/opinion/{secret}/{}", f.file), f.is_picture())).collect(),
        asked_by: o.asked_by,
        question: o.question,
        answer: o.answer.map(|a| (a, o.answered_by.unwrap_or_default())),
        p,
    }))
}

/// A picture or a sound of the case that the link shows.
async fn file(State(app): State<App>, Path((secret, file)): Path<(String, String)>) -> Result<Response, PageError> {
    let l = linked(&app, &secret).await?;
    serve(app.store.scope(l.workshop_id).await?, l.case_id, &file).await
}

/// The ink of an order map that the link shows.
async fn map(
    State(app): State<App>,
    Path((secret, run, channel)): Path<(String, String, String)>,
) -> Result<Response, PageError> {
    let l = linked(&app, &secret).await?;
    let _turn = app.limits.enter::<Maps>().await?;
    let mut s = app.store.scope(l.workshop_id).await?;
    let (ink, _) = still(&mut s, l.case_id, &run, &channel, &Look::default()).await?;
    Ok(private(([(header::CONTENT_TYPE, "image/png")], ink)))
}

async fn answer(
    State(app): State<App>,
    Path(secret): Path<String>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Response, PageError> {
    let f = FormFields::metric(f);
    let l = linked(&app, &secret).await?;
    let (by, text) = (f.sentence("name", "your name", 100)?, f.sentence("answer", "the answer", LONGEST)?);
    let mut s = app.store.scope(l.workshop_id).await?;
    if !s.answer_opinion(l.id, by, text).await? {
        return Err(Problem::new("answered", "this question has its answer already").field("answer").into());
    }
    let question = s.opinion(l.id).await?.question;
    let answered = CaseAct::AnswerOpinion(OpinionAnswer { question, answer: text.into() });
    let author = Author::program(&format!("{by}, by a link"));
    s.edit_case(l.case_id, &author, new_edit(answered), None).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/opinion/{secret}")).into_response())
}

/// Routes of second opinions. A link is tried twenty times at once from one address, then once in two seconds.
pub fn routes() -> Router<App> {
    let limit = GovernorConfigBuilder::default().per_second(2).burst_size(20).key_extractor(PeerIpKeyExtractor).finish();
    let open = get(outside).merge(post(answer).layer(DefaultBodyLimit::max(64 << 10)));
    let shown = Router::new()
        .route("/opinion/{secret}", open)
        .route("/opinion/{secret}/pinned/{file}", get(file))
        .route("/opinion/{secret}/map/{run}/{channel}", get(map));
    let shown = match limit {
        Some(config) => shown.layer(GovernorLayer::new(Arc::new(config))),
        None => shown,
    };
    Router::new()
        .route("/cases/{id}/opinions", get(show).merge(post(ask)))
        .route("/cases/{id}/opinions/{opinion}/revoke", post(revoke))
        .merge(shown)
}
