//! Second opinions: a link to one case, which ends, can be taken back, and brings one answer.

use crate::tokens::hash;
use crate::{Scope, Store, StoreError};
use sqlx::FromRow;
use uuid::Uuid;

/// Links of a case that may stand at once.
const MOST: i64 = 10;

/// A second opinion as its workshop sees it.
#[derive(Clone, Debug, FromRow)]
pub struct Opinion {
    /// Id of the request.
    pub id: Uuid,
    /// What is asked.
    pub question: String,
    /// Who asks.
    pub asked_by: String,
    /// Hours until its link ends; less than nothing once it has.
    pub hours_left: f64,
    /// Whether its link was taken back.
    pub revoked: bool,
    /// What came back.
    pub answer: Option<String>,
    /// From whom.
    pub answered_by: Option<String>,
}

impl Opinion {
    /// Whether its link still shows the case.
    pub fn is_open(&self) -> bool {
        !self.revoked && self.hours_left > 0.0
    }
}

/// What a link leads to.
#[derive(Clone, Debug, FromRow)]
pub struct Linked {
    /// The opinion.
    pub id: Uuid,
    /// Of which workshop.
    pub workshop_id: Uuid,
    /// The case that it shows.
    pub case_id: Uuid,
}

const COLUMNS: &str =
    "id, question, asked_by, (extract(epoch FROM ends_at - now()) / 3600)::float8 AS hours_left, revoked, answer, answered_by";

impl Scope {
    /// Makes a link to a case: its secret, which nobody can read again. None where enough stand.
    pub async fn ask_opinion(
        &mut self,
        case: Uuid,
        question: &str,
        person: &str,
        days: i32,
    ) -> Result<Option<String>, StoreError> {
        self.case(case).await?;
        if self.opinions(case).await?.iter().filter(|o| o.is_open()).count() as i64 >= MOST {
            return Ok(None);
        }
        // Two random identifiers: 244 bits of chance.
        let secret = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
        sqlx::query(
            "INSERT INTO opinion (id, workshop_id, case_id, secret_hash, question, asked_by, ends_at)
             VALUES ($1, $2, $3, $4, $5, $6, now() + make_interval(days => $7))",
        )
        .bind(Uuid::now_v7())
        .bind(self.workshop())
        .bind(case)
        .bind(hash(&secret))
        .bind(question)
        .bind(person)
        .bind(days)
        .execute(&mut *self.tx)
        .await?;
        Ok(Some(secret))
    }

    /// The second opinions of a case, oldest first.
    pub async fn opinions(&mut self, case: Uuid) -> Result<Vec<Opinion>, StoreError> {
        let asked = format!("SELECT {COLUMNS} FROM opinion WHERE case_id = $1 AND workshop_id = $2 ORDER BY created_at");
        Ok(sqlx::query_as(&asked).bind(case).bind(self.workshop()).fetch_all(&mut *self.tx).await?)
    }

    /// One of them.
    pub async fn opinion(&mut self, id: Uuid) -> Result<Opinion, StoreError> {
        let asked = format!("SELECT {COLUMNS} FROM opinion WHERE id = $1 AND workshop_id = $2");
        let one = sqlx::query_as(&asked).bind(id).bind(self.workshop()).fetch_optional(&mut *self.tx).await?;
        one.ok_or(StoreError::NotFound)
    }

    /// Takes a link back.
    pub async fn revoke_opinion(&mut self, case: Uuid, id: Uuid) -> Result<(), StoreError> {
        let done = sqlx::query("UPDATE opinion SET revoked = true WHERE id = $1 AND case_id = $2 AND workshop_id = $3")
            .bind(id)
            .bind(case)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        if done.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }

    /// Keeps the answer; whether it was the first.
    pub async fn answer_opinion(&mut self, id: Uuid, by: &str, answer: &str) -> Result<bool, StoreError> {
        let done = sqlx::query(
            "UPDATE opinion SET answer = $1, answered_by = $2 WHERE id = $3 AND workshop_id = $4 AND answer IS NULL
             AND NOT revoked AND ends_at > now()",
        )
        .bind(answer)
        .bind(by)
        .bind(id)
        .bind(self.workshop())
        .execute(&mut *self.tx)
        .await?;
        Ok(done.rows_affected() > 0)
    }
}

impl Store {
    /// What a link leads to; nothing once it has ended or was taken back.
    pub async fn linked(&self, secret: &str) -> Result<Option<Linked>, StoreError> {
        Ok(sqlx::query_as("SELECT id, workshop_id, case_id FROM opinion_of_link($1)")
            .bind(hash(secret))
            .fetch_optional(self.pool())
            .await?)
    }
}
