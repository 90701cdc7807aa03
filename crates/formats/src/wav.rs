//! WAV files: integer of 16, 24, 32 bits, float of 32; channels in the file's order.

use crate::source::FileSource;
use crate::spool::DataBuilder;
use baricord_core::error::Problem;
use baricord_core::signal::Data;

/// Rate and channels, full scale ±1.
pub(crate) struct Wav {
    pub rate: f64,
    pub channels: Vec<Data>,
}

/// What the head of a WAV file says.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct WavProbe {
    /// Channels of the file, 1 to 8.
    pub channels: usize,
    /// Samples a second.
    pub rate_hz: f64,
    /// Bits a sample.
    pub bits: u16,
    /// How long it is, s.
    pub seconds: f64,
}

/// Reads a WAV file; channel i is multiplied by `factor(i)`.
pub(crate) fn read(file: &FileSource, factor: impl Fn(usize) -> f64) -> Result<Wav, Problem> {
    let bad = |e: hound::Error| Problem::new("bad-wav", format!("the WAV file cannot be read: {e}"));
    file.read_with(|r| {
        let mut r = hound::WavReader::new(r).map_err(bad)?;
        let spec = r.spec();
        if spec.channels == 0 || spec.channels > 8 {
            return Err(Problem::new("bad-wav", format!("{} channels; up to 8 are read", spec.channels)).field("channels"));
        }
        if !(8..=1_000_000).contains(&spec.sample_rate) {
            return Err(Problem::new("bad-wav", format!("{} samples a second; 8 to 1 000 000 are read", spec.sample_rate)));
        }
        let n = usize::from(spec.channels);
        let mut channels: Vec<DataBuilder> = (0..n).map(|_| DataBuilder::default()).collect();
        let factors: Vec<f32> = (0..n).map(|i| factor(i) as f32).collect();
        match spec.sample_format {
            hound::SampleFormat::Float => {
                for (i, s) in r.samples::<f32>().enumerate() {
                    channels[i % n].push(s.map_err(bad)? * factors[i % n])?;
                }
            }
            hound::SampleFormat::Int => {
                let full = 2f32.powi(i32::from(spec.bits_per_sample) - 1);
                for (i, s) in r.samples::<i32>().enumerate() {
                    channels[i % n].push(s.map_err(bad)? as f32 / full * factors[i % n])?;
                }
            }
        }
        let channels = channels.into_iter().map(DataBuilder::finish).collect::<Result<_, _>>()?;
        Ok(Wav { rate: f64::from(spec.sample_rate), channels })
    })
}

/// What a file's first bytes say of it; no sample is read.
pub(crate) fn probe(head: &[u8]) -> Result<WavProbe, Problem> {
    let r = hound::WavReader::new(head)
        .map_err(|e| Problem::new("bad-wav", format!("the WAV file cannot be read: {e}")).field("file"))?;
    let spec = r.spec();
    let rate_hz = f64::from(spec.sample_rate);
    Ok(WavProbe {
        channels: usize::from(spec.channels),
        rate_hz,
        bits: spec.bits_per_sample,
        seconds: f64::from(r.duration()) / rate_hz.max(1.0),
    })
}

/// Writes samples (full scale ±1) as a WAV file of 16 bits, one channel.
pub fn write_wav(samples: &[f32], rate_hz: u32) -> Result<Vec<u8>, Problem> {
    let bad = |e: hound::Error| Problem::new("bad-wav", e.to_string());
    let spec = hound::WavSpec { channels: 1, sample_rate: rate_hz, bits_per_sample: 16, sample_format: hound::SampleFormat::Int };
    let mut out = std::io::Cursor::new(vec![]);
    let mut w = hound::WavWriter::new(&mut out, spec).map_err(bad)?;
    for v in samples {
        w.write_sample((v.clamp(-1.0, 1.0) * 32767.0) as i16).map_err(bad)?;
    }
    w.finalize().map_err(bad)?;
    Ok(out.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    fn read(bytes: &[u8]) -> Result<(f64, Vec<Vec<f32>>), Problem> {
        let w = super::read(&bytes.to_vec().into(), |_| 1.0)?;
        Ok((w.rate, w.channels.iter().map(|c| c.to_vec().unwrap()).collect()))
    }

    fn wav(spec: hound::WavSpec, write: impl Fn(&mut hound::WavWriter<&mut Cursor<Vec<u8>>>)) -> Vec<u8> {
        let mut out = Cursor::new(vec![]);
        let mut w = hound::WavWriter::new(&mut out, spec).unwrap();
        write(&mut w);
        w.finalize().unwrap();
        out.into_inner()
    }

    #[test]
    fn integers_and_floats_come_to_full_scale() {
        for bits in [16u16, 24, 32] {
            let spec =
                hound::WavSpec { channels: 2, sample_rate: 4096, bits_per_sample: bits, sample_format: hound::SampleFormat::Int };
            let half = (1i64 << (bits - 2)) as i32;
            let w = read(&wav(spec, |w| {
                w.write_sample(half).unwrap();
                w.write_sample(-half).unwrap();
            }))
            .unwrap();
            assert_eq!((w.1[0][0], w.1[1][0], w.0), (0.5, -0.5, 4096.0));
        }
        let spec =
            hound::WavSpec { channels: 1, sample_rate: 8000, bits_per_sample: 32, sample_format: hound::SampleFormat::Float };
        assert_eq!(read(&wav(spec, |w| w.write_sample(0.25f32).unwrap())).unwrap().1[0], [0.25]);
    }

    #[test]
    fn what_is_written_reads_back() {
        let w = read(&write_wav(&[0.5, -0.25, 2.0], 8000).unwrap()).unwrap();
        assert_eq!((w.0, w.1[0].len()), (8000.0, 3));
        assert!((w.1[0][0] - 0.5).abs() < 1e-3 && (w.1[0][2] - 1.0).abs() < 1e-3);
    }

    #[test]
    fn what_is_no_wav_says_so() {
        assert_eq!(read(b"RIFFnothing").err().unwrap().code, "bad-wav");
    }
}
