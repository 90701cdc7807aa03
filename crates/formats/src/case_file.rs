//! The open case file: a folder, a zip of it, or its `case.json` alone.

use crate::source::{FileSource, Place, cannot_read, check_regular, zip_error};
use baricord_core::error::Problem;
use serde_json::Value;
use std::io::{Seek, Write};
use std::path::{Component, Path, PathBuf};

/// The largest file that is read.
pub const MAX_FILE_BYTES: u64 = 2 << 30;
/// The largest document, bytes.
pub const MAX_DOCUMENT_BYTES: usize = 4 << 20;

/// A case that can be read.
pub struct CaseSource {
    /// The document, whole.
    pub document: Value,
    files: Files,
}

enum Files {
    Folder(PathBuf),
    Zip(Place),
    None,
}

/// A path inside a case: relative, and never above it.
fn inside(name: &str) -> Result<PathBuf, Problem> {
    let p = Path::new(name);
    if name.is_empty() || !p.components().all(|c| matches!(c, Component::Normal(_))) {
        return Err(Problem::new("bad-path", format!("“{name}” does not lie inside the case folder")).field("file"));
    }
    Ok(p.to_path_buf())
}

/// A path below a folder as it really lies there; none where nothing does. A link that leads out of the folder,
/// itself or by a folder on the way, is refused.
fn in_folder(root: &Path, name: &Path) -> Result<Option<PathBuf>, Problem> {
    let full = root.join(name);
    match full.canonicalize() {
        Ok(real) if real.starts_with(root) => Ok(Some(real)),
        Ok(_) => {
            let message = format!("“{}” is a link that leads out of the case folder", name.display());
            Err(Problem::new("bad-path", message).field("file"))
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(e) => Err(cannot_read(&full, &e)),
    }
}

fn parse(text: &str) -> Result<Value, Problem> {
    serde_json::from_str(text.trim_start_matches('\u{feff}'))
        .map_err(|e| Problem::new("not-json", format!("case.json is not JSON: {e}")).line(e.line() as u64))
}

/// The document of a case out of its bytes; `named`: whether they are called case.json.
fn document(bytes: Vec<u8>, named: bool) -> Result<Value, Problem> {
    if bytes.len() > MAX_DOCUMENT_BYTES {
        return Err(Problem::new("too-large", "a case.json may have up to 4 MiB; recordings stand beside it"));
    }
    let text = String::from_utf8(bytes).map_err(|_| match named {
        true => Problem::new("not-json", "case.json is not UTF-8"),
        false => Problem::new("not-a-case", "this is neither a zip nor a case.json in UTF-8"),
    })?;
    if text.trim().is_empty() {
        return Err(Problem::new("empty-file", "the file is empty"));
    }
    parse(&text)
}

impl CaseSource {
    /// Opens a folder, a zip or a `case.json`.
    pub fn open(path: &Path) -> Result<Self, Problem> {
        let meta = std::fs::metadata(path).map_err(|e| cannot_read(path, &e))?;
        if meta.is_dir() {
            let root = path.canonicalize().map_err(|e| cannot_read(path, &e))?;
            let file = in_folder(&root, Path::new("case.json"))?
                .ok_or_else(|| Problem::new("cannot-read", format!("{} holds no case.json", path.display())))?;
            let bytes = FileSource::from(file).head(MAX_DOCUMENT_BYTES + 1)?;
            return Ok(Self { document: document(bytes, true)?, files: Files::Folder(root) });
        }
        Self::from_source(&path.to_path_buf().into())
    }

    /// Opens the bytes of a zip or of a `case.json`.
    pub fn from_bytes(bytes: Vec<u8>) -> Result<Self, Problem> {
        Self::from_source(&bytes.into())
    }

    /// Opens a zip or a `case.json`, wherever it lies.
    pub fn from_source(whole: &FileSource) -> Result<Self, Problem> {
        let place = whole.place()?;
        let zip = whole.head(2)? == b"PK";
        let bytes = if zip {
            place
                .entry("case.json")?
                .ok_or_else(|| Problem::new("not-a-case", "the zip holds no case.json"))?
                .head(MAX_DOCUMENT_BYTES + 1)?
        } else {
            whole.head(MAX_DOCUMENT_BYTES + 1)?
        };
        Ok(Self { document: document(bytes, zip)?, files: if zip { Files::Zip(place) } else { Files::None } })
    }

    /// A file of the case; none where it is missing.
    pub fn file(&self, name: &str) -> Result<Option<FileSource>, Problem> {
        let path = inside(name)?;
        match &self.files {
            Files::Zip(place) => place.entry(name),
            Files::None => Ok(None),
            Files::Folder(root) => {
                let Some(full) = in_folder(root, &path)? else { return Ok(None) };
                check_regular(&full)?;
                let length = std::fs::metadata(&full).map_err(|e| cannot_read(&full, &e))?.len();
                if length > MAX_FILE_BYTES {
                    return Err(Problem::new("too-large", format!("{name} is over 2 GiB")).field("file"));
                }
                Ok(Some(full.into()))
            }
        }
    }
}

/// A document as text, always the same for the same document.
pub fn document_text(document: &Value) -> String {
    let mut text = serde_json::to_string_pretty(document).unwrap_or_default();
    text.push('\n');
    text
}

/// Copies a file of the case by name into a zip.
type Copy<'a> = dyn FnMut(&str, &mut dyn Write) -> Result<(), Problem> + 'a;

fn cannot_write(e: &std::io::Error) -> Problem {
    Problem::new("cannot-write", format!("the zip cannot be written: {e}"))
}

fn pack<W: Write + Seek>(
    mut z: zip::ZipWriter<W>,
    document: &Value,
    names: &[String],
    copy: &mut Copy<'_>,
) -> Result<(), Problem> {
    // A fixed time, so that equal cases are equal files.
    let options = zip::write::SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Deflated)
        .last_modified_time(zip::DateTime::default());
    z.start_file("case.json", options).map_err(|e| zip_error(&e))?;
    z.write_all(document_text(document).as_bytes()).map_err(|e| cannot_write(&e))?;
    for name in names {
        inside(name)?;
        z.start_file(name.as_str(), options).map_err(|e| zip_error(&e))?;
        copy(name, &mut z)?;
    }
    z.finish().map_err(|e| zip_error(&e))?;
    Ok(())
}

/// Writes a case as a zip: the same bytes for the same case, the files copied a piece at a time.
pub fn write_zip<W: Write + Seek>(out: W, document: &Value, files: &[(String, FileSource)]) -> Result<(), Problem> {
    let names: Vec<String> = files.iter().map(|f| f.0.clone()).collect();
    let mut of = files.iter().map(|f| &f.1);
    pack(zip::ZipWriter::new(out), document, &names, &mut |_, out| {
        let Some(file) = of.next() else { return Ok(()) };
        file.read_with(|r| std::io::copy(r, out).map(|_| ()).map_err(|e| cannot_write(&e)))
    })
}

/// Writes a case as a zip into a stream that is not gone back in: nothing of it is kept meanwhile. `piece` gives
/// the pieces of a file by its name, numbered from 0; none after the last.
pub fn stream_zip<W: Write>(
    out: W,
    document: &Value,
    names: &[String],
    mut piece: impl FnMut(&str, i32) -> Result<Option<Vec<u8>>, Problem>,
) -> Result<(), Problem> {
    pack(zip::ZipWriter::new_stream(out), document, names, &mut |name, out| {
        for i in 0.. {
            let Some(bytes) = piece(name, i)? else { break };
            out.write_all(&bytes).map_err(|e| cannot_write(&e))?;
        }
        Ok(())
    })
}

/// Writes a case to a folder or a zip, by its name. Written beside and moved into place, so that a
/// half-written case is never left; an existing path is refused unless `replace`.
pub fn write_case(path: &Path, document: &Value, files: &[(String, FileSource)], replace: bool) -> Result<(), Problem> {
    if path.exists() && !replace {
        return Err(Problem::new("exists", format!("{} exists already", path.display())).field("out"));
    }
    let cannot = |e: std::io::Error| Problem::new("cannot-write", format!("{}: {e}", path.display())).field("out");
    let name = path.file_name().ok_or_else(|| Problem::new("bad-path", "the output needs a name").field("out"))?;
    let part = path.with_file_name(format!(".{}.part", name.to_string_lossy()));
    if path.extension().is_some_and(|e| e == "zip") {
        write_zip(std::fs::File::create(&part).map_err(cannot)?, document, files)?;
        return std::fs::rename(&part, path).map_err(cannot);
    }
    let _ = std::fs::remove_dir_all(&part);
    std::fs::create_dir_all(part.join("recordings")).map_err(cannot)?;
    for (name, file) in files {
        let to = part.join(inside(name)?);
        if let Some(parent) = to.parent() {
            std::fs::create_dir_all(parent).map_err(cannot)?;
        }
        let mut out = std::fs::File::create(to).map_err(cannot)?;
        file.read_with(|r| std::io::copy(r, &mut out).map_err(cannot))?;
    }
    std::fs::write(part.join("case.json"), document_text(document)).map_err(cannot)?;
    if path.exists() {
        std::fs::remove_dir_all(path).map_err(cannot)?;
    }
    std::fs::rename(&part, path).map_err(cannot)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use std::io::Cursor;

    fn zipped(document: &Value, files: &[(String, FileSource)]) -> Result<Vec<u8>, Problem> {
        let mut out = Cursor::new(vec![]);
        write_zip(&mut out, document, files)?;
        Ok(out.into_inner())
    }

    fn doc() -> Value {
        json!({"format": "baricord-case", "version": 1, "zebra": 1.50, "apple": {"kept": [1, 2.0, "x"]}})
    }

    #[test]
    fn out_in_and_out_again_is_byte_for_byte_the_same() {
        let files = vec![("recordings/r1.csv".to_string(), b"t,az\n0,1\n".to_vec().into())];
        let first = zipped(&doc(), &files).unwrap();
        let read = CaseSource::from_bytes(first.clone()).unwrap();
        let file = read.file("recordings/r1.csv").unwrap().unwrap();
        let second = zipped(&read.document, &[("recordings/r1.csv".into(), file)]).unwrap();
        assert_eq!(first, second);
    }

    #[test]
    fn a_streamed_zip_is_the_same_each_time_and_reads_back() {
        let pieces = [b"t,az\n".to_vec(), b"0,1\n".to_vec()];
        let stream = || {
            let mut out = vec![];
            let names = ["recordings/r1.csv".to_string()];
            stream_zip(&mut out, &doc(), &names, |_, i| Ok(pieces.get(i as usize).cloned())).unwrap();
            out
        };
        let first = stream();
        assert_eq!(first, stream());
        let read = CaseSource::from_bytes(first).unwrap();
        assert_eq!(read.document, doc());
        assert_eq!(read.file("recordings/r1.csv").unwrap().unwrap().bytes().unwrap(), b"t,az\n0,1\n");
        let broken = |_: &str, _| Err(Problem::new("gone", "the file is gone"));
        assert_eq!(stream_zip(vec![], &doc(), &["a".to_string()], broken).unwrap_err().code, "gone");
    }

    #[test]
    fn folders_and_lone_documents_open_too() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("case");
        write_case(&path, &doc(), &[("recordings/a.csv".into(), vec![1].into())], false).unwrap();
        let c = CaseSource::open(&path).unwrap();
        assert_eq!(c.document, doc());
        assert_eq!(c.file("recordings/a.csv").unwrap().unwrap().bytes().unwrap(), [1]);
        assert!(c.file("recordings/b.csv").unwrap().is_none());
        assert_eq!(write_case(&path, &doc(), &[], false).unwrap_err().code, "exists");
        let lone = CaseSource::open(&path.join("case.json")).unwrap();
        assert!(lone.file("recordings/a.csv").unwrap().is_none());
    }

    #[test]
    fn nothing_outside_the_case_is_touched() {
        let c = CaseSource::from_bytes(document_text(&doc()).into_bytes()).unwrap();
        for bad in ["../x", "/etc/passwd", "", "a/../../x"] {
            assert_eq!(c.file(bad).unwrap_err().code, "bad-path", "{bad}");
        }
        assert!(zipped(&doc(), &[("../x".into(), vec![].into())]).is_err());
    }

    #[test]
    fn pipes_devices_and_links_that_lead_out_are_refused() {
        use std::os::unix::fs::symlink;
        let dir = tempfile::tempdir().unwrap();
        let (path, outside) = (dir.path().join("case"), dir.path().join("outside"));
        write_case(&path, &doc(), &[("recordings/a.csv".into(), vec![1].into())], false).unwrap();
        std::fs::create_dir(&outside).unwrap();
        std::fs::write(outside.join("secret.csv"), "t,az\n").unwrap();
        let at = |name: &str| path.join("recordings").join(name);
        assert!(std::process::Command::new("mkfifo").arg(at("pipe.csv")).status().unwrap().success());
        symlink(at("a.csv"), at("inside.csv")).unwrap();
        symlink(outside.join("secret.csv"), at("out.csv")).unwrap();
        symlink("/dev/zero", at("zero.csv")).unwrap();
        symlink(&outside, path.join("linked")).unwrap();
        symlink("loop.csv", at("loop.csv")).unwrap();
        let c = CaseSource::open(&path).unwrap();
        let code = |name: &str| c.file(name).err().map(|p| p.code);
        assert_eq!(c.file("recordings/inside.csv").unwrap().unwrap().bytes().unwrap(), [1]);
        assert_eq!(code("recordings/pipe.csv").as_deref(), Some("not-a-file"));
        for out in ["recordings/out.csv", "recordings/zero.csv", "linked/secret.csv"] {
            assert_eq!(code(out).as_deref(), Some("bad-path"), "{out}");
        }
        assert_eq!(code("recordings/loop.csv").as_deref(), Some("cannot-read"));
        assert_eq!(code("recordings").as_deref(), Some("not-a-file"));
        assert!(c.file("recordings/none.csv").unwrap().is_none());
        // The case itself.
        assert_eq!(CaseSource::open(&at("pipe.csv")).err().unwrap().code, "not-a-file");
        assert_eq!(CaseSource::open(Path::new("/dev/zero")).err().unwrap().code, "not-a-file");
        std::fs::remove_file(path.join("case.json")).unwrap();
        symlink("/etc/hostname", path.join("case.json")).unwrap();
        assert_eq!(CaseSource::open(&path).err().unwrap().code, "bad-path");
    }

    #[test]
    fn a_document_has_an_end() {
        let mut d = doc();
        d["x"] = "x".repeat(MAX_DOCUMENT_BYTES).into();
        let bytes = document_text(&d).into_bytes();
        assert_eq!(CaseSource::from_bytes(bytes.clone()).err().unwrap().code, "too-large");
        assert_eq!(CaseSource::from_bytes(zipped(&d, &[]).unwrap()).err().unwrap().code, "too-large");
        let dir = tempfile::tempdir().unwrap();
        std::fs::write(dir.path().join("case.json"), bytes).unwrap();
        assert_eq!(CaseSource::open(dir.path()).err().unwrap().code, "too-large");
    }

    #[test]
    fn what_is_no_case_says_so() {
        let code = |b: &[u8]| CaseSource::from_bytes(b.to_vec()).err().unwrap().code;
        assert_eq!(code(b""), "empty-file");
        assert_eq!(code(b"{\n \"a\": }"), "not-json");
        assert_eq!(code(&[0xff, 0xfe, 0x00]), "not-a-case");
        assert_eq!(code(b"PKnonsense"), "bad-zip");
        assert_eq!(CaseSource::from_bytes(b"{\n \"a\": }".to_vec()).err().unwrap().line, Some(2));
    }
}
