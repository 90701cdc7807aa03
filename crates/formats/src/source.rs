//! A file of a case, wherever it lies: in memory, on disk, or inside a zip. Read from its start as
//! often as needed, and never whole unless that is asked for.

use crate::case_file::MAX_FILE_BYTES;
use crate::zip_bounds;
use baricord_core::error::Problem;
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

/// Told how many bytes of a file have been read; answers whether to go on.
pub type Watch = Arc<dyn Fn(u64) -> bool + Send + Sync>;

/// A file that can be read more than once.
#[derive(Clone)]
pub struct FileSource {
    place: Place,
    /// Its entry, where the place is a zip.
    entry: Option<String>,
    watch: Option<Watch>,
}

impl std::fmt::Debug for FileSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("FileSource").field("place", &self.place).field("entry", &self.entry).finish_non_exhaustive()
    }
}

/// Bytes between two questions of a watch.
const LOOK: u64 = 1 << 20;

/// A reader that reports how far it is, and stops when asked to.
struct Watched<'a> {
    inner: &'a mut dyn BufRead,
    watch: &'a Watch,
    done: u64,
    next: u64,
}

impl Watched<'_> {
    fn on(&mut self, n: usize) {
        self.done += n as u64;
    }
    fn ask(&mut self) -> std::io::Result<()> {
        if self.done >= self.next {
            self.next = self.done + LOOK;
            if !(self.watch)(self.done) {
                return Err(std::io::Error::other("the reading was cancelled"));
            }
        }
        Ok(())
    }
}

impl Read for Watched<'_> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        self.ask()?;
        let n = self.inner.read(out)?;
        self.on(n);
        Ok(n)
    }
}

impl BufRead for Watched<'_> {
    fn fill_buf(&mut self) -> std::io::Result<&[u8]> {
        self.ask()?;
        self.inner.fill_buf()
    }
    fn consume(&mut self, n: usize) {
        self.on(n);
        self.inner.consume(n);
    }
}

impl From<Vec<u8>> for FileSource {
    fn from(bytes: Vec<u8>) -> Self {
        Self { place: Place::Memory(bytes.into()), entry: None, watch: None }
    }
}

impl From<PathBuf> for FileSource {
    fn from(path: PathBuf) -> Self {
        Self { place: Place::Disk(path), entry: None, watch: None }
    }
}

impl From<TempPath> for FileSource {
    fn from(path: TempPath) -> Self {
        Self { place: Place::Temporary(Arc::new(path)), entry: None, watch: None }
    }
}

/// Refuses what is no plain file: a pipe would be waited for, a device never ends.
pub(crate) fn check_regular(path: &Path) -> Result<(), Problem> {
    let kind = std::fs::metadata(path).map_err(|e| cannot_read(path, &e))?.file_type();
    if kind.is_file() {
        return Ok(());
    }
    Err(Problem::new("not-a-file", format!("{} is no plain file", path.display())).field("file"))
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
        let disk = |p: &Path| {
            check_regular(p)?;
            File::open(p).map(|f| BufReader::with_capacity(1 << 16, f)).map_err(|e| cannot_read(p, &e))
        };
        Ok(match self {
            Place::Memory(b) => Box::new(Cursor::new(&b[..])),
            Place::Disk(p) => Box::new(disk(p)?),
            Place::Temporary(p) => Box::new(disk(p)?),
        })
    }

    fn zip(&self) -> Result<zip::ZipArchive<Box<dyn ReadSeek + '_>>, Problem> {
        zip_bounds::open(self.open()?)
    }

    /// The entry of a zip by its name in the case; a case may lie in one folder of the zip.
    pub(crate) fn entry(&self, name: &str) -> Result<Option<FileSource>, Problem> {
        let mut z = self.zip()?;
        let wanted =
            z.file_names().filter_map(|n| n.ok().map(|n| n.into_owned())).find(|n| n == name || n.ends_with(&format!("/{name}")));
        let Some(wanted) = wanted else { return Ok(None) };
        if z.by_name(&wanted).map_err(|e| zip_error(&e))?.size() > MAX_FILE_BYTES {
            return Err(Problem::new("too-large", format!("{name} is over 2 GiB")).field(name));
        }
        Ok(Some(FileSource { place: self.clone(), entry: Some(wanted), watch: None }))
    }
}

impl FileSource {
    /// The same file, telling `watch` how far a reading is.
    pub fn watched(&self, watch: Watch) -> Self {
        Self { watch: Some(watch), ..self.clone() }
    }

    /// Reads it from its start.
    pub fn read_with<R>(&self, work: impl FnOnce(&mut dyn BufRead) -> Result<R, Problem>) -> Result<R, Problem> {
        let work = |inner: &mut dyn BufRead| match &self.watch {
            Some(watch) => work(&mut Watched { inner, watch, done: 0, next: LOOK }),
            None => work(inner),
        };
        match &self.entry {
            None => work(&mut BufReader::with_capacity(1 << 16, self.place.open()?)),
            Some(name) => {
                let mut z = self.place.zip()?;
                let f = z.by_name(name).map_err(|e| zip_error(&e))?;
                // The size in a zip's directory is a claim, and the sum of all was held to a bound: no entry
                // unpacks to more than it claims.
                let most = f.size().min(MAX_FILE_BYTES);
                work(&mut BufReader::with_capacity(1 << 16, f.take(most)))
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
        self.head(MAX_FILE_BYTES as usize)
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

    /// How long it is, bytes.
    pub fn length(&self) -> Result<u64, Problem> {
        if let Some(name) = &self.entry {
            return Ok(self.place.zip()?.by_name(name).map_err(|e| zip_error(&e))?.size());
        }
        let disk = |p: &Path| std::fs::metadata(p).map(|m| m.len()).map_err(|e| cannot_read(p, &e));
        match &self.place {
            Place::Memory(b) => Ok(b.len() as u64),
            Place::Disk(p) => disk(p),
            Place::Temporary(p) => disk(p),
        }
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
    fn a_watch_hears_how_far_a_reading_is_and_can_stop_it() {
        let heard = Arc::new(std::sync::Mutex::new(vec![]));
        let into = heard.clone();
        let file = FileSource::from(vec![b'x'; 5 << 20]);
        let all = file.watched(Arc::new(move |n| {
            into.lock().unwrap().push(n);
            true
        }));
        assert_eq!(all.bytes().unwrap().len(), 5 << 20);
        let heard = heard.lock().unwrap();
        assert!(heard.len() >= 4 && heard.is_sorted() && *heard.last().unwrap() <= 5 << 20, "{heard:?}");
        let p = file.watched(Arc::new(|n| n < 2 << 20)).bytes().unwrap_err();
        assert!(p.message.contains("cancelled"), "{}", p.message);
    }

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
