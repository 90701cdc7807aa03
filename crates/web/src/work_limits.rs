//! Work that takes long or much memory, so much of it at once and no more: the rest waits a little for its turn,
//! then is asked to come again. The board and the checks of a balancer go on beside it.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use baricord_store::{StoreError, per_request};
use std::marker::PhantomData;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// How long a request waits for its turn.
const WAITS: Duration = Duration::from_secs(5);

/// A kind of work and how much of it is done at once.
pub trait Kind: Send + Sync + 'static {
    /// At once.
    const MOST: usize;
    /// What it is, for those who must wait.
    const WHAT: &str;
    #[doc(hidden)]
    fn of(limits: &WorkLimits) -> &Arc<Semaphore>;
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident, $field:ident, $most:literal, $what:literal;)*) => {
        $($(#[$doc])* pub struct $kind;
        impl Kind for $kind {
            const MOST: usize = $most;
            const WHAT: &str = $what;
            fn of(limits: &WorkLimits) -> &Arc<Semaphore> { &limits.$field }
        })*
        /// The turns that are free.
        #[derive(Clone)]
        pub struct WorkLimits { $($field: Arc<Semaphore>),* }
        impl Default for WorkLimits {
            fn default() -> Self { Self { $($field: Arc::new(Semaphore::new($kind::MOST))),* } }
        }
    };
}

kinds! {
    /// Analyses, diagnoses and proofs of cases that come in by the interface for programs.
    Analyses, analyses, 2, "other analyses are under way";
    /// Single calculations by the interface for programs.
    Calculations, calculations, 4, "other calculations are under way";
    /// Cases that leave as files.
    Exports, exports, 4, "other cases are being taken away";
    /// Sounds that are made.
    Audio, audio, 3, "other sounds are being made";
    /// Order maps that are drawn.
    Maps, maps, 6, "other maps are being drawn";
    /// Cases and files that come in by a form.
    Imports, imports, 4, "other files are coming in";
}

/// A turn at a kind of work; given back when it is dropped.
pub struct Turn<K> {
    _permit: OwnedSemaphorePermit,
    kind: PhantomData<K>,
}

impl WorkLimits {
    /// Waits for a turn, not for long.
    pub async fn enter<K: Kind>(&self) -> Result<Turn<K>, StoreError> {
        self.enter_within(WAITS).await
    }

    async fn enter_within<K: Kind>(&self, wait: Duration) -> Result<Turn<K>, StoreError> {
        let turns = K::of(self).clone();
        if let Ok(permit) = turns.clone().try_acquire_owned() {
            return Ok(Turn { _permit: permit, kind: PhantomData });
        }
        per_request::let_go();
        match tokio::time::timeout(wait, turns.acquire_owned()).await {
            Ok(Ok(permit)) => Ok(Turn { _permit: permit, kind: PhantomData }),
            _ => Err(StoreError::Busy(K::WHAT)),
        }
    }
}

/// A turn for a handler, for members only: named after [`Member`] among its arguments.
impl<K: Kind> FromRequestParts<App> for Turn<K> {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        Member::from_request_parts(parts, app).await?;
        Ok(app.limits.enter().await?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn who_finds_no_turn_in_time_is_told_to_come_again() {
        let limits = WorkLimits::default();
        let mut held = vec![];
        for _ in 0..Analyses::MOST {
            held.push(limits.enter::<Analyses>().await.unwrap());
        }
        assert!(limits.enter::<Maps>().await.is_ok(), "another kind is free");
        let wait = Duration::from_millis(50);
        assert!(matches!(limits.enter_within::<Analyses>(wait).await, Err(StoreError::Busy(_))));
        held.pop();
        assert!(limits.enter::<Analyses>().await.is_ok());
    }
}
