//! Everything that is kept, in PostgreSQL.
//!
//! [`Store`] connects as a role that owns no table. Work happens inside a [`Scope`]: a transaction
//! bound to one workshop, which row-level security enforces again behind every query.
//!
//! | module | what it keeps |
//! |---|---|
//! | [`cases`] | the documents as they are now, and what the board shows of them |
//! | [`case_life`] | which cases are put away or deleted |
//! | [`assessments`], [`kept_pages`] | what each case comes to, weighed once; its pages, rendered once |
//! | [`case_now`] | a case at one glance: its state, and what a page shows beside it |
//! | [`workshop_knowledge`] | a workshop's own changes of the knowledge, and the knowledge that they make |
//! | [`events`] | what was done to each case, edit by edit |
//! | [`recordings`], [`incoming`] | samples and files; files on their way in |
//! | [`analysis_tasks`], [`drives`] | analyses under way; what a recorder measures on the road |
//! | [`vehicles`] | a vehicle over many cases |
//! | [`people`], [`tokens`], [`opinions`] | who may sign in, what their programs sign in with, links for second opinions |
//! | [`per_request`] | one transaction for who asks and for what they ask |
//! | [`watch`] | who hears when something of a case moves |

pub mod analysis_tasks;
pub mod assessments;
pub mod case_life;
pub mod case_now;
pub mod cases;
pub mod drives;
pub mod events;
pub mod incoming;
pub mod kept_pages;
pub mod opinions;
pub mod people;
pub mod per_request;
pub mod recordings;
mod roles;
pub mod tokens;
pub mod vehicles;
pub mod watch;
pub mod workshop_knowledge;

use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sqlx::{ConnectOptions, PgPool, Postgres, Transaction};
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;
use uuid::Uuid;

pub use sqlx::Error as DatabaseError;

/// What can go wrong while keeping things.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// It does not exist, or belongs to another workshop: nobody can tell the two apart.
    #[error("not found")]
    NotFound,
    /// Somebody has changed the same meanwhile: both edits stand side by side.
    #[error("changed meanwhile: {}", both_words(.0))]
    Conflict(Box<events::BothEdits>),
    /// The database did not answer or refused.
    #[error("the database: {0}")]
    Database(#[from] sqlx::Error),
    /// Another worker has taken the task since.
    #[error("another worker has taken this over")]
    LeaseLost,
    /// Too much is under way at once: try again in a moment.
    #[error("busy: {0}")]
    Busy(&'static str),
    /// A disk is full.
    #[error("no room: {0}")]
    NoRoom(String),
    /// What is kept does not read.
    #[error("kept data does not read: {0}")]
    Broken(String),
    /// The document is not a case.
    #[error(transparent)]
    Problem(#[from] baricord_core::error::Problem),
}

/// What others did, with who did it.
fn both_words(both: &events::BothEdits) -> String {
    both.theirs.iter().map(|e| format!("{}: {}", e.person, e.what)).collect::<Vec<_>>().join("; ")
}

impl StoreError {
    /// What the temporary folder or a file in it answered; a full disk has its own error.
    pub fn disk(what: &str, e: &std::io::Error) -> Self {
        match e.kind() {
            std::io::ErrorKind::StorageFull | std::io::ErrorKind::QuotaExceeded => Self::NoRoom(format!("{what}: {e}")),
            _ => Self::Broken(format!("{what}: {e}")),
        }
    }

    /// Whether the same request may succeed in a moment: the database or a disk cannot serve it now.
    pub fn is_temporary(&self) -> bool {
        match self {
            Self::Busy(_) | Self::NoRoom(_) => true,
            Self::Problem(p) => p.code == "no-room",
            Self::Database(sqlx::Error::PoolTimedOut | sqlx::Error::Io(_) | sqlx::Error::PoolClosed) => true,
            // 08 connection, 40 rolled back by a conflict, 53 out of a resource, 57 an operator's hand or a timeout.
            Self::Database(e) => e
                .as_database_error()
                .and_then(|d| d.code())
                .is_some_and(|c| ["08", "40", "53", "57"].iter().any(|class| c.starts_with(class))),
            _ => false,
        }
    }
}

/// Passwords that are hashed or checked at once: each takes a core and 19 MiB.
const MOST_HASHES: usize = 2;

/// Connections of the application's role.
#[derive(Clone)]
pub struct Store {
    pool: PgPool,
    hashes: Arc<Semaphore>,
    watch: watch::Watch,
    assessments: assessments::Assessments,
}

/// A transaction bound to one workshop.
pub struct Scope {
    pub(crate) tx: Transaction<'static, Postgres>,
    workshop: Uuid,
    pub(crate) store: Store,
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

/// Migrations whose text was mended without changing what they do: version and the SHA-384 that databases
/// brought up to date before that carry.
const RESTATED: [(i64, &str); 1] =
    [(1, "45ec31cfee6538489b9948bd17298727147a008670c4acbc544512063fa4fffdcd2cdfc26d6a4f00fbcfcb20b5dbd52a")];

/// Lets databases that took a migration's older text go on.
async fn restate(pool: &PgPool) -> Result<(), StoreError> {
    let has: bool = sqlx::query_scalar("SELECT to_regclass('_sqlx_migrations') IS NOT NULL").fetch_one(pool).await?;
    for (version, old) in RESTATED.into_iter().filter(|_| has) {
        let migrator = sqlx::migrate!("./migrations");
        let now = migrator.iter().find(|m| m.version == version).map(|m| m.checksum.to_vec());
        sqlx::query("UPDATE _sqlx_migrations SET checksum = $1 WHERE version = $2 AND checksum = decode($3, 'hex')")
            .bind(now)
            .bind(version)
            .bind(old)
            .execute(pool)
            .await?;
    }
    Ok(())
}

impl Store {
    /// Connects as the application's role.
    pub async fn connect(url: &str) -> Result<Self, StoreError> {
        let options = PgConnectOptions::from_str(url)?;
        // No statement and no forgotten transaction keeps a connection for good.
        // Statements go by keys: each is planned once for a connection and not anew for what it is asked about.
        let options = options.options([
            ("statement_timeout", "60s"),
            ("idle_in_transaction_session_timeout", "60s"),
            ("plan_cache_mode", "force_generic_plan"),
        ]);
        let pool = PgPoolOptions::new().max_connections(18).acquire_timeout(Duration::from_secs(5)).connect_with(options).await?;
        Ok(Self {
            pool,
            hashes: Arc::new(Semaphore::new(MOST_HASHES)),
            watch: watch::Watch::default(),
            assessments: assessments::Assessments::default(),
        })
    }

    /// Brings the database of an owner's URL up to date.
    pub async fn migrate(owner_url: &str) -> Result<(), StoreError> {
        // A migration takes what it takes; a warning before the answer of a command would stand in front of its JSON.
        let options = PgConnectOptions::from_str(owner_url)?.disable_statement_logging();
        let pool = PgPoolOptions::new().max_connections(2).acquire_timeout(Duration::from_secs(10)).connect_with(options).await?;
        roles::check_owner(&pool).await?;
        restate(&pool).await?;
        sqlx::migrate!("./migrations").run(&pool).await.map_err(|e| StoreError::Broken(e.to_string()))?;
        pool.close().await;
        Ok(())
    }

    /// The pool: for sessions and for tests.
    pub fn pool(&self) -> &PgPool {
        per_request::let_go();
        &self.pool
    }

    /// Starts work for a workshop.
    pub async fn scope(&self, workshop: Uuid) -> Result<Scope, StoreError> {
        if let Some(begun) = per_request::taken(workshop) {
            return Ok(begun);
        }
        // Both at once: each page begins with it.
        let begin = format!("BEGIN; SET LOCAL app.workshop = '{workshop}'");
        let tx = self.pool().begin_with(begin).await?;
        Ok(Scope { tx, workshop, store: self.clone() })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query("SELECT 1").execute(self.pool()).await?;
        Ok(())
    }

    /// Whether no workshop is kept yet.
    pub async fn is_empty(&self) -> Result<bool, StoreError> {
        let has: bool = sqlx::query_scalar("SELECT has_workshop()").fetch_one(self.pool()).await?;
        Ok(!has)
    }
}
