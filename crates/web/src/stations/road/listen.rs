//! A stretch of a run to be heard: all of it, one order alone, or everything but one.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::work_limits::{Audio, Turn};
use axum::Router;
use axum::extract::{Path, Query};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use baricord_core::analysis::{Part, listen, stretch_at};
use baricord_core::error::Problem;
use baricord_core::units::{KilometresPerHour, Seconds};
use baricord_formats::write_wav;
use serde::Deserialize;
use uuid::Uuid;

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

/// How long a stretch is played where nobody said.
const USUAL_STRETCH: Seconds = Seconds(10.0);

async fn hear(
    m: Member,
    turn: Turn<Audio>,
    Path((id, run, channel)): Path<(Uuid, String, String)>,
    Query(h): Query<Hear>,
) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let case = s.case(id).await?.case().clone();
    let reference = s.analysis(id).await?.and_then(|(a, _)| a.recording(&run).and_then(|r| r.reference.clone()));
    let samples = s.samples(id, &run).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let span = match (h.from, h.to) {
        (Some(a), Some(b)) => (Seconds(a), Seconds(b)),
        _ => stretch_at(&samples, KilometresPerHour(h.kmh.unwrap_or(80.0)), USUAL_STRETCH),
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

/// Routes of what is heard.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/runs/{run}/{channel}/listen.wav", get(hear))
}
