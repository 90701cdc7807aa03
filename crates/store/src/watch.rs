//! Who watches a case hears when something of it moves: one connection of the program listens for all.

use crate::Store;
use sqlx::PgPool;
use sqlx::postgres::PgListener;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OnceCell, broadcast};
use uuid::Uuid;

/// Told by the database: see migration 13.
const CHANNEL: &str = "baricord_case";
/// News that a watcher may be behind; what is older is lost to it, and it is told that anything may have moved.
const HELD: usize = 256;
/// How long it waits before it listens again where the database was lost.
const AGAIN: Duration = Duration::from_secs(1);

/// Watching, begun by the first who watches.
#[derive(Clone, Default)]
pub(crate) struct Watch(Arc<OnceCell<broadcast::Sender<Uuid>>>);

/// A case of which something has moved; the nil id says that anything may have.
pub const ANYTHING: Uuid = Uuid::nil();

/// Hears of the cases in which something moves.
pub struct CaseNews(broadcast::Receiver<Uuid>);

impl CaseNews {
    /// Waits until something of a case moves; false where nothing more will be told.
    pub async fn of(&mut self, case: Uuid) -> bool {
        loop {
            match self.0.recv().await {
                Ok(id) if id == case || id == ANYTHING => return true,
                Ok(_) => {}
                Err(broadcast::error::RecvError::Lagged(_)) => return true,
                Err(broadcast::error::RecvError::Closed) => return false,
            }
        }
    }
}

async fn listen(pool: PgPool, to: broadcast::Sender<Uuid>) {
    loop {
        let heard = async {
            let mut l = PgListener::connect_with(&pool).await?;
            l.listen(CHANNEL).await?;
            // What moved before it listened was not told.
            let _ = to.send(ANYTHING);
            loop {
                let told = l.recv().await?;
                let _ = to.send(told.payload().parse().unwrap_or(ANYTHING));
            }
        };
        let heard: Result<(), sqlx::Error> = heard.await;
        if pool.is_closed() {
            return;
        }
        if let Err(e) = heard {
            tracing::warn!(error = %e, "pages hear no news of cases until the database is back");
        }
        tokio::time::sleep(AGAIN).await;
    }
}

impl Store {
    /// Begins to watch cases.
    pub async fn watch(&self) -> CaseNews {
        let pool = self.pool().clone();
        let sender = self.watch.0.get_or_init(|| async move {
            let (to, _) = broadcast::channel(HELD);
            tokio::spawn(listen(pool, to.clone()));
            to
        });
        CaseNews(sender.await.subscribe())
    }
}
