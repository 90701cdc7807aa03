//! Rows and samples that may be too many for memory: kept there while they are few, on disk after that.

use baricord_core::error::Problem;
use baricord_core::signal::{Data, Series};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use tempfile::SpooledTempFile;

/// Bytes of a spool that stay in memory.
const MEMORY_BYTES: usize = 24 << 20;
/// Samples of a channel that stay in memory.
const MEMORY_SAMPLES: usize = 1 << 20;

fn full(e: &std::io::Error) -> Problem {
    Problem::new("no-room", format!("the temporary folder cannot take the recording: {e}"))
}

/// Rows of one time and a few values, written once and read as often as needed.
pub(crate) struct Rows {
    file: BufWriter<SpooledTempFile>,
    values: usize,
    count: u64,
}

impl Rows {
    pub fn new(values: usize) -> Self {
        Self { file: BufWriter::with_capacity(1 << 16, SpooledTempFile::new(MEMORY_BYTES)), values, count: 0 }
    }

    pub fn push(&mut self, time: f64, values: impl Iterator<Item = f32>) -> Result<(), Problem> {
        self.count += 1;
        self.file.write_all(&time.to_le_bytes()).map_err(|e| full(&e))?;
        for v in values {
            self.file.write_all(&v.to_le_bytes()).map_err(|e| full(&e))?;
        }
        Ok(())
    }

    pub fn len(&self) -> u64 {
        self.count
    }

    /// Every row from the first on.
    pub fn each(&mut self, mut row: impl FnMut(f64, &[f32]) -> Result<(), Problem>) -> Result<(), Problem> {
        self.file.flush().map_err(|e| full(&e))?;
        let file = self.file.get_mut();
        file.seek(SeekFrom::Start(0)).map_err(|e| full(&e))?;
        let mut r = BufReader::with_capacity(1 << 16, &mut *file);
        let mut bytes = vec![0u8; 8 + 4 * self.values];
        let mut values = vec![0f32; self.values];
        for _ in 0..self.count {
            r.read_exact(&mut bytes).map_err(|e| full(&e))?;
            let (time, rest) = bytes.split_at(8);
            for (v, b) in values.iter_mut().zip(rest.as_chunks::<4>().0) {
                *v = f32::from_le_bytes(*b);
            }
            row(f64::from_le_bytes(time.try_into().unwrap_or_default()), &values)?;
        }
        Ok(())
    }
}

/// The samples of a channel as they come in.
#[derive(Default)]
pub struct DataBuilder {
    memory: Vec<f32>,
    file: Option<BufWriter<File>>,
    count: usize,
}

impl DataBuilder {
    /// One more sample.
    pub fn push(&mut self, v: f32) -> Result<(), Problem> {
        self.count += 1;
        if let Some(f) = &mut self.file {
            return f.write_all(&v.to_le_bytes()).map_err(|e| full(&e));
        }
        self.memory.push(v);
        if self.memory.len() >= MEMORY_SAMPLES {
            let mut f = BufWriter::with_capacity(1 << 16, tempfile::tempfile().map_err(|e| full(&e))?);
            for v in std::mem::take(&mut self.memory) {
                f.write_all(&v.to_le_bytes()).map_err(|e| full(&e))?;
            }
            self.file = Some(f);
        }
        Ok(())
    }

    /// The channel.
    pub fn finish(self) -> Result<Data, Problem> {
        Ok(match self.file {
            None => self.memory.into(),
            Some(f) => {
                let file = f.into_inner().map_err(|e| full(e.error()))?;
                Data::new(OnDisk { file, count: self.count })
            }
        })
    }
}

/// Samples in a temporary file that is gone with its last reader.
#[derive(Debug)]
struct OnDisk {
    file: File,
    count: usize,
}

impl Series for OnDisk {
    fn len(&self) -> usize {
        self.count
    }
    fn read(&self, from: usize, out: &mut [f32]) -> Result<(), Problem> {
        let n = out.len().min(self.count.saturating_sub(from));
        let mut bytes = vec![0u8; 4 * n];
        self.file.read_exact_at(&mut bytes, 4 * from as u64).map_err(|e| full(&e))?;
        for (v, b) in out.iter_mut().zip(bytes.as_chunks::<4>().0) {
            *v = f32::from_le_bytes(*b);
        }
        out[n..].fill(0.0);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_back_in_order_twice() {
        let mut r = Rows::new(2);
        for i in 0..1000 {
            r.push(f64::from(i), [i as f32, f32::NAN].into_iter()).unwrap();
        }
        for _ in 0..2 {
            let mut n = 0;
            r.each(|t, v| {
                assert_eq!((t, v[0], v[1].is_nan()), (f64::from(n), n as f32, true));
                n += 1;
                Ok(())
            })
            .unwrap();
            assert_eq!(n, 1000);
        }
    }

    #[test]
    fn a_long_channel_reads_from_disk_as_from_memory() {
        let mut b = DataBuilder::default();
        let n = MEMORY_SAMPLES + 1000;
        for i in 0..n {
            b.push((i % 1009) as f32).unwrap();
        }
        let d = b.finish().unwrap();
        assert_eq!(d.len(), n);
        let mut out = [0.0; 7];
        d.read(n - 3, &mut out).unwrap();
        let want: Vec<f32> = (n - 3..n).map(|i| (i % 1009) as f32).chain([0.0; 4]).collect();
        assert_eq!(out.to_vec(), want);
        d.read(12_345, &mut out).unwrap();
        assert_eq!(out[0], (12_345 % 1009) as f32);
    }
}
