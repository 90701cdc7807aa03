//! Cases: the open document as it is now, and what the board needs of it.

use crate::events::{ExportedEvent, NewEvent, read_document};
use crate::{Scope, StoreError};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
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
        let board = self.board_words(&c).await?;
        let vehicle = self.vehicle_named(&c.case().vehicle.name).await?;
        sqlx::query(
            "INSERT INTO case_file (id, workshop_id, title, vehicle, document, waits_for, waits_words, vehicle_id, weighed_by, version)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
        )
        .bind(c.id)
        .bind(self.workshop())
        .bind(title(c.case()))
        .bind(&c.case().vehicle.name)
        .bind(c.document.text())
        .bind(board.station.id())
        .bind(board.words)
        .bind(vehicle)
        .bind(board.weighed_by)
        .bind(version)
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

    pub(crate) async fn write(&mut self, c: &StoredCase) -> Result<(), StoreError> {
        let board = self.board_words(c).await?;
        let vehicle = self.vehicle_named(&c.case().vehicle.name).await?;
        sqlx::query(
            "UPDATE case_file SET document = $1, version = $2, title = $3, vehicle = $4, waits_for = $5, waits_words = $6, updated_at = now(),
             vehicle_id = $9, weighed_by = $10 WHERE id = $7 AND workshop_id = $8",
        )
        .bind(c.document.text())
        .bind(c.version)
        .bind(title(c.case()))
        .bind(&c.case().vehicle.name)
        .bind(board.station.id())
        .bind(board.words)
        .bind(c.id)
        .bind(self.workshop())
        .bind(vehicle)
        .bind(board.weighed_by)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Brings the board's line of a case up to date after an analysis.
    pub async fn refresh_board(&mut self, id: Uuid) -> Result<(), StoreError> {
        let c = self.fetch(id, "FOR UPDATE").await?;
        self.write(&c).await
    }

    /// The board: all cases, by what each waits for; with words, those whose own words hold one of them.
    pub async fn board(&mut self, words: &[String], most: i64) -> Result<Vec<BoardLine>, StoreError> {
        // What is typed is text, not a pattern.
        let escaped = |w: &String| format!("%{}%", w.replace('\\', r"\\").replace('%', r"\%").replace('_', r"\_"));
        let patterns: Vec<String> = words.iter().map(escaped).collect();
        Ok(sqlx::query_as(
            "SELECT id, title, vehicle, waits_for, waits_words, (extract(epoch FROM now() - updated_at) / 60)::bigint AS idle_minutes
             FROM case_file WHERE workshop_id = $1 AND (cardinality($3::text[]) = 0 OR concat_ws(' ', title, vehicle, waits_words,
               -- A document with an escaped NUL is no jsonb: it is found by its title and vehicle.
               CASE WHEN strpos(document, '\\u0000') = 0 THEN concat_ws(' ',
                 jsonb_path_query_array(document::jsonb, '$.symptoms[*].words')::text,
                 jsonb_path_query_array(document::jsonb, '$.attempts[*].what')::text,
                 replace(jsonb_path_query_array(document::jsonb, '$.repairs[*].fault')::text, '-', ' ')) END) ILIKE ANY ($3)) ORDER BY updated_at DESC LIMIT $2",
        )
        .bind(self.workshop())
        .bind(most)
        .bind(patterns)
        .fetch_all(&mut *self.tx)
        .await?)
    }
}
