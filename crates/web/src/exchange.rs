//! Cases leave as open files and come back.

use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may_write};
use crate::stations::pinned::pinned;
use crate::upload;
use axum::Router;
use axum::body::Body;
use axum::extract::{Multipart, Path};
use axum::http::header;
use axum::response::{IntoResponse, Redirect};
use axum::routing::{get, post};
use baricord_core::case::Case;
use baricord_core::problem::Problem;
use baricord_formats::{CaseSource, write_zip};
use std::io::Seek;
use tokio_util::io::ReaderStream;
use uuid::Uuid;

async fn export(m: Member, Path(id): Path<Uuid>) -> Result<impl IntoResponse, Fail> {
    let mut s = m.scope().await?;
    let c = s.case(id).await?;
    let mut files = vec![];
    for name in s.file_names(id).await? {
        if let Some(file) = s.file(id, &name).await? {
            files.push((name, file));
        }
    }
    drop(s);
    let broken = |e: &dyn std::fmt::Display| Fail::Broken(e.to_string());
    let zip = tempfile::tempfile().map_err(|e| broken(&e))?;
    let mut out = zip.try_clone().map_err(|e| broken(&e))?;
    let document = c.document;
    let length = tokio::task::spawn_blocking(move || -> Result<u64, Problem> {
        write_zip(&mut out, &document, &files)?;
        let failed = |e: std::io::Error| Problem::new("cannot-write", e.to_string());
        let length = out.stream_position().map_err(failed)?;
        out.rewind().map_err(failed)?;
        Ok(length)
    })
    .await
    .map_err(|e| broken(&e))??;
    let name: String =
        c.case.title.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_string()),
        (header::CONTENT_LENGTH, length.to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{}.zip\"", name.trim_matches('-'))),
    ];
    Ok((headers, Body::from_stream(ReaderStream::with_capacity(tokio::fs::File::from_std(zip), 1 << 16))))
}

async fn import(m: Member, form: Multipart) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let (_, upload) = upload::form(form, "case", crate::MAX_UPLOAD).await?;
    let upload = upload
        .ok_or_else(|| Problem::new("empty-file", "choose a case that is not empty: a zip or a case.json").field("case"))?;
    let source = tokio::task::spawn_blocking(move || CaseSource::from_source(&upload.file))
        .await
        .map_err(|e| Fail::Broken(e.to_string()))??;
    let case = Case::from_json(&source.document)?;
    let mut s = m.scope().await?;
    let id = s.add_case(source.document.clone(), "took the case in", &m.person.name).await?;
    let mut names: Vec<String> = vec![];
    for r in &case.recordings {
        names.push(r.file.clone());
        names.extend([&r.speed, &r.rpm].into_iter().flatten().filter_map(|x| x.file.clone()));
    }
    names.extend(pinned(&source.document).into_iter().map(|p| p.file).filter(|f| f.starts_with("pinned/")));
    names.sort();
    names.dedup();
    for name in names.iter().filter(|n| !n.is_empty()) {
        if let Some(file) = source.file(name)? {
            s.put_file(id, name, &file).await?;
        }
    }
    if !case.recordings.is_empty() {
        s.ask_for_analysis(id).await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}")))
}

/// Out and in.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/export.zip", get(export)).route("/import", post(import))
}
