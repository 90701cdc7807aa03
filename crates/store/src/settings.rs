//! What a workshop has changed of the knowledge that ships.

use crate::{Scope, StoreError};
use baricord_core::reasoning::knowledge::WorkshopOverrides;

impl Scope {
    /// The workshop's changes.
    pub async fn overrides(&mut self) -> Result<WorkshopOverrides, StoreError> {
        let text: String =
            sqlx::query_scalar("SELECT house FROM workshop WHERE id = $1").bind(self.workshop()).fetch_one(&mut *self.tx).await?;
        serde_json::from_str(&text).map_err(|e| StoreError::Broken(e.to_string()))
    }

    /// Keeps the workshop's changes.
    pub async fn set_overrides(&mut self, overrides: &WorkshopOverrides) -> Result<(), StoreError> {
        let text = serde_json::to_string(overrides).map_err(|e| StoreError::Broken(e.to_string()))?;
        sqlx::query("UPDATE workshop SET house = $1 WHERE id = $2")
            .bind(text)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }
}
