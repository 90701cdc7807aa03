//! Files as they came, samples as they were read, and what they say.

use crate::{Scope, Store, StoreError};
use baricord_core::analysis::{Analysis, OrderMap};
use baricord_core::proof::verify::Verification;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_formats::{DataBuilder, FileSource};
use flate2::Compression;
use flate2::read::ZlibDecoder;
use flate2::write::ZlibEncoder;
use serde::{Deserialize, Serialize};
use std::io::{Read, Write};
use tokio::io::AsyncWriteExt;
use uuid::Uuid;

/// Bytes of a file in one row.
const PIECE: usize = 1 << 20;
/// Samples of a channel in one row.
const CHUNK: usize = 1 << 17;

#[derive(Serialize, Deserialize)]
struct Column {
    name: String,
    quantity: Quantity,
    unit: String,
}

#[derive(Serialize, Deserialize)]
struct Reference {
    gaps: Vec<(usize, usize)>,
    speed: Vec<(f64, f64)>,
    rpm: Vec<(f64, f64)>,
}

fn json<T: Serialize>(x: &T) -> Result<String, StoreError> {
    serde_json::to_string(x).map_err(|e| StoreError::Broken(e.to_string()))
}

fn read<T: for<'a> Deserialize<'a>>(text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|e| StoreError::Broken(e.to_string()))
}

fn squeeze(samples: &[f32]) -> Result<Vec<u8>, StoreError> {
    let mut z = ZlibEncoder::new(vec![], Compression::fast());
    let bytes: Vec<u8> = samples.iter().flat_map(|v| v.to_le_bytes()).collect();
    z.write_all(&bytes).and_then(|()| z.finish()).map_err(|e| StoreError::Broken(e.to_string()))
}

fn unsqueeze(data: &[u8]) -> Result<Vec<f32>, StoreError> {
    let mut bytes = vec![];
    ZlibDecoder::new(data).read_to_end(&mut bytes).map_err(|e| StoreError::Broken(e.to_string()))?;
    Ok(bytes.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)).collect())
}

/// A file put together on the disk, gone with its last reader.
pub(crate) struct OnDisk {
    name: String,
    disk: tempfile::NamedTempFile,
    out: tokio::fs::File,
}

impl OnDisk {
    fn broken(name: &str, e: &std::io::Error) -> StoreError {
        StoreError::disk(&format!("the temporary folder cannot take {name}"), e)
    }
    pub fn new(name: &str) -> Result<Self, StoreError> {
        let broken = |e: std::io::Error| Self::broken(name, &e);
        let disk = tempfile::NamedTempFile::new().map_err(broken)?;
        let out = tokio::fs::File::from_std(disk.reopen().map_err(broken)?);
        Ok(Self { name: name.to_string(), disk, out })
    }
    pub async fn add(&mut self, piece: &[u8]) -> Result<(), StoreError> {
        self.out.write_all(piece).await.map_err(|e| Self::broken(&self.name, &e))
    }
    pub async fn finish(mut self) -> Result<FileSource, StoreError> {
        self.out.flush().await.map_err(|e| Self::broken(&self.name, &e))?;
        Ok(self.disk.into_temp_path().into())
    }
}

impl Store {
    /// A piece of a file of a case, numbered from 0, read on its own: no transaction stands open between two.
    pub async fn file_piece(&self, workshop: Uuid, case: Uuid, name: &str, piece: i32) -> Result<Option<Vec<u8>>, StoreError> {
        let mut s = self.scope(workshop).await?;
        let data = s.piece(case, name, piece).await?;
        s.commit().await?;
        Ok(data)
    }
}

impl Scope {
    /// Keeps a piece of a file as it came. Pieces are numbered from 0.
    pub async fn put_piece(&mut self, case: Uuid, name: &str, piece: i32, data: &[u8]) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO case_blob (workshop_id, case_id, name, piece, data) VALUES ($1, $2, $3, $4, $5)")
            .bind(self.workshop())
            .bind(case)
            .bind(name)
            .bind(piece)
            .bind(data)
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }

    /// Keeps a file, a piece at a time.
    pub async fn put_file(&mut self, case: Uuid, name: &str, file: &FileSource) -> Result<(), StoreError> {
        let (to, mut pieces) = tokio::sync::mpsc::channel::<Vec<u8>>(2);
        let file = file.clone();
        let reading = tokio::task::spawn_blocking(move || file.pieces(PIECE, |p| to.blocking_send(p).is_ok()));
        let mut i = 0;
        while let Some(piece) = pieces.recv().await {
            self.put_piece(case, name, i, &piece).await?;
            i += 1;
        }
        Ok(reading.await.map_err(|e| StoreError::Broken(e.to_string()))??)
    }

    /// A piece of a file; none after the last.
    async fn piece(&mut self, case: Uuid, name: &str, piece: i32) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(sqlx::query_scalar("SELECT data FROM case_blob WHERE case_id = $1 AND workshop_id = $2 AND name = $3 AND piece = $4")
            .bind(case)
            .bind(self.workshop())
            .bind(name)
            .bind(piece)
            .fetch_optional(&mut *self.tx)
            .await?)
    }

    /// A file as it came, as a file that is gone with its last reader; none where there is none. What
    /// is small stays in memory.
    pub async fn file(&mut self, case: Uuid, name: &str) -> Result<Option<FileSource>, StoreError> {
        let Some(first) = self.piece(case, name, 0).await? else { return Ok(None) };
        let Some(second) = self.piece(case, name, 1).await? else { return Ok(Some(first.into())) };
        let mut disk = OnDisk::new(name)?;
        disk.add(&first).await?;
        let (mut piece, mut i) = (Some(second), 2);
        while let Some(p) = piece {
            disk.add(&p).await?;
            piece = self.piece(case, name, i).await?;
            i += 1;
        }
        disk.finish().await.map(Some)
    }

    /// Names of the files of a case.
    pub async fn file_names(&mut self, case: Uuid) -> Result<Vec<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT DISTINCT name FROM case_blob WHERE case_id = $1 AND workshop_id = $2 ORDER BY name")
            .bind(case)
            .bind(self.workshop())
            .fetch_all(&mut *self.tx)
            .await?)
    }

    /// Forgets a file.
    pub async fn remove_file(&mut self, case: Uuid, name: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM case_blob WHERE case_id = $1 AND workshop_id = $2 AND name = $3")
            .bind(case)
            .bind(self.workshop())
            .bind(name)
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }

    /// Keeps a recording's samples under its name in the case.
    pub async fn put_samples(&mut self, case: Uuid, name: &str, s: &Samples) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM recording WHERE case_id = $1 AND workshop_id = $2 AND name = $3")
            .bind(case)
            .bind(self.workshop())
            .bind(name)
            .execute(&mut *self.tx)
            .await?;
        let id = Uuid::now_v7();
        let columns: Vec<Column> =
            s.channels.iter().map(|c| Column { name: c.name.clone(), quantity: c.quantity, unit: c.unit.clone() }).collect();
        let reference =
            Reference { gaps: s.gaps.iter().map(|g| (g.start, g.end)).collect(), speed: s.speed.clone(), rpm: s.rpm.clone() };
        sqlx::query(
            "INSERT INTO recording (id, workshop_id, case_id, name, rate_hz, start_s, channels, reference, warnings, refused)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(case)
        .bind(name)
        .bind(s.rate.get())
        .bind(s.start.get())
        .bind(json(&columns)?)
        .bind(json(&reference)?)
        .bind(json(&s.warnings)?)
        .bind(s.refused)
        .execute(&mut *self.tx)
        .await?;
        for (c, channel) in s.channels.iter().enumerate() {
            let mut part = vec![0.0; CHUNK.min(channel.data.len())];
            for (i, from) in (0..channel.data.len()).step_by(CHUNK).enumerate() {
                part.truncate(channel.data.len() - from);
                channel.data.read(from, &mut part)?;
                sqlx::query(
                    "INSERT INTO recording_chunk (workshop_id, recording_id, channel, piece, data) VALUES ($1, $2, $3, $4, $5)",
                )
                .bind(self.workshop())
                .bind(id)
                .bind(c as i32)
                .bind(i as i32)
                .bind(squeeze(&part)?)
                .execute(&mut *self.tx)
                .await?;
            }
        }
        Ok(())
    }

    /// A recording's samples.
    pub async fn samples(&mut self, case: Uuid, name: &str) -> Result<Option<Samples>, StoreError> {
        type Row = (Uuid, f64, f64, String, String, String, bool);
        let row: Option<Row> = sqlx::query_as(
            "SELECT id, rate_hz, start_s, channels, reference, warnings, refused FROM recording
             WHERE case_id = $1 AND workshop_id = $2 AND name = $3",
        )
        .bind(case)
        .bind(self.workshop())
        .bind(name)
        .fetch_optional(&mut *self.tx)
        .await?;
        let Some((id, rate, start, channels, reference, warnings, refused)) = row else { return Ok(None) };
        let columns: Vec<Column> = read(&channels)?;
        let reference: Reference = read(&reference)?;
        let mut out = Samples {
            rate: Hz(rate),
            start: Seconds(start),
            channels: vec![],
            gaps: reference.gaps.into_iter().map(|(a, b)| a..b).collect(),
            speed: reference.speed,
            rpm: reference.rpm,
            warnings: read(&warnings)?,
            refused,
        };
        for (c, column) in columns.into_iter().enumerate() {
            let mut data = DataBuilder::default();
            for i in 0.. {
                let chunk: Option<Vec<u8>> = sqlx::query_scalar(
                    "SELECT data FROM recording_chunk WHERE recording_id = $1 AND workshop_id = $2 AND channel = $3 AND piece = $4",
                )
                .bind(id)
                .bind(self.workshop())
                .bind(c as i32)
                .bind(i)
                .fetch_optional(&mut *self.tx)
                .await?;
                let Some(chunk) = chunk else { break };
                unsqueeze(&chunk)?.into_iter().try_for_each(|v| data.push(v))?;
            }
            out.channels.push(Channel { name: column.name, quantity: column.quantity, unit: column.unit, data: data.finish()? });
        }
        Ok(Some(out))
    }

    /// Keeps what the recordings of a case said at a version; whether it was kept. What was read of a newer
    /// version stays.
    pub async fn put_analysis(
        &mut self,
        case: Uuid,
        version: i32,
        a: &Analysis,
        v: &Verification,
        maps: &[(String, String, OrderMap)],
    ) -> Result<bool, StoreError> {
        let kept = sqlx::query(
            "INSERT INTO case_analysis (case_id, workshop_id, result, verification, version) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (case_id) DO UPDATE SET result = $3, verification = $4, version = $5, made_at = now()
             WHERE case_analysis.version <= $5",
        )
        .bind(case)
        .bind(self.workshop())
        .bind(json(a)?)
        .bind(json(v)?)
        .bind(version)
        .execute(&mut *self.tx)
        .await?;
        if kept.rows_affected() == 0 {
            return Ok(false);
        }
        sqlx::query("DELETE FROM order_map WHERE case_id = $1 AND workshop_id = $2")
            .bind(case)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        for (recording, channel, map) in maps {
            sqlx::query(
                "INSERT INTO order_map (workshop_id, case_id, recording, channel, meta, ink) VALUES ($1, $2, $3, $4, $5, $6)",
            )
            .bind(self.workshop())
            .bind(case)
            .bind(recording)
            .bind(channel)
            .bind(json(map)?)
            .bind(&map.ink)
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(true)
    }

    async fn analysis_text(&mut self, case: Uuid) -> Result<Option<(String, String)>, StoreError> {
        Ok(sqlx::query_as("SELECT result, verification FROM case_analysis WHERE case_id = $1 AND workshop_id = $2")
            .bind(case)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?)
    }

    /// What the recordings of a case say, and the proof.
    pub async fn analysis(&mut self, case: Uuid) -> Result<Option<(Analysis, Verification)>, StoreError> {
        match self.analysis_text(case).await? {
            None => Ok(None),
            Some((a, v)) => Ok(Some((read(&a)?, read(&v)?))),
        }
    }

    /// Whether the recordings of a case were analysed.
    pub(crate) async fn has_analysis(&mut self, case: Uuid) -> Result<bool, StoreError> {
        Ok(sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM case_analysis WHERE case_id = $1 AND workshop_id = $2)")
            .bind(case)
            .bind(self.workshop())
            .fetch_one(&mut *self.tx)
            .await?)
    }

    /// The proof alone.
    pub async fn verification(&mut self, case: Uuid) -> Result<Option<Verification>, StoreError> {
        self.analysis_text(case).await?.map(|(_, v)| read(&v)).transpose()
    }

    /// The order map of a channel.
    pub async fn order_map(&mut self, case: Uuid, recording: &str, channel: &str) -> Result<Option<OrderMap>, StoreError> {
        let row: Option<(String, Vec<u8>)> = sqlx::query_as(
            "SELECT meta, ink FROM order_map WHERE case_id = $1 AND workshop_id = $2 AND recording = $3 AND channel = $4",
        )
        .bind(case)
        .bind(self.workshop())
        .bind(recording)
        .bind(channel)
        .fetch_optional(&mut *self.tx)
        .await?;
        row.map(|(meta, ink)| read::<OrderMap>(&meta).map(|m| OrderMap { ink, ..m })).transpose()
    }
}
