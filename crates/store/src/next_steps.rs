//! What each case does next, weighed when it changes and kept beside it for the board.

use crate::cases::StoredCase;
use crate::{Scope, StoreError};
use baricord_core::next_action::{NextAction, next_action};
use baricord_core::reasoning::diagnose;
use uuid::Uuid;

/// Lines that are weighed again for one showing of the board, where the knowledge has changed since.
const WEIGHED_AT_ONCE: i64 = 20;

impl Scope {
    /// What a case does next, by what this workshop knows, with the version of that knowledge.
    pub(crate) async fn next_of(&mut self, c: &StoredCase) -> Result<(NextAction, String), StoreError> {
        let (analysis, proof) = self.analysis(c.id).await?.unzip();
        let house = self.house().await?;
        let version = house.version();
        let mut case = c.case.clone();
        case.vehicle.limits = case.vehicle.limits.or(&house.limits);
        let weigh = move || -> Result<NextAction, StoreError> {
            let k = house.knowledge()?;
            let d = diagnose(&case, &k, analysis.as_ref());
            Ok(next_action(&case, &k, &d, proof.as_ref()))
        };
        let next = tokio::task::spawn_blocking(weigh).await.map_err(|e| StoreError::Broken(e.to_string()))??;
        Ok((next, version))
    }

    /// Weighs cases again whose next step was weighed with other knowledge, the latest first; a few at a time.
    pub async fn weigh_board_again(&mut self) -> Result<(), StoreError> {
        let version = self.house().await?.version();
        let stale: Vec<Uuid> = sqlx::query_scalar(
            "SELECT id FROM case_file WHERE workshop_id = $1 AND weighed_by <> $2 ORDER BY updated_at DESC LIMIT $3",
        )
        .bind(self.workshop())
        .bind(version)
        .bind(WEIGHED_AT_ONCE)
        .fetch_all(&mut *self.tx)
        .await?;
        for id in stale {
            let c = self.case(id).await?;
            let (next, version) = self.next_of(&c).await?;
            // Only the board's words: nobody has touched the case.
            sqlx::query(
                "UPDATE case_file SET waits_for = $1, waits_words = $2, weighed_by = $3 WHERE id = $4 AND workshop_id = $5 AND version = $6",
            )
            .bind(next.station.id())
            .bind(next.on_the_board(&c.case))
            .bind(version)
            .bind(id)
            .bind(self.workshop())
            .bind(c.version)
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }
}
