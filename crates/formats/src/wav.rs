//! WAV files: integer of 16, 24, 32 bits, float of 32; channels in the file's order.

use baricord_core::problem::Problem;
use std::io::Cursor;

/// Rate and channels, full scale ±1.
pub(crate) struct Wav {
    pub rate: f64,
    pub channels: Vec<Vec<f32>>,
}

/// Reads a WAV file.
pub(crate) fn read(bytes: &[u8]) -> Result<Wav, Problem> {
    let bad = |e: hound::Error| Problem::new("bad-wav", format!("the WAV file cannot be read: {e}"));
    if bytes.is_empty() {
        return Err(Problem::new("empty-file", "the file is empty"));
    }
    let mut r = hound::WavReader::new(Cursor::new(bytes)).map_err(bad)?;
    let spec = r.spec();
    if spec.channels == 0 || spec.channels > 8 {
        return Err(Problem::new("bad-wav", format!("{} channels; up to 8 are read", spec.channels)).field("channels"));
    }
    let n = usize::from(spec.channels);
    let mut channels = vec![vec![]; n];
    let mut put = |i: usize, v: f32| channels[i % n].push(v);
    match spec.sample_format {
        hound::SampleFormat::Float => {
            for (i, s) in r.samples::<f32>().enumerate() {
                put(i, s.map_err(bad)?);
            }
        }
        hound::SampleFormat::Int => {
            let full = 2f32.powi(i32::from(spec.bits_per_sample) - 1);
            for (i, s) in r.samples::<i32>().enumerate() {
                put(i, s.map_err(bad)? as f32 / full);
            }
        }
    }
    Ok(Wav { rate: f64::from(spec.sample_rate), channels })
}

#[cfg(test)]
mod tests {
    use super::*;

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
            assert_eq!((w.channels[0][0], w.channels[1][0], w.rate), (0.5, -0.5, 4096.0));
        }
        let spec =
            hound::WavSpec { channels: 1, sample_rate: 8000, bits_per_sample: 32, sample_format: hound::SampleFormat::Float };
        assert_eq!(read(&wav(spec, |w| w.write_sample(0.25f32).unwrap())).unwrap().channels[0], [0.25]);
    }

    #[test]
    fn what_is_no_wav_says_so() {
        assert_eq!(read(b"").err().unwrap().code, "empty-file");
        assert_eq!(read(b"RIFFnothing").err().unwrap().code, "bad-wav");
    }
}
