//! Pages of cases as they were rendered: found again by whoever looks next, also after the program was started again.

use crate::case_now::CaseNow;
use crate::{Scope, Store, StoreError};
use lz4_flex::block::{compress_prepend_size, decompress, uncompressed_size};
use sqlx::Row;
use sqlx::postgres::PgRow;
use uuid::Uuid;

/// Days for which a page is kept that nobody has made again.
const KEPT_DAYS: i32 = 14;
/// No page is longer, bytes.
const LONGEST: usize = 32 << 20;

/// Where a page is kept, and what it shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PageKey {
    /// The case.
    pub case: Uuid,
    /// Which page, of which symptom, and for whom.
    pub slot: String,
    /// Everything that it shows, as a hash.
    pub state: [u8; 32],
}

/// What was found in the slots that were asked for.
#[derive(Debug)]
pub(crate) struct KeptPages {
    asked: Vec<String>,
    /// Slot, state and page, packed.
    found: Vec<(String, Vec<u8>, Vec<u8>)>,
}

impl KeptPages {
    /// From rows with a slot, its state and its page each, where any were asked for.
    pub fn read(rows: &[PgRow], asked: Vec<String>) -> Result<Self, StoreError> {
        let mut found = vec![];
        for row in rows.iter().filter(|_| !asked.is_empty()) {
            if let Some(slot) = row.try_get("slot")? {
                found.push((slot, row.try_get("page_state")?, row.try_get("body")?));
            }
        }
        Ok(Self { asked, found })
    }
}

/// None where it does not unpack: it is made again.
fn unpack(body: &[u8]) -> Option<Vec<u8>> {
    let (length, packed) = uncompressed_size(body).ok().filter(|(length, _)| *length <= LONGEST)?;
    decompress(packed, length).ok()
}

impl Scope {
    /// A page of just this state, where one is kept. What was asked for with the case is there already.
    pub async fn kept_page(&mut self, now: &CaseNow, key: &PageKey) -> Result<Option<Vec<u8>>, StoreError> {
        if now.kept.asked.contains(&key.slot) {
            let is_it = |(slot, state, _): &&(String, Vec<u8>, Vec<u8>)| *slot == key.slot && *state == key.state;
            return Ok(now.kept.found.iter().find(is_it).and_then(|(.., body)| unpack(body)));
        }
        let body: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT body FROM case_page WHERE case_id = $1 AND slot = $2 AND state = $3 AND workshop_id = $4")
                .bind(now.id)
                .bind(&key.slot)
                .bind(&key.state[..])
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        Ok(body.and_then(|body| unpack(&body)))
    }

    async fn keep_page(&mut self, key: &PageKey, stamp: Uuid, body: &[u8]) -> Result<(), StoreError> {
        // Only of the case as it is now: who was slower does not put an old page in the place of a new one.
        sqlx::query(
            "INSERT INTO case_page (workshop_id, case_id, slot, state, body)
             SELECT workshop_id, id, $3, $4, $5 FROM case_file WHERE id = $1 AND workshop_id = $2 AND stamp = $6
             ON CONFLICT (case_id, slot) DO UPDATE SET state = EXCLUDED.state, body = EXCLUDED.body, made_at = now()",
        )
        .bind(key.case)
        .bind(self.workshop())
        .bind(&key.slot)
        .bind(&key.state[..])
        .bind(body)
        .bind(stamp)
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Lets go of pages that nobody has made again for long.
    pub async fn drop_old_pages(&mut self) -> Result<u64, StoreError> {
        let done = sqlx::query("DELETE FROM case_page WHERE workshop_id = $1 AND made_at < now() - make_interval(days => $2)")
            .bind(self.workshop())
            .bind(KEPT_DAYS)
            .execute(&mut *self.tx)
            .await?;
        Ok(done.rows_affected())
    }
}

impl Store {
    /// Keeps a page that was made of a case in the state of a stamp.
    pub async fn keep_page(&self, workshop: Uuid, key: &PageKey, stamp: Uuid, html: &[u8]) -> Result<(), StoreError> {
        // Unpacking is what somebody waits for: that is fast rather than small.
        let body = compress_prepend_size(html);
        let mut s = self.scope(workshop).await?;
        s.keep_page(key, stamp, &body).await?;
        s.commit().await
    }
}
