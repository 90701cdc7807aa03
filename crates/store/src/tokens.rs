//! Personal access tokens for programs. A token is shown once, when it is made; only its hash is kept.

use crate::people::{COLUMNS, Person};
use crate::{Scope, Store, StoreError};
use sha2::{Digest, Sha256};
use sqlx::FromRow;
use uuid::Uuid;

/// Tokens that a person may have.
const MOST: i64 = 20;

/// A token without its secret.
#[derive(Clone, Debug, FromRow)]
pub struct Token {
    /// Id of the token; the secret is kept as a hash only.
    pub id: Uuid,
    /// What its owner calls it.
    pub name: String,
    /// Days since it was last used; none where it never was.
    pub idle_days: Option<i64>,
}

/// What is kept of a secret.
pub(crate) fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret.as_bytes()).to_vec()
}

impl Scope {
    /// A new token of a person: the secret, which nobody can read again. None where they have enough.
    pub async fn add_token(&mut self, person: Uuid, name: &str) -> Result<Option<String>, StoreError> {
        if self.tokens(person).await?.len() as i64 >= MOST {
            return Ok(None);
        }
        // Two random identifiers: 244 bits of chance.
        let secret = format!("baricord_{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
        sqlx::query("INSERT INTO access_token (id, workshop_id, person_id, name, secret_hash) VALUES ($1, $2, $3, $4, $5)")
            .bind(Uuid::now_v7())
            .bind(self.workshop())
            .bind(person)
            .bind(name)
            .bind(hash(&secret))
            .execute(&mut *self.tx)
            .await?;
        Ok(Some(secret))
    }

    /// The tokens of a person.
    pub async fn tokens(&mut self, person: Uuid) -> Result<Vec<Token>, StoreError> {
        Ok(sqlx::query_as(
            "SELECT id, name, (extract(epoch FROM now() - used_at) / 86400)::bigint AS idle_days FROM access_token
             WHERE person_id = $1 AND workshop_id = $2 ORDER BY created_at",
        )
        .bind(person)
        .bind(self.workshop())
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// Takes a token of a person back.
    pub async fn remove_token(&mut self, person: Uuid, id: Uuid) -> Result<(), StoreError> {
        let gone = sqlx::query("DELETE FROM access_token WHERE id = $1 AND person_id = $2 AND workshop_id = $3")
            .bind(id)
            .bind(person)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        if gone.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }
}

impl Store {
    /// Whose token it is.
    pub async fn person_of_token(&self, secret: &str) -> Result<Option<Person>, StoreError> {
        Ok(sqlx::query_as(&format!("SELECT {COLUMNS} FROM person_of_token($1)"))
            .bind(hash(secret))
            .fetch_optional(self.pool())
            .await?)
    }
}
