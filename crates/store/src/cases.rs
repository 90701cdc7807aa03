//! Cases: the open document as it is now, and what the board needs of it.

use crate::events::{ExportedEvent, NewEvent, read_document};
use crate::{Scope, StoreError};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::workflow::Station;
use sqlx::FromRow;
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

    /// The case alone.
    pub fn into_case(self) -> Case {
        self.document.into_case()
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

fn title(case: &Case) -> String {
    if case.title.trim().is_empty() { case.id.clone() } else { case.title.clone() }
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
            "INSERT INTO case_file (id, workshop_id, title, vehicle, document, waits_for, waits_words, vehicle_id, version, words)
             VALUES ($1, $2, $3, $4, $5, $6, '', $7, $8, $9)",
        )
        .bind(c.id)
        .bind(self.workshop())
        .bind(title(c.case()))
        .bind(&c.case().vehicle.name)
        .bind(c.document.text())
        .bind(Station::Complaint.id())
        .bind(vehicle)
        .bind(version)
        .bind(c.case().search_words())
        .execute(&mut *self.tx)
        .await?;
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
    pub async fn case(&mut self, id: Uuid) -> Result<StoredCase, StoreError> {
        self.fetch(id, "").await
    }

    pub(crate) async fn fetch(&mut self, id: Uuid, lock: &str) -> Result<StoredCase, StoreError> {
        let row: Option<(String, i32)> =
            sqlx::query_as(&format!("SELECT document, version FROM case_file WHERE id = $1 AND workshop_id = $2 {lock}"))
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        let (document, version) = row.ok_or(StoreError::NotFound)?;
        Ok(StoredCase { id, document: read_document(&document)?, version })
    }

    /// Writes the document of a case as it is now. What it comes to is weighed when somebody looks.
    pub(crate) async fn write(&mut self, c: &StoredCase) -> Result<(), StoreError> {
        let vehicle = self.vehicle_named(&c.case().vehicle.name).await?;
        sqlx::query(
            "UPDATE case_file SET document = $1, version = $2, title = $3, vehicle = $4, vehicle_id = $5, weighed_by = '', updated_at = now(),
             words = $6 WHERE id = $7 AND workshop_id = $8",
        )
        .bind(c.document.text())
        .bind(c.version)
        .bind(title(c.case()))
        .bind(&c.case().vehicle.name)
        .bind(vehicle)
        .bind(c.case().search_words())
        .bind(c.id)
        .bind(self.workshop())
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// The latest cases of each lane of the board, lanes in the order in which they are named.
    pub async fn lanes(&mut self, lanes: &[&str], most: i64) -> Result<Vec<BoardLine>, StoreError> {
        Ok(sqlx::query_as(
            "SELECT l.* FROM unnest($2::text[]) WITH ORDINALITY AS s(lane, n) CROSS JOIN LATERAL (
               SELECT id, title, vehicle, waits_for, waits_words, (extract(epoch FROM now() - updated_at) / 60)::bigint AS idle_minutes
               FROM case_file WHERE workshop_id = $1 AND waits_for = s.lane ORDER BY updated_at DESC LIMIT $3) l ORDER BY s.n",
        )
        .bind(self.workshop())
        .bind(lanes)
        .bind(most)
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// How many cases each lane of the board holds.
    pub async fn lane_counts(&mut self) -> Result<Vec<(String, i64)>, StoreError> {
        Ok(sqlx::query_as("SELECT waits_for, count(*) FROM case_file WHERE workshop_id = $1 GROUP BY waits_for")
            .bind(self.workshop())
            .fetch_all(&mut *self.tx)
            .await?)
    }

    /// Cases of which one of some wordings is said, the latest first: every word of it, or how it goes on.
    pub async fn search(&mut self, wordings: &[String], most: i64) -> Result<Vec<BoardLine>, StoreError> {
        let Some(query) = search_query(wordings) else { return Ok(vec![]) };
        Ok(sqlx::query_as(
            "SELECT id, title, vehicle, waits_for, waits_words, (extract(epoch FROM now() - updated_at) / 60)::bigint AS idle_minutes
             FROM case_file WHERE workshop_id = $1 AND search @@ to_tsquery('english', $3) ORDER BY updated_at DESC LIMIT $2",
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
    use super::search_query;

    #[test]
    fn what_is_typed_is_words_and_no_operator() {
        let of = |w: &[&str]| search_query(&w.iter().map(|w| (*w).to_string()).collect::<Vec<_>>());
        assert_eq!(of(&["mail van", "hum"]).as_deref(), Some("(mail:* & van:*) | (hum:*)"));
        assert_eq!(of(&["a'b | !c:*(%_\\"]).as_deref(), Some("(a:* & b:* & c:*)"));
        assert_eq!((of(&["%"]), of(&[])), (None, None));
    }
}
