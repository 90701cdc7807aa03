//! Who may sign in. Passwords are kept as Argon2 hashes only.

use crate::{Scope, Store, StoreError};
use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use sqlx::FromRow;
use uuid::Uuid;

/// What a person may do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Everything.
    Owner,
    /// Work on cases.
    Mechanic,
    /// Work on cases, and learn.
    Learner,
    /// Look.
    Viewer,
}

impl Role {
    fn parse(s: &str) -> Self {
        match s {
            "owner" => Role::Owner,
            "mechanic" => Role::Mechanic,
            "learner" => Role::Learner,
            _ => Role::Viewer,
        }
    }
    /// The word in the database.
    pub fn id(self) -> &'static str {
        match self {
            Role::Owner => "owner",
            Role::Mechanic => "mechanic",
            Role::Learner => "learner",
            Role::Viewer => "viewer",
        }
    }
    /// Whether cases may be changed.
    pub fn may_write(self) -> bool {
        self != Role::Viewer
    }
}

/// A person of a workshop.
#[derive(Clone, FromRow)]
pub struct Person {
    /// Id.
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
}

// The hash stays out of every log.
impl std::fmt::Debug for Person {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Person").field("id", &self.id).field("name", &self.name).finish_non_exhaustive()
    }
}

impl Person {
    /// What they may do.
    pub fn role(&self) -> Role {
        Role::parse(&self.role)
    }
    /// Changes when the password does: sessions made before end then.
    pub fn session_key(&self) -> &[u8] {
        self.password_hash.as_bytes()
    }
}

pub(crate) const COLUMNS: &str = "id, workshop_id, email, name, role, password_hash, theme, units";

fn hash(password: &str) -> Result<String, StoreError> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .map(|h| h.to_string())
        .map_err(|e| StoreError::Broken(format!("the password cannot be hashed: {e}")))
}

fn matches(password: &str, kept: &str) -> bool {
    PasswordHash::new(kept).is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
}

impl Store {
    /// The person with this address and password. A wrong address takes as long as a wrong password.
    pub async fn sign_in(&self, email: &str, password: &str) -> Result<Option<Person>, StoreError> {
        let found: Option<Person> = sqlx::query_as(&format!("SELECT {COLUMNS} FROM person_to_sign_in($1)"))
            .bind(email.trim())
            .fetch_optional(self.pool())
            .await?;
        let password = password.to_string();
        let checked = tokio::task::spawn_blocking(move || match found {
            Some(p) if matches(&password, &p.password_hash) => Ok(Some(p)),
            Some(_) => Ok(None),
            None => hash(&password).map(|_| None),
        });
        checked.await.map_err(|e| StoreError::Broken(e.to_string()))?
    }

    /// The person of a session.
    pub async fn person(&self, id: Uuid) -> Result<Option<Person>, StoreError> {
        Ok(sqlx::query_as(&format!("SELECT {COLUMNS} FROM person_of_session($1)")).bind(id).fetch_optional(self.pool()).await?)
    }

    /// A new workshop.
    pub async fn add_workshop(&self, name: &str) -> Result<Uuid, StoreError> {
        let id = Uuid::now_v7();
        let mut s = self.scope(id).await?;
        sqlx::query("INSERT INTO workshop (id, name) VALUES ($1, $2)").bind(id).bind(name).execute(&mut *s.tx).await?;
        s.commit().await?;
        Ok(id)
    }
}

impl Scope {
    /// A new person.
    pub async fn add_person(&mut self, email: &str, name: &str, role: Role, password: &str) -> Result<Uuid, StoreError> {
        let id = Uuid::now_v7();
        sqlx::query("INSERT INTO person (id, workshop_id, email, name, role, password_hash) VALUES ($1, $2, $3, $4, $5, $6)")
            .bind(id)
            .bind(self.workshop())
            .bind(email.to_lowercase())
            .bind(name)
            .bind(role.id())
            .bind(hash(password)?)
            .execute(&mut *self.tx)
            .await?;
        Ok(id)
    }

    /// How the workshop is called.
    pub async fn workshop_name(&mut self) -> Result<String, StoreError> {
        let name = sqlx::query_scalar("SELECT name FROM workshop WHERE id = $1")
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        name.ok_or(StoreError::NotFound)
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
