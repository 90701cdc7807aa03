//! A case as a whole: put away, brought back, deleted.

use crate::cases::BoardLine;
use crate::{Scope, StoreError};
use uuid::Uuid;

impl Scope {
    /// Puts a case away, or brings it back: it is off the board, and still found. [`StoreError::NotFound`] where there is none.
    pub async fn archive_case(&mut self, id: Uuid, archived: bool) -> Result<(), StoreError> {
        let done = sqlx::query(
            "UPDATE case_file SET archived_at = CASE WHEN $3 THEN coalesce(archived_at, now()) END WHERE id = $1 AND workshop_id = $2",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(archived)
        .execute(&mut *self.tx)
        .await?;
        if done.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }

    /// Whether a case is put away.
    pub async fn is_archived(&mut self, id: Uuid) -> Result<bool, StoreError> {
        let row: Option<bool> =
            sqlx::query_scalar("SELECT archived_at IS NOT NULL FROM case_file WHERE id = $1 AND workshop_id = $2")
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        row.ok_or(StoreError::NotFound)
    }

    /// Deletes a case with everything in it: its events, recordings, files. It does not come back.
    pub async fn delete_case(&mut self, id: Uuid) -> Result<(), StoreError> {
        let done = sqlx::query("DELETE FROM case_file WHERE id = $1 AND workshop_id = $2")
            .bind(id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        if done.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }

    /// Cases that are put away, the latest first.
    pub async fn archived_cases(&mut self, most: i64) -> Result<Vec<BoardLine>, StoreError> {
        Ok(sqlx::query_as(
            "SELECT id, title, vehicle, waits_for, waits_words, (extract(epoch FROM now() - archived_at) / 60)::bigint AS idle_minutes
             FROM case_file WHERE workshop_id = $1 AND archived_at IS NOT NULL ORDER BY archived_at DESC LIMIT $2",
        )
        .bind(self.workshop())
        .bind(most)
        .fetch_all(&mut *self.tx)
        .await?)
    }
}
