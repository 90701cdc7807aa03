//! A file of a case, wherever it lies: in memory, on disk, or inside a zip. Read from its start as
//! often as needed, and never whole unless that is asked for.

use crate::case_file::MAX_FILE;
use baricord_core::problem::Problem;
use std::fs::File;
use std::io::{BufRead, BufReader, Cursor, Read, Seek};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tempfile::TempPath;

/// Where bytes lie.
#[derive(Clone, Debug)]
pub(crate) enum Place {
    Memory(Arc<[u8]>),
    Disk(PathBuf),
    /// Gone with the last that reads it.
    Temporary(Arc<TempPath>),
}

/// A file that can be read more than once.
#[derive(Clone, Debug)]
pub struct FileSource {
    place: Place,
    /// Its entry, where the place is a zip.
    entry: Option<String>,
}

impl From<Vec<u8>> for FileSource {
    fn from(bytes: Vec<u8>) -> Self {
        Self { place: Place::Memory(bytes.into()), entry: None }
    }
}

impl From<PathBuf> for FileSource {
    fn from(path: PathBuf) -> Self {
        Self { place: Place::Disk(path), entry: None }
    }
}

impl From<TempPath> for FileSource {
    fn from(path: TempPath) -> Self {
        Self { place: Place::Temporary(Arc::new(path)), entry: None }
    }
}

pub(crate) fn cannot_read(path: &Path, e: &std::io::Error) -> Problem {
    Problem::new("cannot-read", format!("{}: {e}", path.display()))
}

pub(crate) fn zip_error(e: &zip::result::ZipError) -> Problem {
    Problem::new("bad-zip", format!("the zip cannot be read: {e}"))
}

trait ReadSeek: Read + Seek {}
impl<T: Read + Seek> ReadSeek for T {}

impl Place {
    fn open(&self) -> Result<Box<dyn ReadSeek + '_>, Problem> {
        let disk = |p: &Path| File::open(p).map(|f| BufReader::with_capacity(1 << 16, f)).map_err(|e| cannot_read(p, &e));
        Ok(match self {
            Place::Memory(b) => Box::new(Cursor::new(&b[..])),
            Place::Disk(p) => Box::new(disk(p)?),
            Place::Temporary(p) => Box::new(disk(p)?),
        })
    }

    fn zip(&self) -> Result<zip::ZipArchive<Box<dyn ReadSeek + '_>>, Problem> {
        zip::ZipArchive::new(self.open()?).map_err(|e| zip_error(&e))
    }

    /// The entry of a zip by its name in the case; a case may lie in one folder of the zip.
    pub(crate) fn entry(&self, name: &str) -> Result<Option<FileSource>, Problem> {
        let mut z = self.zip()?;
        let wanted =
            z.file_names().filter_map(|n| n.ok().map(|n| n.into_owned())).find(|n| n == name || n.ends_with(&format!("/{name}")));
        let Some(wanted) = wanted else { return Ok(None) };
        if z.by_name(&wanted).map_err(|e| zip_error(&e))?.size() > MAX_FILE {
            return Err(Problem::new("too-large", format!("{name} is over 2 GiB")).field(name));
        }
        Ok(Some(FileSource { place: self.clone(), entry: Some(wanted) }))
    }
}

impl FileSource {
    /// Reads it from its start.
    pub fn read_with<R>(&self, work: impl FnOnce(&mut dyn BufRead) -> Result<R, Problem>) -> Result<R, Problem> {
        match &self.entry {
            None => work(&mut BufReader::with_capacity(1 << 16, self.place.open()?)),
            Some(name) => {
                let mut z = self.place.zip()?;
                let f = z.by_name(name).map_err(|e| zip_error(&e))?;
                // The size in a zip's directory is a claim: what is unpacked is bounded too.
                work(&mut BufReader::with_capacity(1 << 16, f.take(MAX_FILE)))
            }
        }
    }

    /// Where it lies, as a zip of its own; a zip inside a zip is none.
    pub(crate) fn place(&self) -> Result<Place, Problem> {
        match &self.entry {
            None => Ok(self.place.clone()),
            Some(name) => Err(Problem::new("bad-zip", format!("{name} lies in a zip itself"))),
        }
    }

    /// Its first bytes, at most so many.
    pub fn head(&self, most: usize) -> Result<Vec<u8>, Problem> {
        self.read_with(|r| {
            let mut out = vec![];
            r.take(most as u64).read_to_end(&mut out).map_err(|e| self.broken(&e))?;
            Ok(out)
        })
    }

    /// All of it; for files that are small by their nature.
    pub fn bytes(&self) -> Result<Vec<u8>, Problem> {
        self.head(MAX_FILE as usize)
    }

    /// Hands it on in pieces of one size, the last one shorter; `put` answers whether to go on.
    pub fn pieces(&self, size: usize, mut put: impl FnMut(Vec<u8>) -> bool) -> Result<(), Problem> {
        self.read_with(|r| {
            loop {
                let mut piece = Vec::with_capacity(size);
                r.take(size as u64).read_to_end(&mut piece).map_err(|e| self.broken(&e))?;
                if piece.is_empty() || !put(piece) {
                    return Ok(());
                }
            }
        })
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> Result<bool, Problem> {
        Ok(self.head(1)?.is_empty())
    }

    pub(crate) fn broken(&self, e: &std::io::Error) -> Problem {
        match (&self.place, &self.entry) {
            (_, Some(name)) => Problem::new("bad-zip", format!("{name}: {e}")),
            (Place::Disk(p), None) => cannot_read(p, e),
            (_, None) => Problem::new("cannot-read", e.to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_reads_the_same_from_memory_and_disk_twice() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("x.csv");
        std::fs::write(&path, b"t,az\n0,1\n").unwrap();
        for f in [FileSource::from(path), FileSource::from(b"t,az\n0,1\n".to_vec())] {
            assert_eq!(f.head(4).unwrap(), b"t,az");
            assert_eq!(f.bytes().unwrap(), b"t,az\n0,1\n");
            assert!(!f.is_empty().unwrap());
        }
        assert_eq!(FileSource::from(dir.path().join("none")).bytes().unwrap_err().code, "cannot-read");
    }
}
