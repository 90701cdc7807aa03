//! What a case comes to: weighed once for each state of the case and of the knowledge, off the threads that serve, kept as a row, and
//! held in memory for those who look again.

use crate::case_now::{CaseNow, CaseState};
use crate::cases::StoredCase;
use crate::workshop_knowledge::SharedKnowledge;
use crate::{Scope, Store, StoreError};
use baricord_core::analysis::Analysis;
use baricord_core::case::Case;
use baricord_core::proof::verify::Verification;
use baricord_core::workflow::assessment::{Assessment, assess};
use flate2::Compression;
use flate2::read::ZlibDecoder;
use flate2::write::ZlibEncoder;
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::sync::Arc;
use std::time::Duration;
use uuid::Uuid;

/// Cases held in memory, and workshops whose knowledge is.
const HELD_CASES: u64 = 256;
/// Documents held for the next edit; each edit makes another one.
const HELD_DOCUMENTS: u64 = 64;
const HELD_KNOWLEDGE: u64 = 64;
/// What nobody looks at for so long is let go of.
const HELD_FOR: Duration = Duration::from_secs(900);
/// Cases that are weighed for one showing of the board, where they or the knowledge have changed since.
pub(crate) const WEIGHED_AT_ONCE: i64 = 20;

/// A case with what it comes to.
#[derive(Debug)]
pub struct AssessedCase {
    /// Of this state of the case alone: another one for each change of its document or of what its recordings say.
    stamp: Uuid,
    /// As it is kept.
    pub stored: Arc<StoredCase>,
    /// With the workshop's limits where its vehicle names none.
    case: Case,
    /// What its recordings say.
    pub analysis: Option<Analysis>,
    /// Before against after.
    pub proof: Option<Verification>,
    /// The knowledge as the workshop has it.
    pub knowledge: SharedKnowledge,
    /// What it comes to.
    pub assessment: Assessment,
}

impl AssessedCase {
    /// The case as the rules read it: with the workshop's limits where its vehicle names none.
    pub fn case(&self) -> &Case {
        &self.case
    }

    /// The symptom that its pages are about where none is asked for: the one of the next step, else its first.
    pub fn about(&self) -> Option<&str> {
        let of_the_step = self.assessment.next.symptom.as_deref().filter(|s| self.case.symptom(s).is_some());
        of_the_step.or_else(|| self.case.first_symptom())
    }

    /// Names what was weighed, the state of the case and that of the knowledge: two that have the same name are the same in all.
    pub fn state(&self) -> (Uuid, &str) {
        (self.stamp, self.knowledge.version())
    }
}

/// What is held in memory.
#[derive(Clone)]
pub(crate) struct Assessments {
    cases: Cache<(Uuid, String), Arc<AssessedCase>>,
    /// Documents by their stamp.
    pub(crate) documents: Cache<Uuid, Arc<StoredCase>>,
    /// By the workshop's changes, as they are kept.
    pub(crate) knowledge: Cache<String, SharedKnowledge>,
}

impl Default for Assessments {
    fn default() -> Self {
        // What was looked at last is looked at next: nothing is kept out because older things were looked at more often.
        Self {
            cases: Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(HELD_CASES)
                .time_to_idle(HELD_FOR)
                .build(),
            documents: Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .max_capacity(HELD_DOCUMENTS)
                .time_to_idle(HELD_FOR)
                .build(),
            knowledge: Cache::builder().max_capacity(HELD_KNOWLEDGE).time_to_idle(HELD_FOR).build(),
        }
    }
}

fn pack(a: &Assessment) -> Result<Vec<u8>, StoreError> {
    let broken = |e: &dyn std::fmt::Display| StoreError::Broken(e.to_string());
    let text = serde_json::to_vec(a).map_err(|e| broken(&e))?;
    let mut z = ZlibEncoder::new(vec![], Compression::fast());
    z.write_all(&text).and_then(|()| z.finish()).map_err(|e| broken(&e))
}

/// What was kept; none where another program has kept it in another shape.
fn unpack(bytes: &[u8]) -> Option<Assessment> {
    let mut text = vec![];
    ZlibDecoder::new(bytes).read_to_end(&mut text).ok()?;
    serde_json::from_slice(&text).ok()
}

/// What is weighed of a case, and by what.
struct ToWeigh {
    stored: Arc<StoredCase>,
    case: Case,
    analysis: Option<Analysis>,
    proof: Option<Verification>,
    knowledge: SharedKnowledge,
}

async fn beside<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, StoreError> {
    tokio::task::spawn_blocking(work).await.map_err(|e| StoreError::Broken(e.to_string()))
}

impl Scope {
    /// A case of this workshop with what it comes to; [`StoreError::NotFound`] where there is none.
    pub async fn assessed(&mut self, id: Uuid) -> Result<Arc<AssessedCase>, StoreError> {
        let row: Option<(Uuid, String, String)> = sqlx::query_as(
            "SELECT c.stamp, c.weighed_by, w.house FROM case_file c JOIN workshop w ON w.id = c.workshop_id
             WHERE c.id = $1 AND c.workshop_id = $2",
        )
        .bind(id)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?;
        let (stamp, weighed_by, house) = row.ok_or(StoreError::NotFound)?;
        let knowledge = self.knowledge_of(&house)?;
        self.assessed_in(id, &CaseState { stamp, weighed_by, knowledge }).await
    }

    /// A case in the state that was read before, with what it comes to.
    pub async fn assessed_now(&mut self, now: &CaseNow) -> Result<Arc<AssessedCase>, StoreError> {
        self.assessed_in(now.id, &now.state).await
    }

    async fn assessed_in(&mut self, id: Uuid, state: &CaseState) -> Result<Arc<AssessedCase>, StoreError> {
        let (stamp, weighed_by, knowledge) = (state.stamp, state.weighed_by.as_str(), state.knowledge.clone());
        let key = (stamp, knowledge.version().to_string());
        if let Some(held) = self.store.assessments.cases.get(&key) {
            return Ok(held);
        }
        let version = key.1.clone();
        let stored = self.fetch(id, "").await?;
        let (analysis, proof) = self.analysis(id).await?.unzip();
        let mut case = stored.case().clone();
        // What the vehicle does not say itself, the workshop knows: limits, numbered bearings. Its document stays as it is.
        knowledge.overrides().complete(&mut case.vehicle);
        let of = ToWeigh { stored, case, analysis, proof, knowledge };
        let kept: Option<Vec<u8>> = sqlx::query_scalar(
            "SELECT assessment FROM case_assessment WHERE case_id = $1 AND workshop_id = $2 AND stamp = $3 AND knowledge = $4",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(stamp)
        .bind(&version)
        .fetch_optional(&mut *self.tx)
        .await?;
        let (of, assessment, is_new) = beside(move || {
            let kept = kept.as_deref().and_then(unpack);
            let is_new = kept.is_none();
            let a = kept.unwrap_or_else(|| assess(&of.case, &of.knowledge, of.analysis.as_ref(), of.proof.as_ref()));
            (of, a, is_new)
        })
        .await?;
        let ToWeigh { stored, case, analysis, proof, knowledge } = of;
        let assessed = Arc::new(AssessedCase { stamp, stored, case, analysis, proof, knowledge, assessment });
        self.store.assessments.cases.insert(key, assessed.clone());
        if is_new || weighed_by != version {
            // Who asks does not wait for it, nor does it go with what they do.
            let (store, workshop, a) = (self.store.clone(), self.workshop(), assessed.clone());
            tokio::spawn(async move {
                if let Err(e) = store.keep_assessment(workshop, &a).await {
                    tracing::debug!(error = %e, "an assessment was not kept; it is weighed again");
                }
            });
        }
        Ok(assessed)
    }

    /// Keeps what a case comes to, and what the board says of it, where the case is still as it was weighed.
    async fn write_assessment(&mut self, a: &AssessedCase) -> Result<(), StoreError> {
        let (stamp, knowledge) = a.state();
        let next = &a.assessment.next;
        let words = next.on_the_board(a.case(), &a.knowledge, a.assessment.proposal.as_ref());
        // The case is locked first, as by an edit: two that lock in different orders wait for each other.
        let waited: Option<String> = sqlx::query_scalar(
            "SELECT waits_words FROM case_file WHERE id = $1 AND workshop_id = $2 AND stamp = $3 FOR NO KEY UPDATE",
        )
        .bind(a.stored.id)
        .bind(self.workshop())
        .bind(stamp)
        .fetch_optional(&mut *self.tx)
        .await?;
        let Some(waited) = waited else { return Ok(()) };
        // It is found by what it waits for.
        if waited != words {
            sqlx::query(
                "UPDATE case_search SET search = found_by(said, $1, workshop_id) WHERE case_id = $2 AND workshop_id = $3",
            )
            .bind(&words)
            .bind(a.stored.id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        }
        sqlx::query(
            "UPDATE case_file SET waits_for = $1, waits_words = $2, weighed_by = $3, about = $6, about_stamp = $7
             WHERE id = $4 AND workshop_id = $5",
        )
        .bind(next.station.id())
        .bind(words)
        .bind(knowledge)
        .bind(a.stored.id)
        .bind(self.workshop())
        .bind(a.about())
        .bind(stamp)
        .execute(&mut *self.tx)
        .await?;
        self.insert_assessment(a, None).await?;
        sqlx::query(
            "DELETE FROM case_assessment WHERE case_id = $1 AND workshop_id = $2 AND kept_for IS NULL AND (stamp <> $3 OR knowledge <> $4)",
        )
        .bind(a.stored.id)
        .bind(self.workshop())
        .bind(stamp)
        .bind(knowledge)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    async fn insert_assessment(&mut self, a: &AssessedCase, kept_for: Option<Uuid>) -> Result<(), StoreError> {
        let (stamp, knowledge) = a.state();
        sqlx::query(
            "INSERT INTO case_assessment (workshop_id, case_id, stamp, knowledge, version, assessment, kept_for) VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (case_id, stamp, knowledge) DO UPDATE SET kept_for = coalesce(case_assessment.kept_for, $7)",
        )
        .bind(self.workshop())
        .bind(a.stored.id)
        .bind(stamp)
        .bind(knowledge)
        .bind(a.stored.version)
        .bind(pack(&a.assessment)?)
        .bind(kept_for)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Keeps for good what a decision rested on: the case as it is now.
    pub(crate) async fn keep_for_decision(&mut self, id: Uuid, decision: Uuid) -> Result<(), StoreError> {
        let a = self.assessed(id).await?;
        self.insert_assessment(&a, Some(decision)).await
    }

    /// Weighs cases and says on the board what they wait for.
    pub(crate) async fn weigh_stale(&mut self, stale: &[Uuid]) -> Result<(), StoreError> {
        // In one order: two boards that lock the same cases in different orders wait for each other.
        for id in stale.iter().collect::<BTreeSet<_>>() {
            let a = self.assessed(*id).await?;
            self.write_assessment(&a).await?;
        }
        Ok(())
    }

    /// Weighs cases that have changed, or whose knowledge has, since the board last said what they wait for; the latest first, a few at
    /// a time. Which they were.
    pub async fn weigh_board_again(&mut self, knowledge: &SharedKnowledge) -> Result<Vec<Uuid>, StoreError> {
        let stale: Vec<Uuid> = sqlx::query_scalar(
            "SELECT id FROM case_file WHERE workshop_id = $1 AND (weighed_by < $2 OR weighed_by > $2) ORDER BY updated_at DESC LIMIT $3",
        )
        .bind(self.workshop())
        .bind(knowledge.version())
        .bind(WEIGHED_AT_ONCE)
        .fetch_all(&mut *self.tx)
        .await?;
        self.weigh_stale(&stale).await?;
        Ok(stale)
    }
}

impl Store {
    async fn keep_assessment(&self, workshop: Uuid, a: &AssessedCase) -> Result<(), StoreError> {
        let mut s = self.scope(workshop).await?;
        s.write_assessment(a).await?;
        s.commit().await
    }
}

/// What a decision rested on, where other knowledge weighs the case today.
#[derive(Debug)]
pub struct WeighedThen {
    /// What was decided, in words.
    pub what: String,
    /// Who decided.
    pub person: String,
    /// When, RFC 3339.
    pub at_time: String,
    /// As it was weighed then.
    pub then: Assessment,
    /// The case as it was then, weighed by the knowledge of today.
    pub today: Assessment,
}

impl Scope {
    /// Decisions on a case that rested on other knowledge than today's, each with how today's weighs the case as it was then.
    pub async fn weighed_then(&mut self, a: &AssessedCase) -> Result<Vec<WeighedThen>, StoreError> {
        let id = a.stored.id;
        let kept: Vec<(Uuid, i32, Vec<u8>)> = sqlx::query_as(
            "SELECT kept_for, version, assessment FROM case_assessment
             WHERE case_id = $1 AND workshop_id = $2 AND kept_for IS NOT NULL AND knowledge <> $3 ORDER BY version",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(a.knowledge.version())
        .fetch_all(&mut *self.tx)
        .await?;
        let mut out = vec![];
        for (decision, version, bytes) in kept {
            let Some(then) = unpack(&bytes) else { continue };
            let since = self.events(id, version, i64::MAX).await?;
            let Some(event) = since.iter().find(|e| e.id == decision).cloned() else { continue };
            let made = since.iter().filter_map(|e| e.changes.as_ref().map(|c| c.0.as_slice()));
            let mut case = a.stored.document.before(made)?;
            a.knowledge.overrides().complete(&mut case.vehicle);
            // What the recordings say is as it is now: an analysis is of today's program, too.
            let (k, analysis, proof) = (a.knowledge.clone(), a.analysis.clone(), a.proof.clone());
            let today = beside(move || assess(&case, &k, analysis.as_ref(), proof.as_ref())).await?;
            out.push(WeighedThen { what: event.what, person: event.person, at_time: event.at_time, then, today });
        }
        Ok(out)
    }
}
