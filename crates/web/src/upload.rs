//! What comes in over HTTP as a file: streamed to a temporary file, bounded, never whole in memory.

use crate::error::PageError;
use crate::request_body::check_text;
use crate::stations::form::FormFields;
use axum::extract::Multipart;
use axum::extract::multipart::{Field, MultipartError};
use baricord_core::error::Problem;
use baricord_formats::FileSource;
use baricord_store::StoreError;
use tokio::io::AsyncWriteExt;

/// A file that has come in.
pub struct Upload {
    /// Its name where it came from.
    pub name: String,
    /// What it holds.
    pub file: FileSource,
}

fn broken(e: &MultipartError) -> PageError {
    if e.status() == 413 { PageError::TooLarge } else { Problem::new("upload", e.body_text()).into() }
}

/// What the temporary folder answered.
fn disk(e: std::io::Error) -> PageError {
    StoreError::disk("an upload", &e).into()
}

/// Largest text field of a form with a file.
const MAX_TEXT: usize = 64 << 10;

/// A form with one file field: its other fields, and the file where there is one that is not empty.
pub async fn form(mut form: Multipart, file_field: &str, most: usize) -> Result<(FormFields, Option<Upload>), PageError> {
    let (mut fields, mut upload) = (vec![], None);
    while let Some(mut field) = form.next_field().await.map_err(|e| broken(&e))? {
        let name = field.name().unwrap_or_default().to_string();
        if name == file_field {
            upload = receive(&mut field, most).await?;
        } else {
            let mut text = vec![];
            while let Some(chunk) = field.chunk().await.map_err(|e| broken(&e))? {
                if text.len() + chunk.len() > MAX_TEXT {
                    return Err(Problem::new("too-long", format!("{name} is too long")).field(name).into());
                }
                text.extend_from_slice(&chunk);
            }
            let text = String::from_utf8_lossy(&text).into_owned();
            check_text(&name, &text)?;
            fields.push((name, text));
        }
    }
    Ok((FormFields::metric(fields), upload))
}

async fn receive(field: &mut Field<'_>, most: usize) -> Result<Option<Upload>, PageError> {
    let name = field.file_name().unwrap_or_default().to_string();
    check_text("file", &name)?;
    let file = tempfile::NamedTempFile::new().map_err(disk)?;
    let mut out = tokio::fs::File::from_std(file.reopen().map_err(disk)?);
    let mut length = 0;
    while let Some(chunk) = field.chunk().await.map_err(|e| broken(&e))? {
        length += chunk.len();
        if length > most {
            return Err(PageError::TooLarge);
        }
        out.write_all(&chunk).await.map_err(disk)?;
    }
    out.flush().await.map_err(disk)?;
    Ok((length > 0).then(|| Upload { name, file: file.into_temp_path().into() }))
}
