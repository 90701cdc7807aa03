//! What a zip must hold to before its directory is read: few entries, a small directory, no more when unpacked
//! than a case can hold. The directory's own figures are claims: reading it is metered as well.

use baricord_core::error::Problem;
use std::io::{Read, Seek, SeekFrom};

/// Most entries of a zip.
pub const MAX_ENTRIES: usize = 5_000;
/// Most bytes that all entries unpack to.
pub const MAX_UNPACKED: u64 = 8 << 30;
/// Most bytes that are read of a zip's directory.
const MAX_DIRECTORY: u64 = 16 << 20;
/// An end record with the longest comment.
const TAIL: u64 = 22 + (1 << 16) + 20;

fn bad_zip(message: impl Into<String>) -> Problem {
    Problem::new("bad-zip", format!("the zip cannot be read: {}", message.into()))
}

/// Refuses a zip whose end says that it holds too much, or that it is of the kind for more than that.
pub fn check_end(file: &mut (impl Read + Seek)) -> Result<(), Problem> {
    let failed = |e: std::io::Error| bad_zip(e.to_string());
    let length = file.seek(SeekFrom::End(0)).map_err(failed)?;
    file.seek(SeekFrom::Start(length.saturating_sub(TAIL))).map_err(failed)?;
    let mut tail = vec![];
    file.take(TAIL).read_to_end(&mut tail).map_err(failed)?;
    // Every record that could be the end: the reader behind may take any of them.
    for at in memchr::memmem::find_iter(&tail, b"PK\x05\x06") {
        let u16_at = |i: usize| tail.get(at + i..at + i + 2).map_or(u16::MAX, |b| u16::from_le_bytes([b[0], b[1]]));
        let entries = usize::from(u16_at(8).max(u16_at(10)));
        let is_zip64 = at >= 20 && tail[at - 20..].starts_with(b"PK\x06\x07");
        if is_zip64 || entries > MAX_ENTRIES {
            return Err(bad_zip(format!("it holds more than {MAX_ENTRIES} entries, or is of the kind for more than that")));
        }
    }
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    Ok(())
}

/// A file whose reading is metered until its directory is known.
pub struct Metered<R> {
    inner: R,
    left: Option<u64>,
}

impl<R> Metered<R> {
    /// Lets so much be read as a directory may take.
    pub fn new(inner: R) -> Self {
        Self { inner, left: Some(MAX_DIRECTORY) }
    }
}

impl<R: Read> Read for Metered<R> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        let n = self.inner.read(out)?;
        if let Some(left) = &mut self.left {
            *left = left.checked_sub(n as u64).ok_or_else(|| std::io::Error::other("its directory is larger than 16 MiB"))?;
        }
        Ok(n)
    }
}

impl<R: Seek> Seek for Metered<R> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        self.inner.seek(to)
    }
}

/// Opens a zip within its bounds.
pub fn open<R: Read + Seek>(mut file: R) -> Result<zip::ZipArchive<R>, Problem> {
    check_end(&mut file)?;
    // The directory is read once under the meter; only then is the file opened for what it holds.
    let config = zip::read::Config { archive_offset: zip::read::ArchiveOffset::Known(0) };
    let failed = |e: zip::result::ZipError| bad_zip(e.to_string());
    let mut directory = zip::ZipArchive::with_config(config, Metered::new(&mut file)).map_err(failed)?;
    let mut unpacked = 0u64;
    for i in 0..directory.len().min(MAX_ENTRIES) {
        unpacked = unpacked.saturating_add(directory.by_index_raw(i).map_err(failed)?.size());
    }
    if directory.len() > MAX_ENTRIES || unpacked > MAX_UNPACKED {
        return Err(bad_zip("it unpacks to more than 8 GiB"));
    }
    drop(directory);
    zip::ZipArchive::with_config(config, file).map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Cursor, Write};

    fn zip_of(entries: usize) -> Vec<u8> {
        let mut z = zip::ZipWriter::new(Cursor::new(vec![]));
        let options = zip::write::SimpleFileOptions::default();
        for i in 0..entries {
            z.start_file(format!("{i}"), options).unwrap();
        }
        z.write_all(b"x").unwrap();
        z.finish().unwrap().into_inner()
    }

    #[test]
    fn entries_are_counted_before_they_are_read() {
        assert_eq!(open(Cursor::new(zip_of(3))).unwrap().len(), 3);
        assert_eq!(open(Cursor::new(zip_of(MAX_ENTRIES + 1))).err().unwrap().code, "bad-zip");
        // An end that claims many, where few are.
        let mut lies = zip_of(2);
        let end = lies.len() - 22;
        lies[end + 8..end + 12].copy_from_slice(&[0xff; 4]);
        assert!(open(Cursor::new(lies)).is_err());
        assert_eq!(open(Cursor::new(b"PK\x03\x04nothing".to_vec())).err().unwrap().code, "bad-zip");
    }

    #[test]
    fn a_directory_has_a_meter() {
        let mut m = Metered::new(std::io::repeat(0));
        let mut out = vec![0; 1 << 20];
        for _ in 0..16 {
            m.read_exact(&mut out).unwrap();
        }
        assert!(m.read_exact(&mut out).is_err());
    }

    #[test]
    fn what_an_entry_claims_to_unpack_to_is_summed() {
        let mut z = zip_of(3);
        // The size in the directory's second entry: 24 bytes into it.
        let entry = memchr::memmem::rfind(&z, b"PK\x01\x02").unwrap();
        z[entry + 24..entry + 28].copy_from_slice(&0xffff_fff0u32.to_le_bytes());
        assert!(open(Cursor::new(z.clone())).is_ok(), "four gigabytes alone are within the sum");
        for entry in memchr::memmem::find_iter(&z.clone(), b"PK\x01\x02") {
            z[entry + 24..entry + 28].copy_from_slice(&0xffff_fff0u32.to_le_bytes());
        }
        assert_eq!(open(Cursor::new(z)).err().unwrap().code, "bad-zip");
    }
}
