//! What the board says of each case: what is done next, weighed when the case changes and kept beside it.

use crate::cases::StoredCase;
use crate::{Scope, StoreError};
use baricord_core::reasoning::diagnose;
use baricord_core::safety::drive_clearance::proposed_clearance;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::next_action;
use uuid::Uuid;

/// Lines that are weighed again for one showing of the board, where the knowledge has changed since.
const WEIGHED_AT_ONCE: i64 = 20;

/// What the board says of a case.
pub(crate) struct BoardWords {
    /// For which station it waits.
    pub station: Station,
    /// What is done next, and what must be seen before the case is opened.
    pub words: String,
    /// The version of the knowledge that weighed it.
    pub weighed_by: String,
}

impl Scope {
    /// What the board says of a case, by what this workshop knows.
    pub(crate) async fn board_words(&mut self, c: &StoredCase) -> Result<BoardWords, StoreError> {
        let (analysis, proof) = self.analysis(c.id).await?.unzip();
        let overrides = self.overrides().await?;
        let weighed_by = overrides.version();
        let mut case = c.case().clone();
        case.vehicle.limits = case.vehicle.limits.or(&overrides.limits);
        let weigh = move || -> Result<BoardWords, StoreError> {
            let k = overrides.knowledge()?;
            let d = diagnose(&case, &k, analysis.as_ref());
            let next = next_action(&case, &k, &d, proof.as_ref());
            let words = next.on_the_board(&case, proposed_clearance(&case, &d).as_ref());
            Ok(BoardWords { station: next.station, words, weighed_by })
        };
        tokio::task::spawn_blocking(weigh).await.map_err(|e| StoreError::Broken(e.to_string()))?
    }

    /// Weighs cases again whose next step was weighed with other knowledge, the latest first; a few at a time.
    pub async fn weigh_board_again(&mut self) -> Result<(), StoreError> {
        let version = self.overrides().await?.version();
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
            let board = self.board_words(&c).await?;
            // Only the board's words: nobody has touched the case.
            sqlx::query(
                "UPDATE case_file SET waits_for = $1, waits_words = $2, weighed_by = $3 WHERE id = $4 AND workshop_id = $5 AND version = $6",
            )
            .bind(board.station.id())
            .bind(board.words)
            .bind(board.weighed_by)
            .bind(id)
            .bind(self.workshop())
            .bind(c.version)
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }
}
