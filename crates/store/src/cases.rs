//! Cases: the open document, its history, and what the board needs of it.

use crate::{Scope, StoreError};
use baricord_core::case::Case;
use serde_json::Value;
use sqlx::FromRow;
use uuid::Uuid;

/// A case as it is kept.
#[derive(Clone, Debug)]
pub struct StoredCase {
    /// Its id in the database.
    pub id: Uuid,
    /// The whole case file as JSON.
    pub document: Value,
    /// Read of the document.
    pub case: Case,
    /// Counts every change.
    pub version: i32,
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

/// One thing that was done to a case.
#[derive(Clone, Debug, FromRow)]
pub struct Step {
    /// The version it led to.
    pub version: i32,
    /// What was done, in words.
    pub what: String,
    /// Who.
    pub person: String,
    /// Whether it was taken back.
    pub undone: bool,
}

/// Text of a document, the same for the same document.
fn text(document: &Value) -> String {
    document.to_string()
}

fn parse(text: &str) -> Result<Value, StoreError> {
    serde_json::from_str(text).map_err(|e| StoreError::Broken(e.to_string()))
}

fn title(case: &Case) -> String {
    if case.title.trim().is_empty() { case.id.clone() } else { case.title.clone() }
}

impl Scope {
    /// Takes a case in.
    pub async fn add_case(&mut self, document: Value, what: &str, person: &str) -> Result<Uuid, StoreError> {
        let case = Case::from_json(&document)?;
        let c = StoredCase { id: Uuid::now_v7(), document, case, version: 1 };
        let board = self.board_words(&c).await?;
        let vehicle = self.vehicle_named(&c.case.vehicle.name).await?;
        sqlx::query(
            "INSERT INTO case_file (id, workshop_id, title, vehicle, document, waits_for, waits_words, vehicle_id, weighed_by)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
        )
        .bind(c.id)
        .bind(self.workshop())
        .bind(title(&c.case))
        .bind(&c.case.vehicle.name)
        .bind(text(&c.document))
        .bind(board.station.id())
        .bind(board.words)
        .bind(vehicle)
        .bind(board.weighed_by)
        .execute(&mut *self.tx)
        .await?;
        self.keep_step(c.id, 1, &c.document, (what, person, None)).await?;
        Ok(c.id)
    }

    /// The id of a run that comes into a case: R1, R2 … never one that the case has had before, also when that
    /// run was taken back: its samples and its file are another's.
    pub async fn new_run_id(&mut self, id: Uuid) -> Result<String, StoreError> {
        let c = self.fetch(id, "FOR UPDATE").await?;
        let taken = c.case.recordings.iter().filter_map(|r| r.id.strip_prefix('R')?.parse::<i32>().ok()).max().unwrap_or(0);
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

    async fn keep_step(
        &mut self,
        id: Uuid,
        version: i32,
        document: &Value,
        (what, person, mark): (&str, &str, Option<&str>),
    ) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO case_step (workshop_id, case_id, version, document, what, person, mark) VALUES ($1, $2, $3, $4, $5, $6, $7)",
        )
        .bind(self.workshop())
        .bind(id)
        .bind(version)
        .bind(text(document))
        .bind(what)
        .bind(person)
        .bind(mark)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// The current document of a case of this workshop; [`StoreError::NotFound`] where there is none.
    pub async fn case(&mut self, id: Uuid) -> Result<StoredCase, StoreError> {
        self.fetch(id, "").await
    }

    async fn fetch(&mut self, id: Uuid, lock: &str) -> Result<StoredCase, StoreError> {
        let row: Option<(String, i32)> =
            sqlx::query_as(&format!("SELECT document, version FROM case_file WHERE id = $1 AND workshop_id = $2 {lock}"))
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        let (document, version) = row.ok_or(StoreError::NotFound)?;
        let document = parse(&document)?;
        let case = Case::from_json(&document)?;
        Ok(StoredCase { id, document, case, version })
    }

    /// Changes a case. `seen` is the version that the change was made on: when someone has saved
    /// meanwhile nothing is written and it is said who and what. None adds to whatever is there.
    pub async fn edit_case(
        &mut self,
        id: Uuid,
        seen: Option<i32>,
        what: &str,
        person: &str,
        change: impl FnOnce(&mut Value) -> Result<(), baricord_core::error::Problem>,
    ) -> Result<StoredCase, StoreError> {
        self.edit_case_once(id, None, seen, what, person, change).await
    }

    /// The same, once for each `mark`: what is sent again because its receipt was lost changes nothing.
    pub async fn edit_case_once(
        &mut self,
        id: Uuid,
        mark: Option<&str>,
        seen: Option<i32>,
        what: &str,
        person: &str,
        change: impl FnOnce(&mut Value) -> Result<(), baricord_core::error::Problem>,
    ) -> Result<StoredCase, StoreError> {
        let mut c = self.fetch(id, "FOR UPDATE").await?;
        if self.is_kept(id, mark).await? {
            return Ok(c);
        }
        if seen.is_some_and(|s| s != c.version) {
            let last = self.last_step(id).await?;
            return Err(StoreError::Stale {
                by: last.as_ref().map_or_else(String::new, |s| s.person.clone()),
                what: last.map_or_else(String::new, |s| s.what),
                version: c.version,
            });
        }
        change(&mut c.document)?;
        c.case = Case::from_json(&c.document)?;
        c.version += 1;
        self.write(&c).await?;
        self.keep_step(id, c.version, &c.document, (what, person, mark)).await?;
        Ok(c)
    }

    /// Whether what carries this mark is kept already.
    pub async fn is_kept(&mut self, id: Uuid, mark: Option<&str>) -> Result<bool, StoreError> {
        let Some(mark) = mark else { return Ok(false) };
        Ok(sqlx::query_scalar("SELECT EXISTS (SELECT 1 FROM case_step WHERE case_id = $1 AND workshop_id = $2 AND mark = $3)")
            .bind(id)
            .bind(self.workshop())
            .bind(mark)
            .fetch_one(&mut *self.tx)
            .await?)
    }

    /// What was done to a case after a version, oldest first, and the version that it has now.
    pub async fn since(&mut self, id: Uuid, version: i32) -> Result<(i32, Vec<Step>), StoreError> {
        let now: Option<i32> = sqlx::query_scalar("SELECT version FROM case_file WHERE id = $1 AND workshop_id = $2")
            .bind(id)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        let now = now.ok_or(StoreError::NotFound)?;
        let mut steps = if now > version { self.steps(id, i64::from(now - version).min(20)).await? } else { vec![] };
        steps.reverse();
        Ok((now, steps))
    }

    async fn write(&mut self, c: &StoredCase) -> Result<(), StoreError> {
        let board = self.board_words(c).await?;
        let vehicle = self.vehicle_named(&c.case.vehicle.name).await?;
        sqlx::query(
            "UPDATE case_file SET document = $1, version = $2, title = $3, vehicle = $4, waits_for = $5, waits_words = $6, updated_at = now(),
             vehicle_id = $9, weighed_by = $10 WHERE id = $7 AND workshop_id = $8",
        )
        .bind(text(&c.document))
        .bind(c.version)
        .bind(title(&c.case))
        .bind(&c.case.vehicle.name)
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

    async fn last_step(&mut self, id: Uuid) -> Result<Option<Step>, StoreError> {
        Ok(self.steps(id, 1).await?.into_iter().next())
    }

    /// What was done to a case, latest first.
    pub async fn steps(&mut self, id: Uuid, most: i64) -> Result<Vec<Step>, StoreError> {
        Ok(sqlx::query_as(
            "SELECT version, what, person, undone FROM case_step WHERE case_id = $1 AND workshop_id = $2 ORDER BY version DESC LIMIT $3",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(most)
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// Takes back the last thing that was done; what it was, or none when there is nothing left.
    pub async fn undo(&mut self, id: Uuid, person: &str) -> Result<Option<String>, StoreError> {
        let mut c = self.fetch(id, "FOR UPDATE").await?;
        let last: Option<(i32, String)> = sqlx::query_as(
            "SELECT version, what FROM case_step WHERE case_id = $1 AND workshop_id = $2 AND NOT undone AND version > 1
             AND what NOT LIKE 'took back: %' ORDER BY version DESC LIMIT 1",
        )
        .bind(id)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?;
        let Some((version, what)) = last else { return Ok(None) };
        let before: Option<String> = sqlx::query_scalar(
            "SELECT document FROM case_step WHERE case_id = $1 AND workshop_id = $2 AND version < $3 AND NOT undone
             AND what NOT LIKE 'took back: %' ORDER BY version DESC LIMIT 1",
        )
        .bind(id)
        .bind(self.workshop())
        .bind(version)
        .fetch_optional(&mut *self.tx)
        .await?;
        let Some(before) = before else { return Ok(None) };
        sqlx::query("UPDATE case_step SET undone = true WHERE case_id = $1 AND workshop_id = $2 AND version = $3")
            .bind(id)
            .bind(self.workshop())
            .bind(version)
            .execute(&mut *self.tx)
            .await?;
        c.document = parse(&before)?;
        c.case = Case::from_json(&c.document)?;
        c.version += 1;
        self.write(&c).await?;
        self.keep_step(id, c.version, &c.document, (&format!("took back: {what}"), person, None)).await?;
        Ok(Some(what))
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
