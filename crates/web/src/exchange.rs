//! Cases leave as open files and come back.

use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may_write};
use axum::Router;
use axum::extract::{Multipart, Path};
use axum::http::header;
use axum::response::{IntoResponse, Redirect};
use axum::routing::{get, post};
use baricord_core::case::Case;
use baricord_core::problem::Problem;
use baricord_formats::{CaseSource, pack};
use uuid::Uuid;

/// Largest case that is taken in as one zip.
const MAX_CASE: usize = 512 << 20;

async fn export(m: Member, Path(id): Path<Uuid>) -> Result<impl IntoResponse, Fail> {
    let mut s = m.scope().await?;
    let c = s.case(id).await?;
    let mut files = vec![];
    for name in s.file_names(id).await? {
        if let Some(bytes) = s.file(id, &name).await? {
            files.push((name, bytes));
        }
    }
    let zip = tokio::task::spawn_blocking(move || pack(&c.document, &files)).await.map_err(|e| Fail::Broken(e.to_string()))??;
    let name: String =
        c.case.title.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{}.zip\"", name.trim_matches('-'))),
    ];
    Ok((headers, zip))
}

/// A file field of an upload, read up to a limit.
pub(crate) async fn read_field(field: &mut axum::extract::multipart::Field<'_>, most: usize) -> Result<Vec<u8>, Fail> {
    let mut out = vec![];
    while let Some(chunk) = field
        .chunk()
        .await
        .map_err(|e| if e.status() == 413 { Fail::TooLarge } else { Fail::Problem(Problem::new("upload", e.body_text())) })?
    {
        if out.len() + chunk.len() > most {
            return Err(Fail::TooLarge);
        }
        out.extend_from_slice(&chunk);
    }
    Ok(out)
}

async fn import(m: Member, mut form: Multipart) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let bad = |e: axum::extract::multipart::MultipartError| Fail::Problem(Problem::new("upload", e.body_text()));
    while let Some(mut field) = form.next_field().await.map_err(bad)? {
        if field.name() != Some("case") {
            continue;
        }
        let bytes = read_field(&mut field, MAX_CASE).await?;
        if bytes.is_empty() {
            return Err(Problem::new("empty-file", "choose a case: a zip or a case.json").field("case").into());
        }
        let source = CaseSource::from_bytes(bytes)?;
        let case = Case::from_json(&source.document)?;
        let mut s = m.scope().await?;
        let id = s.add_case(source.document.clone(), "took the case in", &m.person.name).await?;
        let mut names: Vec<String> = vec![];
        for r in &case.recordings {
            names.push(r.file.clone());
            names.extend([&r.speed, &r.rpm].into_iter().flatten().filter_map(|x| x.file.clone()));
        }
        names.sort();
        names.dedup();
        for name in names.iter().filter(|n| !n.is_empty()) {
            if let Some(bytes) = source.file(name)? {
                s.put_file(id, name, &bytes).await?;
            }
        }
        if !case.recordings.is_empty() {
            s.ask_for_analysis(id).await?;
        }
        s.commit().await?;
        return Ok(Redirect::to(&format!("/cases/{id}")));
    }
    Err(Problem::new("missing", "choose a case: a zip or a case.json").field("case").into())
}

/// Out and in.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/export.zip", get(export)).route("/import", post(import))
}
