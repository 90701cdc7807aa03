//! Pictures and spoken notes, pinned to part and test: taken with the phone's own camera and recorder.

use crate::App;
use crate::auth::{Member, may_write};
use crate::edits::keep;
use crate::error::PageError;
use crate::upload;
use axum::Router;
use axum::extract::{DefaultBodyLimit, Multipart, Path};
use axum::http::header;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use baricord_core::edit::act::{CaseAct, NewAttachment};
use baricord_core::error::Problem;
use baricord_store::Scope;
use uuid::Uuid;

/// Largest picture or note, bytes.
pub const MOST: usize = 25_000_000;
/// Bytes by which a file's kind is known.
const HEAD: usize = 8192;
/// What may be pinned: how it is known by its first bytes, its ending, how it is served, whether it is a picture.
const KINDS: &[(&str, &str, bool)] = &[
    ("image/jpeg", "jpg", true),
    ("image/png", "png", true),
    ("image/webp", "webp", true),
    ("audio/mpeg", "mp3", false),
    ("audio/m4a", "m4a", false),
    ("audio/ogg", "ogg", false),
    ("audio/x-wav", "wav", false),
    ("audio/x-flac", "flac", false),
    ("audio/aac", "aac", false),
    ("audio/amr", "amr", false),
    ("video/mp4", "mp4", false),
    ("video/webm", "webm", false),
    ("video/3gpp", "3gp", false),
];

/// A picture or a spoken note comes in.
async fn pin(m: Member, Path(id): Path<Uuid>, form: Multipart) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let too_large = || Problem::new("too-large", "a picture or a spoken note may have up to 25 MB").field("file");
    let (f, file) = match upload::form(form, "file", MOST).await {
        Err(PageError::TooLarge) => return Err(too_large().into()),
        other => other?,
    };
    let file = file.ok_or_else(|| Problem::new("empty-file", "take a picture or record a note first").field("file"))?;
    let head = file.file.head(HEAD)?;
    let kind = infer::get(&head).and_then(|t| KINDS.iter().find(|k| k.0 == t.mime_type()));
    let message =
        "this is no picture (JPEG, PNG, WebP) and no sound (MP3, M4A, Ogg, WAV, FLAC, AAC, AMR, MP4, WebM) that a browser plays";
    let (_, ending, is_picture) = kind.ok_or_else(|| Problem::new("unknown-kind", message).field("file"))?;
    let page = if f.text("back") == Some("listen") { "lift/listen" } else { "lift" };
    let back = Redirect::to(&format!("/cases/{id}/{page}?s={}", f.text("symptom").unwrap_or_default()));
    let mut s = m.scope().await?;
    let taken = s.case(id).await?.case().pinned.len();
    let name = format!("pinned/{:03}-{}.{ending}", taken + 1, &Uuid::now_v7().simple().to_string()[20..]);
    let attachment = NewAttachment { file: name.clone(), picture: *is_picture, test: f.owned("test"), at: f.owned("at") };
    // One that is here already, and sent again, brings no second file.
    if keep(&m, &mut s, id, &f, CaseAct::Attach(attachment)).await?.is_some() {
        s.put_file(id, &name, &file.file).await?;
    }
    s.commit().await?;
    Ok(back)
}

async fn show(m: Member, Path((id, file)): Path<(Uuid, String)>) -> Result<Response, PageError> {
    serve(m.scope().await?, id, &file).await
}

/// A picture or a note, as it came.
pub async fn serve(mut s: Scope, id: Uuid, file: &str) -> Result<Response, PageError> {
    let name = format!("pinned/{file}");
    let c = s.case(id).await?;
    let ending = file.rsplit('.').next().unwrap_or_default();
    let kind = KINDS.iter().find(|k| k.1 == ending).filter(|_| c.case().pinned.iter().any(|p| p.file == name));
    let (Some(kind), Some(data)) = (kind, s.file(id, &name).await?) else { return Err(PageError::NotFound) };
    let bytes = tokio::task::spawn_blocking(move || data.bytes()).await.map_err(|e| PageError::Broken(e.to_string()))??;
    let headers = [
        (header::CONTENT_TYPE, kind.0),
        (header::CACHE_CONTROL, "private, max-age=31536000, immutable"),
        (header::CONTENT_SECURITY_POLICY, "default-src 'none'; sandbox"),
    ];
    Ok((headers, bytes).into_response())
}

/// Routes of what is pinned.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/pinned/{file}", get(show))
}

/// The route by which it comes.
pub fn uploads() -> Router<App> {
    // A little more than the largest, so that it is refused in words.
    let room = DefaultBodyLimit::max(MOST + (1 << 20));
    Router::new().route("/cases/{id}/pinned", post(pin).layer(room))
}
