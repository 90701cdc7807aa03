//! Pages of a case are made before they are asked for: once one of them had to be made, or the board has weighed the case, whoever looks
//! is likely to look at the others next. One case at a time, behind everything that somebody waits for.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::rendered_pages::Page;
use crate::{history, stations};
use baricord_store::people::Person;
use std::collections::VecDeque;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use uuid::Uuid;

/// Cases that wait; of more than that, those that came last are made when they are asked for.
const MOST: usize = 4_096;
/// How long a case rests before its pages are made: an edit seldom comes alone.
const QUIET: Duration = Duration::from_millis(400);
/// How often old pages are let go of.
const SWEEP: Duration = Duration::from_secs(6 * 3600);

/// A page of a case, made for a person.
pub type MadePage = Pin<Box<dyn Future<Output = Result<Page, PageError>> + Send>>;

struct Wanted {
    case: Uuid,
    person: Person,
    from: Instant,
}

/// Cases whose pages are wanted.
#[derive(Clone, Default)]
pub struct PagesAhead {
    waiting: Arc<Mutex<VecDeque<Wanted>>>,
    more: Arc<Notify>,
}

impl PagesAhead {
    /// A person is likely to look at a case next.
    pub fn want(&self, case: Uuid, person: &Person) {
        let mut all = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
        let from = Instant::now() + QUIET;
        match all.iter().position(|w| w.case == case && w.person.id == person.id) {
            // It was edited once more: it rests again.
            Some(i) => {
                if let Some(mut w) = all.remove(i) {
                    w.from = from;
                    all.push_back(w);
                }
            }
            None if all.len() < MOST => all.push_back(Wanted { case, person: person.clone(), from }),
            None => return,
        }
        drop(all);
        self.more.notify_one();
    }

    async fn next(&self) -> Wanted {
        loop {
            let from = {
                let mut all = self.waiting.lock().unwrap_or_else(PoisonError::into_inner);
                match all.front().map(|w| w.from) {
                    Some(from) if from <= Instant::now() => match all.pop_front() {
                        Some(w) => return w,
                        None => continue,
                    },
                    from => from,
                }
            };
            match from {
                Some(from) => tokio::time::sleep_until(from.into()).await,
                None => self.more.notified().await,
            }
        }
    }
}

/// Makes pages until it is dropped.
pub async fn run(app: App) {
    let mut swept: Option<Instant> = None;
    loop {
        let w = app.pages.ahead().next().await;
        let m = Member::ahead(&app, w.person);
        // A case that breaks its page does not end those of all others.
        if let Err(e) = tokio::spawn(make_pages(m.clone(), w.case)).await {
            tracing::error!(case = %w.case, error = %e, "a page of this case cannot be made");
        }
        if swept.is_none_or(|t| t.elapsed() > SWEEP) {
            swept = Some(Instant::now());
            if let Err(e) = sweep(&m).await {
                tracing::debug!(error = ?e, "old pages stay for now");
            }
        }
    }
}

async fn make_pages(m: Member, case: Uuid) {
    for page in stations::ahead().chain([history::ahead as fn(Member, Uuid) -> MadePage]) {
        match page(m.clone(), case).await {
            Ok(_) => {}
            // Deleted meanwhile.
            Err(PageError::NotFound) => break,
            Err(e) => {
                tracing::debug!(error = ?e, "a page was not made ahead");
                break;
            }
        }
    }
}

async fn sweep(m: &Member) -> Result<(), PageError> {
    let mut s = m.scope().await?;
    s.drop_old_pages().await?;
    Ok(s.commit().await?)
}
