//! Pages of cases as they were rendered, held for as long as nothing has changed of what they show: in memory, and in the database for
//! who looks after a restart or at another page of the case ([`crate::pages_ahead`] makes those before they are asked for).
//!
//! A page shows a case as it was weighed, who looks, and what is under way beside it. All of that is in its key: a page of another state,
//! or for somebody who sees it otherwise, is another page. What shows a moment of time is held for that moment.

use crate::auth::Member;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::pages_ahead::PagesAhead;
use askama::Template;
use axum::body::Bytes;
use axum::response::Html;
use baricord_core::permission::Act;
use baricord_store::Scope;
use baricord_store::analysis_tasks::AnalysisTask;
use baricord_store::case_now::{CaseNow, WithCase};
use baricord_store::kept_pages::PageKey;
use jiff::Timestamp;
use moka::policy::EvictionPolicy;
use moka::sync::Cache;
use sha2::{Digest, Sha256};
use std::fmt::Debug;
use std::sync::{Once, OnceLock};
use std::time::Duration;
use uuid::Uuid;

/// Bytes of pages that are held.
const HELD: u64 = 64 << 20;
const SLOTS: u64 = 10_000;
/// What nobody looks at for so long is let go of.
const HELD_FOR: Duration = Duration::from_secs(900);

#[derive(Clone)]
struct HeldPage {
    body: Bytes,
    /// The moment from which on it would say something else.
    until: Option<Timestamp>,
}

/// The pages that are held.
#[derive(Clone)]
pub struct RenderedPages {
    held: Cache<[u8; 32], HeldPage>,
    /// Of which slots of which cases one is held, of whatever state: of the others a page is asked for with its case.
    slots: Cache<(Uuid, String), ()>,
    ahead: PagesAhead,
}

impl Default for RenderedPages {
    fn default() -> Self {
        let weigh = |_: &[u8; 32], page: &HeldPage| u32::try_from(100 + page.body.len()).unwrap_or(u32::MAX);
        let held = Cache::builder()
            .eviction_policy(EvictionPolicy::lru())
            .weigher(weigh)
            .max_capacity(HELD)
            .time_to_idle(HELD_FOR)
            .build();
        let slots = Cache::builder().eviction_policy(EvictionPolicy::lru()).max_capacity(SLOTS).time_to_idle(HELD_FOR).build();
        Self { held, slots, ahead: PagesAhead::default() }
    }
}

impl RenderedPages {
    /// Cases whose pages are made before they are asked for.
    pub fn ahead(&self) -> &PagesAhead {
        &self.ahead
    }

    fn hold(&self, key: &PageKey, held_key: [u8; 32], page: HeldPage) {
        self.slots.insert((key.case, key.slot.clone()), ());
        self.held.insert(held_key, page);
    }
}

/// The program that renders, by what it consists of: another one may say a thing otherwise. None until [`know_program`] has read it, and
/// where it cannot: pages are held in memory alone.
fn program() -> Option<&'static [u8; 32]> {
    PROGRAM.get()?.as_ref()
}

static PROGRAM: OnceLock<Option<[u8; 32]>> = OnceLock::new();

/// Reads what the program consists of, beside everything else: until then no page is kept.
pub fn know_program() {
    static READING: Once = Once::new();
    let read = || {
        let mut file = std::fs::File::open(std::env::current_exe().ok()?).ok()?;
        let mut hash = Sha256::new();
        std::io::copy(&mut file, &mut hash).ok()?;
        Some(hash.finalize().into())
    };
    READING.call_once(|| drop(std::thread::spawn(move || PROGRAM.get_or_init(read))));
}

/// Whether pages are kept in the database by now.
pub fn are_kept() -> bool {
    program().is_some()
}

/// A page as it was rendered.
pub type Page = Html<Bytes>;

/// What page of a case somebody asks for.
pub struct PageQuestion {
    member: Member,
    page: &'static str,
    symptom: Option<String>,
    /// What else the page was asked for. Only pages that are asked for nothing else are kept in the database.
    asked: String,
    /// The name of who looks, where the page shows it.
    name: String,
    /// What it shows beside the case.
    with: WithCase,
}

impl PageQuestion {
    /// What the page was asked for, beside the symptom.
    pub fn asked<T: Debug + Default + PartialEq>(mut self, asked: &T) -> Self {
        if *asked != T::default() {
            self.asked = format!("{asked:?}");
        }
        self
    }

    /// It shows who looks by name.
    pub fn by_name(mut self) -> Self {
        self.name.clone_from(&self.member.person.name);
        self
    }

    /// Which page, of which symptom where it is another than the case's own, and for whom.
    fn slot(&self, symptom: Option<&str>, is_own: bool) -> String {
        let p = &self.member.person;
        let may = Act::ALL.map(|act| if p.role().may(act) { '1' } else { '0' }).iter().collect::<String>();
        format!("{} {symptom:?} {} {may} {is_own} {:?}", self.page, p.theme, self.name)
    }

    /// The slots in which it may be kept, where none of them is held in memory: what of them it is shows the case.
    fn slots(&self, id: Uuid) -> Vec<String> {
        if !self.asked.is_empty() || program().is_none() {
            return vec![];
        }
        let asked = self.symptom.as_deref();
        let of = |symptom: Option<&str>| [true, false].map(|is_own| self.slot(symptom, is_own));
        let all = if asked.is_some() { [of(None), of(asked)].concat() } else { of(None).to_vec() };
        let is_held = |slot: &String| self.member.pages.slots.get(&(id, slot.clone())).is_some();
        if all.iter().any(is_held) { vec![] } else { all }
    }

    /// It shows the vehicle of the case with so many of its latest other cases.
    pub fn with_vehicle(mut self, cases: u16) -> Self {
        self.with.vehicle = Some(cases);
        self
    }

    /// It shows what is on its way in, or a drive that goes on.
    pub fn with_under_way(mut self) -> Self {
        self.with.under_way = true;
        self
    }

    /// Where the page is held of the case as it is now.
    pub async fn of(self, s: &mut Scope, id: Uuid) -> Result<PageSlot, PageError> {
        let now = s.case_now_with(id, WithCase { slots: self.slots(id), ..self.with.clone() }).await?;
        Ok(PageSlot::new(self, now))
    }
}

/// Where a page of a case is held.
pub struct PageSlot {
    question: PageQuestion,
    now: CaseNow,
    /// The symptom that was asked for, where it is another than the case's own.
    symptom: Option<String>,
    /// What was read beside the case.
    beside: String,
    until: Option<Timestamp>,
    /// Whether it is held in memory alone: it shows what is under way, or was asked for a symptom that somebody made up.
    is_passing: bool,
}

impl PageSlot {
    fn new(question: PageQuestion, now: CaseNow) -> Self {
        let symptom = question.symptom.clone().filter(|s| Some(s.as_str()) != now.about());
        let is_passing = now.task.as_ref().is_some_and(AnalysisTask::is_open);
        Self { question, now, symptom, beside: String::new(), until: None, is_passing }
    }

    /// The case as it is now.
    pub fn now(&self) -> &CaseNow {
        &self.now
    }

    /// What was read beside the case and is shown.
    pub fn beside(mut self, shown: impl Debug) -> Self {
        self.beside = format!("{shown:?}");
        self
    }

    /// Whether it shows what is under way, and so is another one soon.
    pub fn passing(mut self, is_passing: bool) -> Self {
        self.is_passing |= is_passing;
        self
    }

    /// It says something else from a moment on.
    pub fn until(mut self, moment: Option<Timestamp>) -> Self {
        self.until = moment;
        self
    }

    fn key(&self) -> PageKey {
        let is_own = self.now.last.as_ref().is_some_and(|e| e.person == self.question.member.person.name);
        let slot = self.question.slot(self.symptom.as_deref(), is_own);
        let shows = format!("{:?} {:?} {:?} {}", self.now.state(), self.now.task, self.now.last, self.beside);
        PageKey { case: self.now.id, slot, state: Sha256::digest(shows).into() }
    }

    /// The key in memory.
    fn held_key(&self, key: &PageKey) -> [u8; 32] {
        Sha256::digest(format!("{key:?} {}", self.question.asked)).into()
    }

    /// What a kept page shows: by this program, for it is another's that another one made.
    fn kept_key(&self, key: &PageKey) -> Option<PageKey> {
        let program = program().filter(|_| self.question.asked.is_empty() && self.until.is_none() && !self.is_passing)?;
        Some(PageKey { state: Sha256::new().chain_update(key.state).chain_update(program).finalize().into(), ..key.clone() })
    }

    /// The page, where it was rendered before.
    pub async fn held(&self, s: &mut Scope) -> Result<Option<Page>, PageError> {
        let key = self.key();
        let is_now = |page: &HeldPage| page.until.is_none_or(|t| Timestamp::now() < t);
        if let Some(page) = self.question.member.pages.held.get(&self.held_key(&key)).filter(is_now) {
            return Ok(Some(Html(page.body)));
        }
        let Some(kept) = self.kept_key(&key) else { return Ok(None) };
        let Some(html) = s.kept_page(&self.now, &kept).await? else { return Ok(None) };
        let page = HeldPage { body: Bytes::from(html), until: None };
        if !self.question.member.ahead {
            self.question.member.pages.hold(&key, self.held_key(&key), page.clone());
        }
        Ok(Some(Html(page.body)))
    }

    /// The case in the state of the page, with what it comes to.
    pub async fn load(&mut self, s: &mut Scope) -> Result<LoadedCase, PageError> {
        let k = LoadedCase::of(s, &self.now, self.symptom.as_deref()).await?;
        if self.symptom.as_deref() == k.about() {
            self.symptom = None;
        }
        self.is_passing |= self.symptom.is_some() && self.symptom != k.symptom;
        Ok(k)
    }

    /// Makes the page beside the threads that serve, and holds it.
    pub async fn or_make<T: Template>(
        self,
        make: impl FnOnce() -> Result<T, PageError> + Send + 'static,
    ) -> Result<Page, PageError> {
        beside(move || self.render(&make()?)).await?
    }

    /// Renders the page and holds it.
    pub fn render(self, page: &impl Template) -> Result<Page, PageError> {
        let text = page.render().map_err(|e| PageError::Broken(e.to_string()))?;
        let body = Bytes::from(text);
        let key = self.key();
        let kept = self.kept_key(&key);
        let is_ahead = self.question.member.ahead;
        if !is_ahead {
            let page = HeldPage { body: body.clone(), until: self.until };
            self.question.member.pages.hold(&key, self.held_key(&key), page);
            if !self.is_passing {
                self.question.member.pages.ahead().want(self.now.id, &self.question.member.person);
            }
        }
        if let Some(kept) = kept {
            let (store, workshop, stamp, html) =
                (self.question.member.store().clone(), self.question.member.person.workshop_id, self.now.state().0, body.clone());
            tokio::spawn(async move {
                if let Err(e) = store.keep_page(workshop, &kept, stamp, &html).await {
                    tracing::debug!(error = %e, "a page was not kept; it is made again");
                }
            });
        }
        Ok(Html(body))
    }
}

/// Works beside the threads that serve.
pub async fn beside<R: Send + 'static>(work: impl FnOnce() -> R + Send + 'static) -> Result<R, PageError> {
    tokio::task::spawn_blocking(work).await.map_err(|e| PageError::Broken(e.to_string()))
}

impl Member {
    /// A page of a case, for those who see it as this person does. What else it shows than the case, what is under way and what can be
    /// taken back is said by [`PageQuestion::asked`], [`PageQuestion::by_name`], [`PageSlot::beside`], [`PageSlot::passing`] and
    /// [`PageSlot::until`].
    pub fn page(&self, page: &'static str, symptom: Option<&str>) -> PageQuestion {
        let (none, symptom) = (String::new, symptom.map(String::from));
        PageQuestion { member: self.clone(), page, symptom, asked: none(), name: none(), with: WithCase::default() }
    }
}
