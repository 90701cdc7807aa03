//! What was done to a case: each edit once, in its order, never changed. Beside it the document as it is now ([`crate::cases`]).

use crate::cases::StoredCase;
use crate::{Scope, StoreError};
use baricord_core::case::document::CaseDocument;
use baricord_core::case::patch::{Change, overlap};
use baricord_core::edit::act::{CaseAct, TakenBack};
use baricord_core::edit::take_back::{PastEdit, standing};
use baricord_core::edit::{Applied, CaseEdit, EditContext};
use baricord_core::error::Problem;
use baricord_core::permission::{Act, Role};
use serde::{Deserialize, Serialize};
use sqlx::FromRow;
use sqlx::types::Json;
use std::sync::Arc;
use uuid::Uuid;

/// Most edits that are sent at once.
pub const MOST_EDITS: usize = 500;

/// Who edits a case.
#[derive(Clone, Debug)]
pub struct Author {
    /// As it stands in the history.
    pub name: String,
    /// What they may do; none for the program itself and for who has a link, who may do nothing that needs buying or sharing.
    pub role: Option<Role>,
}

impl Author {
    /// A person of the workshop.
    pub fn person(name: &str, role: Role) -> Self {
        Self { name: name.into(), role: Some(role) }
    }
    /// The program, for a person or a link whose right was checked where it came in.
    pub fn program(name: &str) -> Self {
        Self { name: name.into(), role: None }
    }
}

/// An edit as it is sent.
#[derive(Clone, Debug)]
pub struct SentEdit {
    /// The edit; whoever sends it is its author.
    pub edit: CaseEdit,
    /// The version of the case that was seen when it was made; none where it may be put on whatever is there.
    pub base: Option<i32>,
}

/// Something that was done to a case.
#[derive(Clone, Debug, FromRow)]
pub struct CaseEvent {
    /// The version that it led to.
    pub sequence: i32,
    /// Id of the edit.
    pub id: Uuid,
    /// When it was done, RFC 3339.
    pub at_time: String,
    /// Who did it.
    pub person: String,
    /// What, in words.
    pub what: String,
    /// The edit; none of what was done before edits were kept, and of the opening.
    pub edit: Option<Json<CaseEdit>>,
    /// What it changed.
    pub changes: Option<Json<Vec<Change>>>,
    /// The edit that it takes back.
    pub takes_back: Option<Uuid>,
    /// Whether it has been taken back.
    pub taken_back: bool,
}

/// The latest thing that was done to a case and stands.
#[derive(Clone, Debug, FromRow)]
pub struct LastEvent {
    /// Id of the edit.
    pub id: Uuid,
    /// Who did it.
    pub person: String,
    /// What, in words.
    pub what: String,
}

impl CaseEvent {
    /// Whether it can be taken back at all: it stands, and what it changed is known.
    pub fn can_be_taken_back(&self) -> bool {
        self.changes.is_some() && self.takes_back.is_none() && !self.taken_back
    }

    fn past(self) -> PastEdit {
        PastEdit {
            id: self.id,
            sequence: self.sequence.into(),
            by: self.person,
            words: self.what,
            changes: self.changes.map(|c| c.0),
            takes_back: self.takes_back,
        }
    }
}

/// Two edits of the same part of an entry.
#[derive(Clone, Debug)]
pub struct BothEdits {
    /// The one that was sent, in words where it could be read, and whole.
    pub yours: CaseEdit,
    /// What was done since what it was made on.
    pub theirs: Vec<CaseEvent>,
}

/// What became of an edit that was sent.
#[derive(Clone, Debug)]
pub enum Outcome {
    /// It is done.
    Applied {
        /// The version that it led to.
        sequence: i32,
        /// What it did.
        applied: Applied,
    },
    /// It was done before.
    Already {
        /// The version that it led to.
        sequence: i32,
    },
    /// Somebody has changed the same meanwhile: both stand side by side, and nothing was written.
    Conflict(Box<BothEdits>),
    /// It cannot be done.
    Refused(Problem),
}

/// An event as it goes out with a case and comes in again.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ExportedEvent {
    /// Id of the edit.
    pub id: Uuid,
    /// Its number in the case.
    pub sequence: i32,
    /// When it was done, RFC 3339.
    pub at_time: String,
    /// Who did it.
    pub by: String,
    /// What, in words.
    pub what: String,
    /// The edit.
    #[serde(rename = "do", default, skip_serializing_if = "Option::is_none")]
    pub edit: Option<CaseEdit>,
    /// What it changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changes: Option<Vec<Change>>,
    /// The edit that it takes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub takes_back: Option<Uuid>,
    /// Of what was done before edits were kept: whether it was taken back.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub taken_back: bool,
}

const COLUMNS: &str = r#"e.sequence, e.id, to_char(e.at_time AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') AS at_time, e.person, e.what,
    e.edit, e.changes, e.takes_back,
    e.was_undone OR EXISTS (SELECT 1 FROM case_event b WHERE b.case_id = e.case_id AND b.takes_back = e.id) AS taken_back"#;

/// What an edit touches that must be worked out again by an analysis: the vehicle and its recordings.
fn concerns_analysis(changes: &[Change]) -> bool {
    changes.iter().any(|c| matches!(c.path.first().map(String::as_str), Some("vehicle" | "recordings")))
}

/// One event that is to be kept.
pub(crate) struct NewEvent<'a> {
    pub sequence: i32,
    pub id: Uuid,
    /// When it was done; now when left out.
    pub at_time: Option<String>,
    pub person: &'a str,
    pub what: &'a str,
    pub edit: Option<&'a CaseEdit>,
    pub changes: Option<&'a [Change]>,
    pub takes_back: Option<Uuid>,
    pub was_undone: bool,
}

impl Scope {
    pub(crate) async fn keep_event(&mut self, case: Uuid, e: NewEvent<'_>) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO case_event (workshop_id, case_id, sequence, id, at_time, person, what, edit, changes, takes_back, was_undone)
             VALUES ($1, $2, $3, $4, coalesce($5::timestamptz, now()), $6, $7, $8, $9, $10, $11)",
        )
        .bind(self.workshop())
        .bind(case)
        .bind(e.sequence)
        .bind(e.id)
        .bind(e.at_time)
        .bind(e.person)
        .bind(e.what)
        .bind(e.edit.map(Json))
        .bind(e.changes.map(Json))
        .bind(e.takes_back)
        .bind(e.was_undone)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// What was done to a case after a version, latest first.
    pub async fn events(&mut self, case: Uuid, after: i32, most: i64) -> Result<Vec<CaseEvent>, StoreError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM case_event e WHERE e.case_id = $1 AND e.workshop_id = $2 AND e.sequence > $3 ORDER BY e.sequence DESC LIMIT $4"
        );
        Ok(sqlx::query_as(&sql).bind(case).bind(self.workshop()).bind(after).bind(most).fetch_all(&mut *self.tx).await?)
    }

    /// One thing that was done to a case; [`StoreError::NotFound`] where there is none.
    pub async fn event(&mut self, case: Uuid, id: Uuid) -> Result<CaseEvent, StoreError> {
        let sql = format!("SELECT {COLUMNS} FROM case_event e WHERE e.case_id = $1 AND e.workshop_id = $2 AND e.id = $3");
        let row = sqlx::query_as(&sql).bind(case).bind(self.workshop()).bind(id).fetch_optional(&mut *self.tx).await?;
        row.ok_or(StoreError::NotFound)
    }

    async fn past(&mut self, case: Uuid, after: i32) -> Result<Vec<PastEdit>, StoreError> {
        let mut all: Vec<PastEdit> = self.events(case, after, i64::MAX).await?.into_iter().map(CaseEvent::past).collect();
        all.reverse();
        Ok(all)
    }

    /// The version that an edit of this id led to, and whether its content is the same; none where it was not done yet.
    async fn done_before(&mut self, case: Uuid, edit: &CaseEdit) -> Result<Option<(i32, bool)>, StoreError> {
        let row: Option<(i32, Option<Json<CaseEdit>>)> =
            sqlx::query_as("SELECT sequence, edit FROM case_event WHERE case_id = $1 AND workshop_id = $2 AND id = $3")
                .bind(case)
                .bind(self.workshop())
                .bind(edit.id)
                .fetch_optional(&mut *self.tx)
                .await?;
        Ok(row.map(|(sequence, kept)| (sequence, kept.is_some_and(|k| k.0.act == edit.act))))
    }

    /// What somebody has done, since a version, to the parts that an edit changes. Edits of the same sending are no others.
    async fn meanwhile(&mut self, case: Uuid, sent: &SentEdit, own: &[Uuid]) -> Result<Vec<CaseEvent>, StoreError> {
        let (Some(base), parts) = (sent.base, sent.edit.changes_parts()) else { return Ok(vec![]) };
        if parts.is_empty() {
            return Ok(vec![]);
        }
        let all = self.events(case, base, i64::MAX).await?;
        let past: Vec<PastEdit> = all.iter().cloned().map(CaseEvent::past).collect();
        let stands: Vec<Uuid> = standing(&past).map(|p| p.id).collect();
        let touches = |e: &CaseEvent| {
            let changes = e.changes.iter().flat_map(|c| &c.0);
            changes.into_iter().any(|c| parts.iter().any(|p| overlap(p, &c.path)))
        };
        Ok(all.into_iter().filter(|e| !own.contains(&e.id) && stands.contains(&e.id) && touches(e)).collect())
    }

    /// Edits a case, one edit after the other: each is applied, was there already, stands beside another's, or is refused. What is
    /// applied is kept when the scope is committed, all of it or none.
    pub async fn apply_edits(
        &mut self,
        id: Uuid,
        author: &Author,
        sent: Vec<SentEdit>,
    ) -> Result<(Arc<StoredCase>, Vec<Outcome>), StoreError> {
        let (mut c, stamp) = self.take(id).await?;
        let before = c.case().clone();
        let rests =
            |s: &SentEdit| matches!(s.edit.act, CaseAct::ChooseRepair(_) | CaseAct::ReplaceAsDue(_) | CaseAct::JudgeRepair(_));
        let decisions: Vec<Uuid> = sent.iter().filter(|s| rests(s)).map(|s| s.edit.id).collect();
        let mut decided = None;
        let knowledge = self.knowledge().await?;
        let weighs = sent.iter().any(|s| matches!(s.edit.act, CaseAct::ChooseRepair(_)));
        let analysis = if weighs { self.analysis(id).await?.map(|a| a.0) } else { None };
        let own: Vec<Uuid> = sent.iter().map(|s| s.edit.id).collect();
        let (mut out, mut asks_analysis) = (vec![], false);
        for mut s in sent {
            s.edit.by.clone_from(&author.name);
            if let Some((sequence, same)) = self.done_before(id, &s.edit).await? {
                out.push(match same {
                    true => Outcome::Already { sequence },
                    false => {
                        let message = "an edit of this id was kept with another content";
                        Outcome::Refused(Problem::new("other-content", message).field("id"))
                    }
                });
                continue;
            }
            let needs = s.edit.needs(c.case());
            let may = author.role.map_or(matches!(needs, Act::Edit), |r| r.may(needs));
            if !may {
                out.push(Outcome::Refused(Problem::new("forbidden", needs.refusal())));
                continue;
            }
            let theirs = self.meanwhile(id, &s, &own).await?;
            if !theirs.is_empty() {
                out.push(Outcome::Conflict(Box::new(BothEdits { yours: s.edit, theirs })));
                continue;
            }
            let past = match &s.edit.act {
                CaseAct::TakeBack(TakenBack { event, .. }) => {
                    let from = self.event(id, *event).await.map_or(i32::MAX, |e| e.sequence - 1);
                    self.past(id, from).await?
                }
                _ => vec![],
            };
            let context = EditContext { knowledge: &knowledge, analysis: analysis.as_ref(), past: &past };
            let now = Arc::make_mut(&mut c);
            match now.document.replace(|case| context.applied(case, &s.edit)) {
                Err(p) => out.push(Outcome::Refused(p)),
                Ok((applied, changes)) => {
                    now.version += 1;
                    asks_analysis |= concerns_analysis(&changes);
                    let takes_back = match &s.edit.act {
                        CaseAct::TakeBack(t) => Some(t.event),
                        _ => None,
                    };
                    let event = NewEvent {
                        sequence: c.version,
                        id: s.edit.id,
                        at_time: Some(s.edit.at_time.to_string()),
                        person: &author.name,
                        what: &applied.words,
                        edit: Some(&s.edit),
                        changes: Some(&changes),
                        takes_back,
                        was_undone: false,
                    };
                    self.keep_event(id, event).await?;
                    decided = decided.or(Some(s.edit.id).filter(|id| decisions.contains(id)));
                    out.push(Outcome::Applied { sequence: c.version, applied });
                }
            }
        }
        if out.iter().any(|o| matches!(o, Outcome::Applied { .. })) {
            // What is weighed until now is what the decision rested on.
            if let Some(decision) = decided {
                self.keep_for_decision(id, decision).await?;
            }
            self.write(&c, &before).await?;
            if asks_analysis && (self.has_analysis(id).await? || !c.case().recordings.is_empty()) {
                self.request_analysis(id).await?;
            }
        } else {
            self.hold_document(stamp, &c);
        }
        Ok((c, out))
    }

    /// Edits a case once: what stands beside another's edit, or is refused, is an error. What it did; none where it was done before.
    pub async fn edit_case(
        &mut self,
        id: Uuid,
        author: &Author,
        edit: CaseEdit,
        base: Option<i32>,
    ) -> Result<(Arc<StoredCase>, Option<Applied>), StoreError> {
        let (case, outcomes) = self.apply_edits(id, author, vec![SentEdit { edit, base }]).await?;
        match outcomes.into_iter().next() {
            Some(Outcome::Applied { applied, .. }) => Ok((case, Some(applied))),
            Some(Outcome::Already { .. }) | None => Ok((case, None)),
            Some(Outcome::Conflict(both)) => Err(StoreError::Conflict(both)),
            Some(Outcome::Refused(p)) => Err(p.into()),
        }
    }

    /// The events of a case, oldest first, to go out with it.
    pub async fn export_events(&mut self, case: Uuid) -> Result<Vec<ExportedEvent>, StoreError> {
        let mut all = self.events(case, 0, i64::MAX).await?;
        all.reverse();
        let out = |e: CaseEvent| ExportedEvent {
            id: e.id,
            sequence: e.sequence,
            at_time: e.at_time,
            by: e.person,
            what: e.what,
            edit: e.edit.map(|e| e.0),
            changes: e.changes.map(|c| c.0),
            takes_back: e.takes_back,
            taken_back: e.taken_back,
        };
        Ok(all.into_iter().map(out).collect())
    }

    /// Takes the events of a case in that comes with them. Errors: `bad-events` where they are not numbered from 1 on, or one id stands
    /// twice.
    pub(crate) async fn import_events(&mut self, case: Uuid, events: &[ExportedEvent]) -> Result<(), StoreError> {
        let bad = |m: &str| Problem::new("bad-events", m).field("events");
        let mut seen = std::collections::HashSet::new();
        for (e, n) in events.iter().zip(1..) {
            if e.sequence != n || !seen.insert(e.id) {
                return Err(bad("the events of a case are numbered from 1 on, and no id stands twice").into());
            }
            // PostgreSQL's JSON holds no NUL.
            let text = serde_json::to_string(e).map_err(|e| StoreError::Broken(e.to_string()))?;
            if text.contains("\\u0000") {
                return Err(bad("a text holds the character NUL, which is no text").into());
            }
            let at: jiff::Timestamp = e.at_time.parse().map_err(|_| bad(&format!("“{}” is no time in RFC 3339", e.at_time)))?;
            let event = NewEvent {
                sequence: e.sequence,
                id: e.id,
                at_time: Some(at.to_string()),
                person: &e.by,
                what: &e.what,
                edit: e.edit.as_ref(),
                changes: e.changes.as_deref(),
                takes_back: e.takes_back,
                was_undone: e.taken_back && e.changes.is_none(),
            };
            self.keep_event(case, event).await?;
        }
        Ok(())
    }

    /// What was done to a case after a version, oldest first, and the version that it has now.
    pub async fn since(&mut self, id: Uuid, version: i32) -> Result<(i32, Vec<CaseEvent>), StoreError> {
        let now: Option<i32> = sqlx::query_scalar("SELECT version FROM case_file WHERE id = $1 AND workshop_id = $2")
            .bind(id)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        let now = now.ok_or(StoreError::NotFound)?;
        let mut events = if now > version { self.events(id, version, 20).await? } else { vec![] };
        events.reverse();
        Ok((now, events))
    }
}

/// The document of a case that is taken in.
pub(crate) fn read_document(text: &str) -> Result<CaseDocument, StoreError> {
    let json = serde_json::from_str(text).map_err(|e| StoreError::Broken(e.to_string()))?;
    Ok(CaseDocument::read(json)?)
}
