//! Files on their way in. A file comes in pieces; a broken upload goes on at the byte where it
//! stopped; nothing of it belongs to the case until it is kept.

use crate::recordings::OnDisk;
use crate::{Scope, StoreError};
use baricord_core::error::Problem;
use baricord_formats::FileSource;
use sqlx::FromRow;
use uuid::Uuid;

/// Files that may be on their way into one case.
const MOST_OPEN: i64 = 12;
/// Largest piece, bytes.
pub const LARGEST_PIECE: usize = 4 << 20;

/// A file on its way in.
#[derive(Clone, Debug, FromRow)]
pub struct Incoming {
    /// Id of the file on its way in.
    pub id: Uuid,
    /// The recording that it brings the speed for.
    pub of_id: Option<Uuid>,
    /// Its name where it came from.
    pub name: String,
    /// How long it is, bytes.
    pub size: i64,
    /// How much of it is here.
    pub received: i64,
    /// before or after the repair.
    pub phase: String,
}

impl Incoming {
    /// Whether all of it is here.
    pub fn is_whole(&self) -> bool {
        self.received == self.size
    }
    /// Whole per cent.
    pub fn percent(&self) -> i64 {
        100 * self.received / self.size.max(1)
    }
}

/// A file that is announced.
#[derive(Clone, Copy, Debug)]
pub struct Announced<'a> {
    /// The recording that it brings the speed for.
    pub of: Option<Uuid>,
    /// File name as the browser gave it.
    pub name: &'a str,
    /// How long it is, bytes.
    pub size: i64,
    /// before or after the repair.
    pub phase: &'a str,
}

const COLUMNS: &str = "id, of_id, name, size, received, phase";

impl Scope {
    /// Announces a file; one of the same name and length that is not whole yet goes on.
    pub async fn announce(&mut self, case: Uuid, a: Announced<'_>) -> Result<Incoming, StoreError> {
        let begun: Option<Incoming> = sqlx::query_as(&format!(
            "UPDATE incoming SET phase = $6 WHERE id = (SELECT id FROM incoming WHERE case_id = $1 AND workshop_id = $2 AND name = $3
             AND size = $4 AND received < size AND of_id IS NOT DISTINCT FROM $5 ORDER BY created_at DESC LIMIT 1) RETURNING {COLUMNS}"
        ))
        .bind(case)
        .bind(self.workshop())
        .bind(a.name)
        .bind(a.size)
        .bind(a.of)
        .bind(a.phase)
        .fetch_optional(&mut *self.tx)
        .await?;
        if let Some(begun) = begun {
            return Ok(begun);
        }
        // What nobody has kept within a month is forgotten.
        sqlx::query("DELETE FROM incoming WHERE workshop_id = $1 AND created_at < now() - interval '30 days'")
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        let open: i64 = sqlx::query_scalar("SELECT count(*) FROM incoming WHERE case_id = $1 AND workshop_id = $2")
            .bind(case)
            .bind(self.workshop())
            .fetch_one(&mut *self.tx)
            .await?;
        if open >= MOST_OPEN {
            let message = format!("{open} files wait in this case to be looked at: keep or remove one of them first");
            return Err(Problem::new("too-many-files", message).field("file").into());
        }
        Ok(sqlx::query_as(&format!(
            "INSERT INTO incoming (id, workshop_id, case_id, of_id, name, size, phase) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING {COLUMNS}"
        ))
        .bind(Uuid::now_v7())
        .bind(self.workshop())
        .bind(case)
        .bind(a.of)
        .bind(a.name)
        .bind(a.size)
        .bind(a.phase)
        .fetch_one(&mut *self.tx)
        .await?)
    }

    /// Files on their way into a case.
    pub async fn incoming_of(&mut self, case: Uuid) -> Result<Vec<Incoming>, StoreError> {
        Ok(sqlx::query_as(&format!(
            "SELECT {COLUMNS} FROM incoming WHERE case_id = $1 AND workshop_id = $2 AND of_id IS NULL ORDER BY created_at"
        ))
        .bind(case)
        .bind(self.workshop())
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// One of them.
    pub async fn incoming(&mut self, case: Uuid, id: Uuid) -> Result<Incoming, StoreError> {
        sqlx::query_as(&format!("SELECT {COLUMNS} FROM incoming WHERE id = $1 AND case_id = $2 AND workshop_id = $3"))
            .bind(id)
            .bind(case)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?
            .ok_or(StoreError::NotFound)
    }

    /// The file that brings the speed for a recording on its way in.
    pub async fn speed_for(&mut self, case: Uuid, of: Uuid) -> Result<Option<Incoming>, StoreError> {
        Ok(sqlx::query_as(&format!(
            "SELECT {COLUMNS} FROM incoming WHERE of_id = $1 AND case_id = $2 AND workshop_id = $3 AND received = size
             ORDER BY created_at DESC LIMIT 1"
        ))
        .bind(of)
        .bind(case)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?)
    }

    /// Takes the bytes that stand at `from`. Bytes that are here already are not taken twice; a
    /// piece from further on is refused. Answers how much is here.
    pub async fn take_piece(&mut self, case: Uuid, id: Uuid, from: i64, data: &[u8]) -> Result<i64, StoreError> {
        let row: Option<(i64, i64, i32)> = sqlx::query_as(
            "SELECT size, received, pieces FROM incoming WHERE id = $1 AND case_id = $2 AND workshop_id = $3 FOR UPDATE",
        )
        .bind(id)
        .bind(case)
        .bind(self.workshop())
        .fetch_optional(&mut *self.tx)
        .await?;
        let (size, received, pieces) = row.ok_or(StoreError::NotFound)?;
        if from > received {
            let message = format!("{received} bytes are here; the next piece begins there, not at {from}");
            return Err(Problem::new("piece-missing", message).field("from").into());
        }
        let already = ((received - from.max(0)) as usize).min(data.len());
        let data = &data[already..];
        if data.is_empty() {
            return Ok(received);
        }
        if received + data.len() as i64 > size {
            return Err(Problem::new("too-long", format!("more than the {size} bytes that were announced")).field("file").into());
        }
        sqlx::query("INSERT INTO incoming_piece (workshop_id, incoming_id, piece, data) VALUES ($1, $2, $3, $4)")
            .bind(self.workshop())
            .bind(id)
            .bind(pieces)
            .bind(data)
            .execute(&mut *self.tx)
            .await?;
        let received = received + data.len() as i64;
        sqlx::query("UPDATE incoming SET received = $1, pieces = pieces + 1 WHERE id = $2 AND workshop_id = $3")
            .bind(received)
            .bind(id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(received)
    }

    async fn incoming_piece(&mut self, id: Uuid, piece: i32) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(sqlx::query_scalar("SELECT data FROM incoming_piece WHERE incoming_id = $1 AND workshop_id = $2 AND piece = $3")
            .bind(id)
            .bind(self.workshop())
            .bind(piece)
            .fetch_optional(&mut *self.tx)
            .await?)
    }

    /// The first bytes of a file on its way in, at most a piece.
    pub async fn incoming_head(&mut self, id: Uuid, most: usize) -> Result<Vec<u8>, StoreError> {
        let mut head = self.incoming_piece(id, 0).await?.unwrap_or_default();
        head.truncate(most);
        Ok(head)
    }

    /// All of a file on its way in.
    pub async fn incoming_file(&mut self, case: Uuid, id: Uuid) -> Result<FileSource, StoreError> {
        let i = self.incoming(case, id).await?;
        if !i.is_whole() {
            let message = format!("{} of {} bytes of {} are here", i.received, i.size, i.name);
            return Err(Problem::new("not-whole", message).field("file").into());
        }
        let first = self.incoming_piece(id, 0).await?.unwrap_or_default();
        let Some(second) = self.incoming_piece(id, 1).await? else { return Ok(first.into()) };
        let mut disk = OnDisk::new(&i.name)?;
        disk.add(&first).await?;
        let (mut piece, mut n) = (Some(second), 2);
        while let Some(p) = piece {
            disk.add(&p).await?;
            piece = self.incoming_piece(id, n).await?;
            n += 1;
        }
        disk.finish().await
    }

    /// Makes a file on its way in one of the case's.
    pub async fn keep_incoming(&mut self, case: Uuid, id: Uuid, name: &str) -> Result<(), StoreError> {
        self.incoming(case, id).await?;
        // Two gigabytes take their time.
        sqlx::query("SET LOCAL statement_timeout = '15min'").execute(&mut *self.tx).await?;
        sqlx::query(
            "INSERT INTO case_blob (workshop_id, case_id, name, piece, data)
             SELECT workshop_id, $2, $3, piece, data FROM incoming_piece WHERE incoming_id = $1 AND workshop_id = $4",
        )
        .bind(id)
        .bind(case)
        .bind(name)
        .bind(self.workshop())
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Forgets a file on its way in, and what came with it.
    pub async fn forget_incoming(&mut self, case: Uuid, id: Uuid) -> Result<(), StoreError> {
        let gone = sqlx::query("DELETE FROM incoming WHERE id = $1 AND case_id = $2 AND workshop_id = $3")
            .bind(id)
            .bind(case)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        if gone.rows_affected() == 0 { Err(StoreError::NotFound) } else { Ok(()) }
    }
}
