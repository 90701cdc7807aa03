//! The database as the command line names it: brought up to date where its owner is given, and checked before
//! anything relies on it.

use baricord_core::error::Problem;
use baricord_store::{Store, StoreError};
use clap::Args;

/// Where the database is; each may come from the environment.
#[derive(Args)]
pub struct DatabaseArgs {
    /// Database as the application's role.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    database: String,
    /// Database as its owner, for bringing it up to date; left out when someone else does that.
    #[arg(long, env = "DATABASE_OWNER_URL", hide_env_values = true)]
    database_owner: Option<String>,
}

/// What the database answered, as an error of the command line.
pub fn problem(e: StoreError) -> Problem {
    match e {
        StoreError::Problem(p) => p,
        StoreError::Database(e) => Problem::new("database", format!("the database does not answer: {e}")),
        e => Problem::new("database", e.to_string()),
    }
}

impl DatabaseArgs {
    /// Connections of the application's role, under which people can sign in.
    pub async fn open(&self) -> Result<Store, Problem> {
        if let Some(owner) = &self.database_owner {
            Store::migrate(owner).await.map_err(problem)?;
            baricord_web::prepare_sessions(owner).await.map_err(|e| Problem::new("database", e))?;
        }
        let store = Store::connect(&self.database).await.map_err(problem)?;
        store.check_roles().await.map_err(problem)?;
        store.check_sessions().await.map_err(problem)?;
        Ok(store)
    }
}
