//! Analyses under way. A task is a row: any copy of the application may take it, a killed one's is
//! taken again, and its progress is there for every page.

use crate::{Scope, Store, StoreError};
use sqlx::FromRow;
use sqlx::postgres::PgListener;
use uuid::Uuid;

/// The channel on which a new task is announced.
pub const CHANNEL: &str = "baricord_analysis_task";

/// A task as a page shows it.
#[derive(Clone, Debug, FromRow)]
pub struct AnalysisTask {
    /// Id of the task.
    pub id: Uuid,
    /// queued, running, done, failed, cancelled.
    pub state: String,
    /// From 0 to 1.
    pub progress: f32,
    /// The step that it is at, in words.
    pub what: String,
    /// Why it failed.
    pub problem: Option<String>,
}

impl AnalysisTask {
    /// Whether it is still under way.
    pub fn is_open(&self) -> bool {
        matches!(self.state.as_str(), "queued" | "running")
    }
    /// Whole per cent.
    pub fn percent(&self) -> u32 {
        (self.progress.clamp(0.0, 1.0) * 100.0) as u32
    }
}

/// A task taken.
#[derive(Clone, Copy, Debug)]
pub struct TaskClaim {
    /// Id of the task.
    pub id: Uuid,
    /// The workshop whose scope it runs in.
    pub workshop: Uuid,
    /// The case whose recordings are analysed.
    pub case: Uuid,
    /// The drive that is to go on; an analysis where there is none.
    pub drive: Option<Uuid>,
    /// Of this claim alone: when another worker has taken the task since, nothing of this one is kept.
    pub lease: Uuid,
}

impl Scope {
    /// Asks for an analysis of a case; one that still waits serves for both.
    pub async fn request_analysis(&mut self, case: Uuid) -> Result<(), StoreError> {
        let waiting: Option<Uuid> = sqlx::query_scalar(
            "SELECT id FROM analysis_task WHERE case_id = $1 AND workshop_id = $2 AND state = 'queued' AND drive_id IS NULL LIMIT 1",
        )
        .bind(case)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?;
        if waiting.is_none() {
            sqlx::query("INSERT INTO analysis_task (id, workshop_id, case_id) VALUES ($1, $2, $3)")
                .bind(Uuid::now_v7())
                .bind(self.workshop())
                .bind(case)
                .execute(&mut *self.tx)
                .await?;
        }
        sqlx::query("SELECT pg_notify($1, '')").bind(CHANNEL).execute(&mut *self.tx).await?;
        Ok(())
    }

    /// The latest analysis of a case.
    pub async fn analysis_task(&mut self, case: Uuid) -> Result<Option<AnalysisTask>, StoreError> {
        Ok(sqlx::query_as(
            "SELECT id, state, progress, what, problem FROM analysis_task WHERE case_id = $1 AND workshop_id = $2 AND drive_id IS NULL
             ORDER BY created_at DESC, id DESC LIMIT 1",
        )
        .bind(case)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?)
    }

    /// Holds a claim until this transaction ends, its heartbeat going on; refused when another worker has taken
    /// the task since.
    pub async fn hold(&mut self, c: &TaskClaim) -> Result<(), StoreError> {
        let held: Option<Uuid> =
            sqlx::query_scalar("SELECT id FROM analysis_task WHERE id = $1 AND workshop_id = $2 AND lease = $3 FOR KEY SHARE")
                .bind(c.id)
                .bind(self.workshop())
                .bind(c.lease)
                .fetch_optional(&mut *self.tx)
                .await?;
        held.map(|_| ()).ok_or(StoreError::LeaseLost)
    }

    /// Asks the open analyses of a case to stop.
    pub async fn cancel_tasks(&mut self, case: Uuid) -> Result<(), StoreError> {
        sqlx::query(
            "UPDATE analysis_task SET cancel = true, state = CASE WHEN state = 'queued' THEN 'cancelled' ELSE state END
             WHERE case_id = $1 AND workshop_id = $2 AND state IN ('queued', 'running') AND drive_id IS NULL",
        )
        .bind(case)
        .bind(self.workshop())
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }
}

impl Store {
    /// Takes the next task.
    pub async fn claim_task(&self) -> Result<Option<TaskClaim>, StoreError> {
        let row: Option<(Uuid, Uuid, Uuid, Option<Uuid>, Uuid)> =
            sqlx::query_as("SELECT task_id, task_workshop, task_case, task_drive, task_lease FROM claim_analysis_task()")
                .fetch_optional(self.pool())
                .await?;
        Ok(row.map(|(id, workshop, case, drive, lease)| TaskClaim { id, workshop, case, drive, lease }))
    }

    /// Says how far a task is; false when it should stop.
    pub async fn heartbeat(&self, c: &TaskClaim, progress: f32, what: &str) -> Result<bool, StoreError> {
        let mut s = self.scope(c.workshop).await?;
        let cancel: Option<bool> = sqlx::query_scalar(
            "UPDATE analysis_task SET progress = $1, what = $2, heartbeat = now() WHERE id = $3 AND workshop_id = $4 AND state = 'running' AND lease = $5 RETURNING cancel",
        )
        .bind(progress)
        .bind(what)
        .bind(c.id)
        .bind(c.workshop)
        .bind(c.lease)
        .fetch_optional(&mut *s.tx)
        .await?;
        s.commit().await?;
        Ok(cancel == Some(false))
    }

    /// Ends a task: done, cancelled, or failed with a reason. What another worker has taken since stays as it is.
    pub async fn end_task(&self, c: &TaskClaim, state: &str, problem: Option<&str>) -> Result<(), StoreError> {
        let mut s = self.scope(c.workshop).await?;
        sqlx::query("UPDATE analysis_task SET state = $1, problem = $2, progress = CASE WHEN $1 = 'done' THEN 1 ELSE progress END WHERE id = $3 AND workshop_id = $4 AND lease = $5")
            .bind(state)
            .bind(problem)
            .bind(c.id)
            .bind(c.workshop)
            .bind(c.lease)
            .execute(&mut *s.tx)
            .await?;
        s.commit().await
    }

    /// Hears of new tasks.
    pub async fn listen(&self) -> Result<PgListener, StoreError> {
        let mut l = PgListener::connect_with(self.pool()).await?;
        l.listen(CHANNEL).await?;
        Ok(l)
    }
}
