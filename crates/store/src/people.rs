//! Who may sign in. Passwords are kept as Argon2 hashes only.

use crate::{Scope, Store, StoreError, per_request};
use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use baricord_core::error::Problem;
use baricord_core::permission::{check_email, check_owners_left, check_password};
use sqlx::FromRow;
use std::time::Duration;
use uuid::Uuid;

pub use baricord_core::permission::{MAX_PASSWORD_BYTES, Role};

/// A person of a workshop.
#[derive(Clone, FromRow)]
pub struct Person {
    /// Id of the person.
    pub id: Uuid,
    /// Their workshop.
    pub workshop_id: Uuid,
    /// How they sign in.
    pub email: String,
    /// How they are called.
    pub name: String,
    role: String,
    password_hash: String,
    /// paper or pit.
    pub theme: String,
    /// metric or imperial.
    pub units: String,
    /// Whether they belong to the demo workshop and sign in only where it runs.
    pub demo: bool,
}

// The hash stays out of every log.
impl std::fmt::Debug for Person {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Person").field("id", &self.id).field("name", &self.name).finish_non_exhaustive()
    }
}

impl Person {
    /// What they may do; with a role that is not known, look.
    pub fn role(&self) -> Role {
        Role::parse(&self.role).unwrap_or(Role::Viewer)
    }
    /// Changes when the password does: sessions made before end then.
    pub fn session_key(&self) -> &[u8] {
        self.password_hash.as_bytes()
    }
}

pub(crate) const COLUMNS: &str = "id, workshop_id, email, name, role, password_hash, theme, units, demo";

fn hash(password: &str) -> Result<String, StoreError> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .map(|h| h.to_string())
        .map_err(|e| StoreError::Broken(format!("the password cannot be hashed: {e}")))
}

fn matches(password: &str, kept: &str) -> bool {
    PasswordHash::new(kept).is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
}

/// How long a sign-in waits for its turn.
const WAITS: Duration = Duration::from_secs(10);

impl Store {
    /// Works on a password beside the async threads, with no more than a few at once.
    async fn hashing<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T, StoreError> {
        let turn = tokio::time::timeout(WAITS, self.hashes.clone().acquire_owned()).await;
        let permit =
            turn.map_err(|_| StoreError::Busy("many people sign in at once"))?.map_err(|_| StoreError::Busy("closing"))?;
        let done = tokio::task::spawn_blocking(move || {
            let out = work();
            drop(permit);
            out
        });
        done.await.map_err(|e| StoreError::Broken(e.to_string()))
    }

    async fn hash(&self, password: &str) -> Result<String, StoreError> {
        check_password(password)?;
        let password = password.to_string();
        self.hashing(move || hash(&password)).await?
    }

    /// The person with this address and password. A wrong address takes as long as a wrong password; a password
    /// longer than any that is kept is wrong at once.
    pub async fn sign_in(&self, email: &str, password: &str) -> Result<Option<Person>, StoreError> {
        if password.len() > MAX_PASSWORD_BYTES || check_email(email.trim()).is_err() {
            return Ok(None);
        }
        let found = self.person_by_email(email).await?;
        let password = password.to_string();
        self.hashing(move || match found {
            Some(p) if matches(&password, &p.password_hash) => Ok(Some(p)),
            Some(_) => Ok(None),
            None => hash(&password).map(|_| None),
        })
        .await?
    }

    /// The person with this address.
    pub async fn person_by_email(&self, email: &str) -> Result<Option<Person>, StoreError> {
        Ok(sqlx::query_as(&format!("SELECT {COLUMNS} FROM person_to_sign_in($1)"))
            .bind(email.trim())
            .fetch_optional(self.pool())
            .await?)
    }

    /// The person of a session. What they ask for next in the same request goes by the transaction in which they were found.
    pub async fn person(&self, id: Uuid) -> Result<Option<Person>, StoreError> {
        if !per_request::may_leave() {
            let sql = format!("SELECT {COLUMNS} FROM person_of_session($1)");
            return Ok(sqlx::query_as(&sql).bind(id).fetch_optional(self.pool()).await?);
        }
        let sql = format!("SELECT {COLUMNS}, set_config('app.workshop', workshop_id::text, true) FROM person_of_session($1)");
        let mut tx = self.pool().begin().await?;
        let person: Option<Person> = sqlx::query_as(&sql).bind(id).fetch_optional(&mut *tx).await?;
        if let Some(p) = &person {
            per_request::leave(Scope { tx, workshop: p.workshop_id, store: self.clone() });
        }
        Ok(person)
    }

    /// Workshops that are called so, capitals or not.
    pub async fn workshops_named(&self, name: &str) -> Result<Vec<Uuid>, StoreError> {
        Ok(sqlx::query_scalar("SELECT workshops_named($1)").bind(name.trim()).fetch_all(self.pool()).await?)
    }

    /// A new workshop, in a transaction of its own that the caller ends: with its first person, or not at all.
    pub async fn begin_workshop(&self, name: &str, demo: bool) -> Result<Scope, StoreError> {
        let id = Uuid::now_v7();
        let mut s = self.scope(id).await?;
        sqlx::query("INSERT INTO workshop (id, name, demo) VALUES ($1, $2, $3)")
            .bind(id)
            .bind(name)
            .bind(demo)
            .execute(&mut *s.tx)
            .await?;
        Ok(s)
    }

    /// A new workshop.
    pub async fn add_workshop(&self, name: &str) -> Result<Uuid, StoreError> {
        let s = self.begin_workshop(name, false).await?;
        let id = s.workshop();
        s.commit().await?;
        Ok(id)
    }

    /// A new person of a workshop. An address belongs to one person in all workshops.
    pub async fn add_person(
        &self,
        s: &mut Scope,
        email: &str,
        name: &str,
        role: Role,
        password: &str,
    ) -> Result<Uuid, StoreError> {
        let email = email.trim().to_lowercase();
        check_email(&email)?;
        if self.person_by_email(&email).await?.is_some() {
            return Err(Problem::new("exists", format!("{email} is somebody's address already")).field("email").into());
        }
        let id = Uuid::now_v7();
        sqlx::query(
            "INSERT INTO person (id, workshop_id, email, name, role, password_hash, demo)
             SELECT $1, $2, $3, $4, $5, $6, demo FROM workshop WHERE id = $2",
        )
        .bind(id)
        .bind(s.workshop())
        .bind(email)
        .bind(name)
        .bind(role.id())
        .bind(self.hash(password).await?)
        .execute(&mut *s.tx)
        .await?;
        Ok(id)
    }

    /// A new password; sessions that were begun with the old one end.
    pub async fn set_password(&self, s: &mut Scope, person: Uuid, password: &str) -> Result<(), StoreError> {
        let hash = self.hash(password).await?;
        let done = sqlx::query("UPDATE person SET password_hash = $1 WHERE id = $2 AND workshop_id = $3")
            .bind(hash)
            .bind(person)
            .bind(s.workshop())
            .execute(&mut *s.tx)
            .await?;
        if done.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }
}

impl Scope {
    /// Whether it is the demo workshop.
    pub async fn is_demo(&mut self) -> Result<bool, StoreError> {
        let demo: Option<bool> = sqlx::query_scalar("SELECT demo FROM workshop WHERE id = $1")
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        Ok(demo.unwrap_or(false))
    }

    /// Another role for a person, or none: they leave. The last owner of a workshop stays its owner.
    pub async fn set_role(&mut self, person: Uuid, role: Option<Role>) -> Result<(), StoreError> {
        // Two who are changed at once wait for each other: the owners are counted with their rows held.
        let people: Vec<(Uuid, String)> =
            sqlx::query_as("SELECT id, role FROM person WHERE workshop_id = $1 ORDER BY id FOR UPDATE")
                .bind(self.workshop())
                .fetch_all(&mut *self.tx)
                .await?;
        if !people.iter().any(|p| p.0 == person) {
            return Err(StoreError::NotFound);
        }
        let owners = people.iter().filter(|p| p.0 != person && p.1 == Role::Owner.id()).count();
        check_owners_left(owners + usize::from(role == Some(Role::Owner)))?;
        let query = match role {
            Some(_) => "UPDATE person SET role = $3 WHERE id = $1 AND workshop_id = $2",
            None => "DELETE FROM person WHERE id = $1 AND workshop_id = $2 AND $3::text IS NULL",
        };
        sqlx::query(query).bind(person).bind(self.workshop()).bind(role.map(Role::id)).execute(&mut *self.tx).await?;
        Ok(())
    }

    /// Keeps how a person wants to see things.
    pub async fn set_preferences(&mut self, person: Uuid, theme: &str, units: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE person SET theme = $1, units = $2 WHERE id = $3 AND workshop_id = $4")
            .bind(theme)
            .bind(units)
            .bind(person)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }
}
