//! What a workshop has changed of the knowledge that ships, and the knowledge that this makes: made once and held for all of its cases.

use crate::{Scope, StoreError};
use baricord_core::reasoning::knowledge::{Knowledge, WorkshopOverrides};
use std::borrow::Cow;
use std::ops::Deref;
use std::sync::Arc;

/// Of [`baricord_core::workflow::assessment::Assessment`]: another shape of what is kept is weighed again.
const SHAPE: &str = "1";

/// The knowledge as a workshop has it, shared by all of its cases.
#[derive(Clone, Debug)]
pub struct SharedKnowledge(Arc<WorkshopKnowledge>);

#[derive(Debug)]
struct WorkshopKnowledge {
    knowledge: Cow<'static, Knowledge>,
    overrides: WorkshopOverrides,
    version: String,
}

impl Deref for SharedKnowledge {
    type Target = Knowledge;
    fn deref(&self) -> &Knowledge {
        &self.0.knowledge
    }
}

impl SharedKnowledge {
    /// The workshop's changes.
    pub fn overrides(&self) -> &WorkshopOverrides {
        &self.0.overrides
    }
    /// Names the knowledge, as this program keeps what it weighs by it.
    pub fn version(&self) -> &str {
        &self.0.version
    }
}

impl Scope {
    /// The knowledge that a workshop's changes make, as they are kept.
    pub(crate) fn knowledge_of(&self, house: &str) -> Result<SharedKnowledge, StoreError> {
        let held = &self.store.assessments.knowledge;
        if let Some(k) = held.get(house) {
            return Ok(k);
        }
        let overrides: WorkshopOverrides = serde_json::from_str(house).map_err(|e| StoreError::Broken(e.to_string()))?;
        let version = format!("{SHAPE} {}", overrides.version());
        let k = SharedKnowledge(Arc::new(WorkshopKnowledge { knowledge: overrides.knowledge()?, version, overrides }));
        held.insert(house.to_string(), k.clone());
        Ok(k)
    }

    /// The knowledge as the workshop has it now.
    pub async fn knowledge(&mut self) -> Result<SharedKnowledge, StoreError> {
        Ok(self.workshop_now().await?.1)
    }

    /// How the workshop is called, and the knowledge as it has it now.
    pub async fn workshop_now(&mut self) -> Result<(String, SharedKnowledge), StoreError> {
        let row: Option<(String, String)> = sqlx::query_as("SELECT name, house FROM workshop WHERE id = $1")
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        let (name, house) = row.ok_or(StoreError::NotFound)?;
        Ok((name, self.knowledge_of(&house)?))
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
