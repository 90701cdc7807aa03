//! Everything that is kept, in PostgreSQL.
//!
//! [`Store`] connects as a role that owns no table. Work happens inside a [`Scope`]: a transaction
//! bound to one workshop, which row-level security enforces again behind every query. [`cases`] keeps
//! the documents with their history, [`drives`] what a recorder measures on the road,
//! [`incoming`] files on their way in, [`recordings`] samples and files, [`jobs`] the analyses under
//! way, [`people`] who may sign in, [`tokens`] what their programs sign in with,
//! [`vehicles`] the one life of a vehicle over many cases.

pub mod cases;
pub mod drives;
pub mod house;
pub mod incoming;
pub mod jobs;
pub mod opinions;
pub mod people;
pub mod recordings;
pub mod tokens;
pub mod vehicles;

use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sqlx::{PgPool, Postgres, Transaction};
use std::str::FromStr;
use std::time::Duration;
use uuid::Uuid;

pub use sqlx::Error as DatabaseError;

/// What can go wrong while keeping things.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// It does not exist, or belongs to another workshop: the two are told apart by nobody.
    #[error("not found")]
    NotFound,
    /// Someone else has saved meanwhile.
    #[error("changed meanwhile by {by}: {what}")]
    Stale {
        /// Who.
        by: String,
        /// What they did.
        what: String,
        /// The version now.
        version: i32,
    },
    /// The database did not answer or refused.
    #[error("the database: {0}")]
    Database(#[from] sqlx::Error),
    /// What is kept does not read.
    #[error("kept data does not read: {0}")]
    Broken(String),
    /// The document is not a case.
    #[error(transparent)]
    Problem(#[from] baricord_core::problem::Problem),
}

/// Connections of the application's role.
#[derive(Clone)]
pub struct Store {
    pool: PgPool,
}

/// A transaction bound to one workshop.
pub struct Scope {
    pub(crate) tx: Transaction<'static, Postgres>,
    workshop: Uuid,
}

impl Scope {
    /// The workshop it is bound to.
    pub fn workshop(&self) -> Uuid {
        self.workshop
    }
    /// Keeps what was done.
    pub async fn commit(self) -> Result<(), StoreError> {
        Ok(self.tx.commit().await?)
    }
}

impl Store {
    /// Connects as the application's role.
    pub async fn connect(url: &str) -> Result<Self, StoreError> {
        let options = PgConnectOptions::from_str(url)?;
        let pool = PgPoolOptions::new().max_connections(16).acquire_timeout(Duration::from_secs(5)).connect_with(options).await?;
        Ok(Self { pool })
    }

    /// Brings the database of an owner's URL up to date.
    pub async fn migrate(owner_url: &str) -> Result<(), StoreError> {
        let pool = PgPoolOptions::new().max_connections(2).acquire_timeout(Duration::from_secs(10)).connect(owner_url).await?;
        sqlx::migrate!("./migrations").run(&pool).await.map_err(|e| StoreError::Broken(e.to_string()))?;
        pool.close().await;
        Ok(())
    }

    /// The pool: for sessions and for tests.
    pub fn pool(&self) -> &PgPool {
        &self.pool
    }

    /// Starts work for a workshop.
    pub async fn scope(&self, workshop: Uuid) -> Result<Scope, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("SELECT set_config('app.workshop', $1, true)").bind(workshop.to_string()).execute(&mut *tx).await?;
        Ok(Scope { tx, workshop })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query("SELECT 1").execute(&self.pool).await?;
        Ok(())
    }

    /// Whether no workshop is kept yet.
    pub async fn is_empty(&self) -> Result<bool, StoreError> {
        let has: bool = sqlx::query_scalar("SELECT has_workshop()").fetch_one(&self.pool).await?;
        Ok(!has)
    }
}
