//! Drives with a recorder: the legs asked for, and what was measured on each, as it comes.

use crate::analysis_tasks::CHANNEL;
use crate::{Scope, StoreError};
use sqlx::FromRow;
use uuid::Uuid;

/// A drive with the recorder: its plan, state and readings so far.
#[derive(Clone, Debug, FromRow)]
pub struct Drive {
    /// Id of the drive.
    pub id: Uuid,
    /// For which symptom.
    pub symptom: String,
    /// Who began it.
    pub person: String,
    /// The recorder, as JSON.
    pub setup: String,
    /// How many of its seconds pass in one.
    pub pace: f64,
    /// waiting, moving, standing, done, failed.
    pub state: String,
    /// The driver has stopped for good.
    pub ending: bool,
    /// Legs asked for, as JSON; the last one is under way.
    pub legs: String,
    /// Runs of the case that came of it, as JSON.
    pub runs: String,
    /// Why it failed.
    pub problem: Option<String>,
}

impl Drive {
    /// Whether it goes on.
    pub fn is_open(&self) -> bool {
        !matches!(self.state.as_str(), "done" | "failed")
    }
}

/// What came in one piece of a leg.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Piece {
    /// Samples of the one channel.
    pub samples: Vec<f32>,
    /// Readings of the speed: s since the leg began, m/s.
    pub speed: Vec<(f64, f64)>,
}

const COLUMNS: &str = "id, symptom, person, setup, pace, state, ending, legs, runs, problem";

impl Scope {
    /// Begins a drive; a worker takes it on.
    pub async fn begin_drive(
        &mut self,
        case: Uuid,
        symptom: &str,
        person: &str,
        setup: &str,
        pace: f64,
    ) -> Result<Uuid, StoreError> {
        let id = Uuid::now_v7();
        sqlx::query(
            "INSERT INTO drive (id, workshop_id, case_id, symptom, person, setup, pace) VALUES ($1, $2, $3, $4, $5, $6, $7)",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(case)
        .bind(symptom)
        .bind(person)
        .bind(setup)
        .bind(pace)
        .execute(&mut *self.tx)
        .await?;
        sqlx::query("INSERT INTO analysis_task (id, workshop_id, case_id, drive_id) VALUES ($1, $2, $3, $4)")
            .bind(Uuid::now_v7())
            .bind(self.workshop())
            .bind(case)
            .bind(id)
            .execute(&mut *self.tx)
            .await?;
        sqlx::query("SELECT pg_notify($1, '')").bind(CHANNEL).execute(&mut *self.tx).await?;
        Ok(id)
    }

    /// A drive of a case.
    pub async fn drive(&mut self, case: Uuid, id: Uuid) -> Result<Drive, StoreError> {
        sqlx::query_as(&format!("SELECT {COLUMNS} FROM drive WHERE id = $1 AND case_id = $2 AND workshop_id = $3"))
            .bind(id)
            .bind(case)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?
            .ok_or(StoreError::NotFound)
    }

    /// The drive of a case that goes on, if one does.
    pub async fn open_drive(&mut self, case: Uuid) -> Result<Option<Drive>, StoreError> {
        Ok(sqlx::query_as(&format!(
            "SELECT {COLUMNS} FROM drive WHERE case_id = $1 AND workshop_id = $2 AND state NOT IN ('done', 'failed')
             ORDER BY created_at DESC LIMIT 1"
        ))
        .bind(case)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?)
    }

    /// Where a drive stands: its state, the legs asked for, the runs that came of it.
    pub async fn set_drive(
        &mut self,
        id: Uuid,
        state: &str,
        legs: &str,
        runs: &str,
        problem: Option<&str>,
    ) -> Result<(), StoreError> {
        sqlx::query("UPDATE drive SET state = $1, legs = $2, runs = $3, problem = $4 WHERE id = $5 AND workshop_id = $6")
            .bind(state)
            .bind(legs)
            .bind(runs)
            .bind(problem)
            .bind(id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }

    /// The driver stops for good: the leg under way is the last.
    pub async fn end_drive(&mut self, case: Uuid, id: Uuid) -> Result<(), StoreError> {
        self.drive(case, id).await?;
        sqlx::query("UPDATE drive SET ending = true WHERE id = $1 AND workshop_id = $2")
            .bind(id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }

    /// Keeps a piece of a leg; one that is kept already stays.
    pub async fn put_drive_piece(&mut self, id: Uuid, leg: i32, piece: i32, p: &Piece) -> Result<(), StoreError> {
        let bytes: Vec<u8> = p.samples.iter().flat_map(|v| v.to_le_bytes()).collect();
        let speed = serde_json::to_string(&p.speed).map_err(|e| StoreError::Broken(e.to_string()))?;
        sqlx::query(
            "INSERT INTO drive_piece (workshop_id, drive_id, leg, piece, samples, speed) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING",
        )
        .bind(self.workshop())
        .bind(id)
        .bind(leg)
        .bind(piece)
        .bind(bytes)
        .bind(speed)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// What was measured on a leg so far.
    pub async fn leg_so_far(&mut self, id: Uuid, leg: i32) -> Result<Piece, StoreError> {
        let rows: Vec<(Vec<u8>, String)> = sqlx::query_as(
            "SELECT samples, speed FROM drive_piece WHERE drive_id = $1 AND workshop_id = $2 AND leg = $3 ORDER BY piece",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(leg)
        .fetch_all(&mut *self.tx)
        .await?;
        let mut out = Piece::default();
        for (bytes, speed) in rows {
            out.samples.extend(bytes.as_chunks::<4>().0.iter().map(|b| f32::from_le_bytes(*b)));
            let speed: Vec<(f64, f64)> = serde_json::from_str(&speed).map_err(|e| StoreError::Broken(e.to_string()))?;
            out.speed.extend(speed);
        }
        Ok(out)
    }

    /// How many pieces of a leg are kept.
    pub async fn leg_pieces(&mut self, id: Uuid, leg: i32) -> Result<i32, StoreError> {
        let n: i64 = sqlx::query_scalar("SELECT count(*) FROM drive_piece WHERE drive_id = $1 AND workshop_id = $2 AND leg = $3")
            .bind(id)
            .bind(self.workshop())
            .bind(leg)
            .fetch_one(&mut *self.tx)
            .await?;
        Ok(n as i32)
    }
}
