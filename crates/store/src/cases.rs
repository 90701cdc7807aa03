//! Cases: the open document as it is now, and what the board needs of it.

use crate::assessments::WEIGHED_AT_ONCE;
use crate::events::{ExportedEvent, NewEvent, read_document};
use crate::workshop_knowledge::SharedKnowledge;
use crate::{Scope, StoreError};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::is_danger;
use sqlx::{FromRow, Row};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use uuid::Uuid;

/// A case as it is kept.
#[derive(Clone, Debug)]
pub struct StoredCase {
    /// Its id in the database.
    pub id: Uuid,
    /// Its document, with the case that is read of it.
    pub document: CaseDocument,
    /// Counts every change.
    pub version: i32,
}

impl StoredCase {
    /// The case.
    pub fn case(&self) -> &Case {
        self.document.case()
    }
}

/// What the board shows of a case, from columns beside the document.
#[derive(Clone, Debug, FromRow)]
pub struct BoardLine {
    /// Id of the case in addresses.
    pub id: Uuid,
    /// What people call the case.
    pub title: String,
    /// Name of the vehicle.
    pub vehicle: String,
    /// What it waits for.
    pub waits_for: String,
    /// What is done next, in words.
    pub waits_words: String,
    /// Minutes since it was last touched.
    pub idle_minutes: i64,
}

/// Cases of a lane that are counted: of more nobody reads the number, and a workshop's closed cases grow without end.
pub const COUNTED: i64 = 500;

/// A lane of the board.
#[derive(Clone, Debug)]
pub struct BoardLane {
    /// The station that its cases wait for.
    pub id: String,
    /// Cases of it, counted up to [`COUNTED`].
    pub count: i64,
    /// Its latest cases, where it is shown.
    pub lines: Vec<BoardLine>,
}

impl BoardLine {
    /// Whether what it says is a danger that must be seen.
    pub fn is_danger(&self) -> bool {
        is_danger(&self.waits_words)
    }
}

/// What stands beside the document of a case, made of it: what people call it, the vehicle's name, the day on which it was opened.
fn named(case: &Case) -> (&str, &str, Option<&str>) {
    let title = if case.title.trim().is_empty() { &case.id } else { &case.title };
    (title, &case.vehicle.name, case.opened.as_deref())
}

/// What a case is found by.
fn said(case: &Case) -> Vec<Cow<'_, str>> {
    let (title, vehicle, _) = named(case);
    let mut all = case.search_phrases();
    all.extend([title.into(), vehicle.into()]);
    all
}

/// What was added to some phrases; none where something was taken away as well.
fn only_added<'a>(before: &[Cow<'_, str>], now: &'a [Cow<'_, str>]) -> Option<Vec<&'a str>> {
    // Most are the same from both ends; only what is between is counted.
    let from = before.iter().zip(now).take_while(|(b, n)| b == n).count();
    let (before, now) = (&before[from..], &now[from..]);
    let to = before.iter().rev().zip(now.iter().rev()).take_while(|(b, n)| b == n).count();
    let (before, now) = (&before[..before.len() - to], &now[..now.len() - to]);
    let mut left: HashMap<&str, usize> = HashMap::new();
    before.iter().for_each(|p| *left.entry(p).or_default() += 1);
    let mut added = vec![];
    for p in now {
        match left.get_mut(p.as_ref()).filter(|n| **n > 0) {
            Some(n) => *n -= 1,
            None => added.push(p.as_ref()),
        }
    }
    left.values().all(|n| *n == 0).then_some(added)
}

impl Scope {
    /// Takes a case in.
    pub async fn add_case(&mut self, document: CaseDocument, what: &str, person: &str) -> Result<Uuid, StoreError> {
        self.add_case_with(document, &[], what, person).await
    }

    /// Takes a case in with what was done to it before; that it was taken in stands after it.
    pub async fn add_case_with(
        &mut self,
        document: CaseDocument,
        events: &[ExportedEvent],
        what: &str,
        person: &str,
    ) -> Result<Uuid, StoreError> {
        let version = i32::try_from(events.len()).unwrap_or(i32::MAX - 1) + 1;
        let c = StoredCase { id: Uuid::now_v7(), document, version };
        let vehicle = self.vehicle_named(&c.case().vehicle.name).await?;
        sqlx::query(
            "INSERT INTO case_file (id, workshop_id, title, vehicle, document, waits_for, waits_words, vehicle_id, version, opened)
             VALUES ($1, $2, $3, $4, $5, $6, '', $7, $8, $9)",
        )
        .bind(c.id)
        .bind(self.workshop())
        .bind(named(c.case()).0)
        .bind(&c.case().vehicle.name)
        .bind(c.document.text())
        .bind(Station::Complaint.id())
        .bind(vehicle)
        .bind(version)
        .bind(c.case().opened.as_deref())
        .execute(&mut *self.tx)
        .await?;
        self.keep_said(c.id, &said(c.case()).join(" ")).await?;
        self.import_events(c.id, events).await?;
        let opened = NewEvent {
            sequence: version,
            id: Uuid::now_v7(),
            at_time: None,
            person,
            what,
            edit: None,
            changes: None,
            takes_back: None,
            was_undone: false,
        };
        self.keep_event(c.id, opened).await?;
        Ok(c.id)
    }

    /// The id of a run that comes into a case: R1, R2 … never one that the case has had before, also when that
    /// run was taken back: its samples and its file are another's.
    pub async fn new_run_id(&mut self, id: Uuid) -> Result<String, StoreError> {
        let c = self.fetch(id, "FOR UPDATE").await?;
        let taken = c.case().recordings.iter().filter_map(|r| r.id.strip_prefix('R')?.parse::<i32>().ok()).max().unwrap_or(0);
        let n: i32 = sqlx::query_scalar(
            "UPDATE case_file SET last_run = greatest(last_run, $3) + 1 WHERE id = $1 AND workshop_id = $2 RETURNING last_run",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(taken.min(i32::MAX - 1))
        .fetch_one(&mut *self.tx)
        .await?;
        Ok(format!("R{n}"))
    }

    /// The current document of a case of this workshop; [`StoreError::NotFound`] where there is none.
    pub async fn case(&mut self, id: Uuid) -> Result<Arc<StoredCase>, StoreError> {
        self.fetch(id, "").await
    }

    /// The current document: held in memory under its stamp, else read.
    pub(crate) async fn fetch(&mut self, id: Uuid, lock: &str) -> Result<Arc<StoredCase>, StoreError> {
        Ok(self.fetch_stamped(id, lock).await?.0)
    }

    /// The current document, locked and no longer held in memory: it is changed in its place. With the stamp under which it was held.
    pub(crate) async fn take(&mut self, id: Uuid) -> Result<(Arc<StoredCase>, Uuid), StoreError> {
        let (case, stamp) = self.fetch_stamped(id, "FOR UPDATE").await?;
        let held = &self.store.assessments.documents;
        held.invalidate(&stamp);
        // What was asked of the cache until now holds it, too.
        held.run_pending_tasks();
        Ok((case, stamp))
    }

    /// Holds a document in memory. A stamp is never given twice: where the transaction is not kept nobody asks for its stamps.
    pub(crate) fn hold_document(&self, stamp: Uuid, c: &Arc<StoredCase>) {
        self.store.assessments.documents.insert(stamp, c.clone());
    }

    async fn fetch_stamped(&mut self, id: Uuid, lock: &str) -> Result<(Arc<StoredCase>, Uuid), StoreError> {
        let stamp: Option<Uuid> =
            sqlx::query_scalar(&format!("SELECT stamp FROM case_file WHERE id = $1 AND workshop_id = $2 {lock}"))
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        let stamp = stamp.ok_or(StoreError::NotFound)?;
        if let Some(held) = self.store.assessments.documents.get(&stamp) {
            return Ok((held, stamp));
        }
        let row: Option<(String, i32, Uuid)> =
            sqlx::query_as("SELECT document, version, stamp FROM case_file WHERE id = $1 AND workshop_id = $2")
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        let (document, version, stamp) = row.ok_or(StoreError::NotFound)?;
        let read = Arc::new(StoredCase { id, document: read_document(&document)?, version });
        self.hold_document(stamp, &read);
        Ok((read, stamp))
    }

    /// Writes the document of a case as it is now, which was another before. What it comes to is weighed when somebody looks.
    pub(crate) async fn write(&mut self, c: &Arc<StoredCase>, before: &Case) -> Result<(), StoreError> {
        let now = c.case();
        let update = "UPDATE case_file SET document = $1, version = $2, weighed_by = '', updated_at = now()";
        let of = "WHERE id = $3 AND workshop_id = $4 RETURNING stamp";
        // What does not change with most edits is written where it does.
        let stamp = if named(now) == named(before) {
            let sql = format!("{update} {of}");
            let q = sqlx::query_scalar(&sql).bind(c.document.text()).bind(c.version).bind(c.id).bind(self.workshop());
            q.fetch_one(&mut *self.tx).await?
        } else {
            let (title, name, opened) = named(now);
            let vehicle = self.vehicle_named(name).await?;
            let sql = format!("{update}, title = $5, vehicle = $6, vehicle_id = $7, opened = $8 {of}");
            let q = sqlx::query_scalar(&sql).bind(c.document.text()).bind(c.version).bind(c.id).bind(self.workshop());
            q.bind(title).bind(name).bind(vehicle).bind(opened).fetch_one(&mut *self.tx).await?
        };
        // Most edits add to what a case is found by, or leave it: only what is new is sorted in then.
        let (was, is) = (said(before), said(now));
        match only_added(&was, &is) {
            Some(added) if added.is_empty() => {}
            Some(added) => self.add_said(c.id, &added.join(" ")).await?,
            None => self.keep_said(c.id, &is.join(" ")).await?,
        }
        self.hold_document(stamp, c);
        Ok(())
    }

    /// Keeps what a case is found by.
    async fn keep_said(&mut self, id: Uuid, said: &str) -> Result<(), StoreError> {
        sqlx::query(
            "WITH said AS MATERIALIZED (SELECT to_tsvector('english', $3) AS s)
             INSERT INTO case_search (workshop_id, case_id, said, search)
             SELECT workshop_id, id, s, found_by(s, waits_words, workshop_id) FROM case_file, said
             WHERE id = $1 AND workshop_id = $2 ON CONFLICT (case_id) DO UPDATE SET said = EXCLUDED.said, search = EXCLUDED.search",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(said)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Keeps what a case is found by besides.
    async fn add_said(&mut self, id: Uuid, added: &str) -> Result<(), StoreError> {
        sqlx::query(
            "WITH added AS MATERIALIZED (SELECT to_tsvector('english', $3) AS s)
             UPDATE case_search SET said = said || s, search = search || s FROM added WHERE case_id = $1 AND workshop_id = $2",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(added)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// The lanes of the board in the order in which they are named: how many cases each holds, and of those that are shown the latest.
    /// Cases that are stale ([`Self::weigh_stale`]) are weighed first, a few at a time; which they were, stands beside: they are kept
    /// when the scope is committed.
    pub async fn board(
        &mut self,
        knowledge: &SharedKnowledge,
        lanes: &[(&str, bool)],
        most: i64,
    ) -> Result<(Vec<BoardLane>, Vec<Uuid>), StoreError> {
        let (now, stale) = self.lanes(knowledge, lanes, most).await?;
        if stale.is_empty() {
            return Ok((now, stale));
        }
        self.weigh_stale(&stale).await?;
        Ok((self.lanes(knowledge, lanes, most).await?.0, stale))
    }

    async fn lanes(
        &mut self,
        knowledge: &SharedKnowledge,
        lanes: &[(&str, bool)],
        most: i64,
    ) -> Result<(Vec<BoardLane>, Vec<Uuid>), StoreError> {
        let (ids, shown): (Vec<&str>, Vec<bool>) = lanes.iter().copied().unzip();
        let rows = sqlx::query(
            "SELECT s.lane, c.count, l.*, ARRAY(
               SELECT id FROM case_file WHERE workshop_id = $1 AND (weighed_by < $5 OR weighed_by > $5) ORDER BY updated_at DESC LIMIT $6) AS stale
             FROM unnest($2::text[], $3::bool[]) WITH ORDINALITY AS s(lane, shown, n)
             CROSS JOIN LATERAL (
               SELECT count(*) AS count FROM (SELECT FROM case_file WHERE workshop_id = $1 AND waits_for = s.lane AND archived_at IS NULL LIMIT $7) counted) c
             LEFT JOIN LATERAL (
               SELECT id, title, vehicle, waits_for, waits_words, updated_at, (extract(epoch FROM now() - updated_at) / 60)::bigint AS idle_minutes
               FROM case_file WHERE s.shown AND workshop_id = $1 AND waits_for = s.lane AND archived_at IS NULL ORDER BY updated_at DESC LIMIT $4) l ON true
             ORDER BY s.n, l.updated_at DESC",
        )
        .bind(self.workshop())
        .bind(ids)
        .bind(shown)
        .bind(most)
        .bind(knowledge.version())
        .bind(WEIGHED_AT_ONCE)
        .bind(COUNTED)
        .fetch_all(&mut *self.tx)
        .await?;
        let stale = rows.first().map_or(Ok(vec![]), |row| row.try_get("stale"))?;
        let mut out: Vec<BoardLane> = vec![];
        for row in &rows {
            let id: &str = row.try_get("lane")?;
            if out.last().is_none_or(|l| l.id != id) {
                out.push(BoardLane { id: id.to_string(), count: row.try_get("count")?, lines: vec![] });
            }
            if let (Some(lane), Some(_)) = (out.last_mut(), row.try_get::<Option<Uuid>, _>("id")?) {
                lane.lines.push(BoardLine::from_row(row)?);
            }
        }
        Ok((out, stale))
    }

    /// Cases of which one of some wordings is said, the latest first: every word of it, or how it goes on.
    pub async fn search(&mut self, wordings: &[String], most: i64) -> Result<Vec<BoardLine>, StoreError> {
        let Some(query) = search_query(wordings) else { return Ok(vec![]) };
        Ok(sqlx::query_as(
            "SELECT id, title, vehicle, waits_for, CASE WHEN archived_at IS NULL THEN waits_words ELSE 'put away' END AS waits_words,
                    (extract(epoch FROM now() - updated_at) / 60)::bigint AS idle_minutes
             FROM case_file WHERE workshop_id = $1 AND id IN (SELECT cases_that_say($3, $2)) ORDER BY updated_at DESC LIMIT $2",
        )
        .bind(self.workshop())
        .bind(most)
        .bind(query)
        .fetch_all(&mut *self.tx)
        .await?)
    }
}

/// What is typed, as PostgreSQL searches for it: letters and digits only, so that nothing of it is an operator. None where nothing
/// can be searched for.
fn search_query(wordings: &[String]) -> Option<String> {
    let words = |w: &String| {
        let parts = w.split(|c: char| !c.is_alphanumeric()).filter(|p| !p.is_empty());
        let all: Vec<String> = parts.map(|p| format!("{p}:*")).collect();
        (!all.is_empty()).then(|| format!("({})", all.join(" & ")))
    };
    let all: Vec<String> = wordings.iter().filter_map(words).collect();
    (!all.is_empty()).then(|| all.join(" | "))
}

#[cfg(test)]
mod tests {
    use super::{only_added, search_query};
    use std::borrow::Cow;

    #[test]
    fn what_is_added_is_told_and_what_is_taken_away_is_no_adding() {
        let of = |w: &[&'static str]| w.iter().map(|w| Cow::from(*w)).collect::<Vec<_>>();
        let (two, three) = (of(&["a", "b"]), of(&["a", "c", "b"]));
        assert_eq!(only_added(&two, &three), Some(vec!["c"]));
        assert_eq!(only_added(&three, &two), None);
        assert_eq!(only_added(&two, &two), Some(vec![]));
        assert_eq!(only_added(&two, &of(&["a", "b", "b"])), Some(vec!["b"]), "said twice");
        assert_eq!(only_added(&of(&["b", "b"]), &of(&["b", "d"])), None);
    }

    #[test]
    fn what_is_typed_is_words_and_no_operator() {
        let of = |w: &[&str]| search_query(&w.iter().map(|w| (*w).to_string()).collect::<Vec<_>>());
        assert_eq!(of(&["mail van", "hum"]).as_deref(), Some("(mail:* & van:*) | (hum:*)"));
        assert_eq!(of(&["a'b | !c:*(%_\\"]).as_deref(), Some("(a:* & b:* & c:*)"));
        assert_eq!((of(&["%"]), of(&[])), (None, None));
    }
}
