//! Pages of cases as they were rendered, held for as long as nothing has changed of what they show.
//!
//! A page shows a case as it was weighed, who looks, and what is under way beside it. All of that is in its key: a page of another state,
//! or for another person, is another page.

use crate::auth::Member;
use crate::error::PageError;
use crate::page::LoadedCase;
use askama::Template;
use axum::body::Bytes;
use axum::response::Html;
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
use std::fmt::Debug;
use std::time::Duration;

/// Bytes of pages that are held.
const HELD: u64 = 64 << 20;
/// What nobody looks at for so long is let go of.
const HELD_FOR: Duration = Duration::from_secs(900);

/// The pages that are held.
#[derive(Clone)]
pub struct RenderedPages(Cache<String, Bytes>);

impl Default for RenderedPages {
    fn default() -> Self {
        let weigh = |key: &String, page: &Bytes| u32::try_from(key.len() + page.len()).unwrap_or(u32::MAX);
        Self(
            Cache::builder()
                .eviction_policy(EvictionPolicy::lru())
                .weigher(weigh)
                .max_capacity(HELD)
                .time_to_idle(HELD_FOR)
                .build(),
        )
    }
}

/// A page as it was rendered.
pub type Page = Html<Bytes>;

/// Where a page of a case is held.
pub struct PageSlot {
    pages: RenderedPages,
    key: String,
}

impl PageSlot {
    /// The page, where it was rendered before.
    pub fn held(&self) -> Option<Page> {
        self.pages.0.get(&self.key).map(Html)
    }

    /// The page as it is held; else it is made and rendered beside the threads that serve, and held.
    pub async fn or_make<T: Template>(
        self,
        make: impl FnOnce() -> Result<T, PageError> + Send + 'static,
    ) -> Result<Page, PageError> {
        match self.held() {
            Some(page) => Ok(page),
            None => beside(move || self.render(&make()?)).await?,
        }
    }

    /// Renders the page and holds it.
    pub fn render(self, page: &impl Template) -> Result<Page, PageError> {
        let text = page.render().map_err(|e| PageError::Broken(e.to_string()))?;
        let bytes = Bytes::from(text);
        self.pages.0.insert(self.key, bytes.clone());
        Ok(Html(bytes))
    }
}

/// Works beside the threads that serve.
pub async fn beside<R: Send + 'static>(work: impl FnOnce() -> R + Send + 'static) -> Result<R, PageError> {
    tokio::task::spawn_blocking(work).await.map_err(|e| PageError::Broken(e.to_string()))
}

impl Member {
    /// Where a page of a case is held for this person. `shows` is everything that the page shows beside the case as it was weighed, what
    /// is under way and what can be taken back: what it was asked for, what else was read, what the clock says.
    pub fn page_slot(&self, k: &LoadedCase, page: &str, shows: impl Debug) -> PageSlot {
        let p = &self.person;
        let who = (p.id, p.workshop_id, &p.name, p.role(), &p.theme, &p.units);
        let key = format!("{page} {:?} {who:?} {:?} {:?} {:?} {shows:?}", k.state(), k.symptom, k.task, k.last);
        PageSlot { pages: self.pages.clone(), key }
    }
}
