//! Vehicles: one history over many cases.

use crate::cases::StoredCase;
use crate::workshop_knowledge::SharedKnowledge;
use crate::{Scope, StoreError};
use baricord_core::vehicle_history::Change;
use baricord_core::workflow::Station;
use serde::Deserialize;
use sqlx::postgres::PgRow;
use sqlx::types::Json;
use sqlx::{FromRow, Row};
use std::sync::Arc;
use uuid::Uuid;

/// A vehicle among others.
#[derive(Clone, Debug, FromRow)]
pub struct VehicleLine {
    /// Id of the vehicle.
    pub id: Uuid,
    /// Its name in the workshop.
    pub name: String,
    /// How many cases it had.
    pub cases: i64,
    /// How many of them are open.
    pub open: i64,
    /// Minutes since one of them was last touched.
    pub idle_minutes: Option<i64>,
}

/// A vehicle of the workshop with its changes; [`StoreError::NotFound`] where there is none.
#[derive(Clone, Debug)]
pub struct StoredVehicle {
    /// Id of the vehicle.
    pub id: Uuid,
    /// Name by which cases are joined to it.
    pub name: String,
    /// What was changed between cases, in the order in which it was noted.
    pub changes: Vec<Change>,
}

/// A case of a vehicle with the day on which it was opened.
#[derive(Clone, Debug)]
pub struct CaseOfVehicle {
    /// The case.
    pub stored: Arc<StoredCase>,
    /// The day.
    pub opened: String,
    /// Whether it is proved.
    pub closed: bool,
}

/// One case of a vehicle, as it is found at a glance.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CaseGlance {
    /// The case.
    pub id: Uuid,
    /// Of this state of it alone.
    pub stamp: Uuid,
    /// The day on which it was opened.
    pub opened: String,
    /// Whether it is proved.
    pub closed: bool,
}

/// The vehicle of a case, with what else came with it lately.
#[derive(Clone, Debug)]
pub struct VehicleGlance {
    /// The vehicle.
    pub vehicle: StoredVehicle,
    /// Its other cases, the latest first.
    pub others: Vec<CaseGlance>,
}

/// Another case of the vehicle, as [`cases_beside`] has it.
#[derive(Deserialize)]
struct CaseBeside {
    id: Uuid,
    stamp: Uuid,
    opened: String,
    closed: bool,
    weighed_by: String,
}

/// The latest other cases of the vehicle of a case `c`, as many as a parameter says, as one value.
pub(crate) fn cases_beside(most: &str) -> String {
    format!(
        "SELECT coalesce(json_agg(json_build_object('id', o.id, 'stamp', o.stamp, 'opened', o.day, 'closed', o.closed, 'weighed_by', o.weighed_by)
                 ORDER BY o.day DESC, o.created_at DESC), '[]') AS others
     FROM (SELECT id, stamp, {OPENED} AS day, waits_for = 'done' AS closed, weighed_by, created_at FROM case_file
           WHERE vehicle_id = c.vehicle_id AND workshop_id = c.workshop_id AND id <> c.id ORDER BY day DESC, created_at DESC LIMIT {most}) o"
    )
}

/// The day of a case.
const OPENED: &str = "coalesce(opened, to_char(created_at, 'YYYY-MM-DD'))";

fn read_changes(text: &str) -> Result<Vec<Change>, StoreError> {
    serde_json::from_str(text).map_err(|e| StoreError::Broken(e.to_string()))
}

impl Scope {
    /// The vehicle that a case names; it is made at the first case. None where the case names none.
    pub(crate) async fn vehicle_named(&mut self, name: &str) -> Result<Option<Uuid>, StoreError> {
        let name = name.trim();
        if name.is_empty() {
            return Ok(None);
        }
        // The name of one that is there already is left as it was first written.
        let id = sqlx::query_scalar(
            "INSERT INTO vehicle (id, workshop_id, name) VALUES ($1, $2, $3)
             ON CONFLICT (workshop_id, lower(name)) DO UPDATE SET name = vehicle.name RETURNING id",
        )
        .bind(Uuid::now_v7())
        .bind(self.workshop())
        .bind(name)
        .fetch_one(&mut *self.tx)
        .await?;
        Ok(Some(id))
    }

    /// The vehicles of the workshop that have a case or a change, by name.
    pub async fn vehicles(&mut self, most: i64) -> Result<Vec<VehicleLine>, StoreError> {
        let knowledge = self.knowledge().await?;
        self.weigh_board_again(&knowledge).await?;
        Ok(sqlx::query_as(
            "SELECT v.id, v.name, count(c.id) AS cases, count(c.id) FILTER (WHERE c.waits_for <> 'done') AS open,
                    (extract(epoch FROM now() - max(c.updated_at)) / 60)::bigint AS idle_minutes
             FROM vehicle v LEFT JOIN case_file c ON c.vehicle_id = v.id AND c.workshop_id = v.workshop_id
             WHERE v.workshop_id = $1 GROUP BY v.id HAVING count(c.id) > 0 OR v.changes <> '[]' ORDER BY lower(v.name) LIMIT $2",
        )
        .bind(self.workshop())
        .bind(most)
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// A vehicle of the workshop with its changes; [`StoreError::NotFound`] where there is none.
    pub async fn vehicle(&mut self, id: Uuid) -> Result<StoredVehicle, StoreError> {
        let row: Option<(String, String)> =
            sqlx::query_as("SELECT name, changes FROM vehicle WHERE id = $1 AND workshop_id = $2")
                .bind(id)
                .bind(self.workshop())
                .fetch_optional(&mut *self.tx)
                .await?;
        let (name, changes) = row.ok_or(StoreError::NotFound)?;
        Ok(StoredVehicle { id, name, changes: read_changes(&changes)? })
    }

    /// The vehicle as it stands beside its case; none where the case names none.
    pub(crate) async fn vehicle_beside(&mut self, row: &PgRow, k: &SharedKnowledge) -> Result<Option<VehicleGlance>, StoreError> {
        let Some(id) = row.try_get("vehicle_id")? else { return Ok(None) };
        let vehicle = StoredVehicle { id, name: row.try_get("vehicle_name")?, changes: read_changes(row.try_get("changes")?)? };
        let Json(rows): Json<Vec<CaseBeside>> = row.try_get("others")?;
        let mut others = vec![];
        for CaseBeside { id, stamp, opened, mut closed, weighed_by } in rows {
            // Where it has changed since it was last weighed.
            if weighed_by != k.version() {
                closed = self.assessed(id).await?.assessment.next.station == Station::Done;
            }
            others.push(CaseGlance { id, stamp, opened, closed });
        }
        Ok(Some(VehicleGlance { vehicle, others }))
    }

    /// Some cases of a vehicle, in their order.
    pub async fn glanced_cases(&mut self, glances: &[CaseGlance]) -> Result<Vec<CaseOfVehicle>, StoreError> {
        let mut out = vec![];
        for g in glances {
            out.push(CaseOfVehicle { stored: self.case(g.id).await?, opened: g.opened.clone(), closed: g.closed });
        }
        Ok(out)
    }

    /// The cases of a vehicle, oldest first.
    pub async fn cases_of_vehicle(&mut self, id: Uuid) -> Result<Vec<CaseOfVehicle>, StoreError> {
        let knowledge = self.knowledge().await?;
        self.weigh_board_again(&knowledge).await?;
        let sql = format!(
            "SELECT id, {OPENED}, waits_for = 'done' FROM case_file
             WHERE vehicle_id = $1 AND workshop_id = $2 ORDER BY {OPENED}, created_at"
        );
        let rows: Vec<(Uuid, String, bool)> =
            sqlx::query_as(&sql).bind(id).bind(self.workshop()).fetch_all(&mut *self.tx).await?;
        let mut out = vec![];
        for (case, opened, closed) in rows {
            out.push(CaseOfVehicle { stored: self.case(case).await?, opened, closed });
        }
        Ok(out)
    }

    /// Notes a change of a vehicle.
    pub async fn note_change(&mut self, id: Uuid, change: Change) -> Result<(), StoreError> {
        change.check()?;
        sqlx::query_scalar::<_, Uuid>("SELECT id FROM vehicle WHERE id = $1 AND workshop_id = $2 FOR UPDATE")
            .bind(id)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?
            .ok_or(StoreError::NotFound)?;
        let mut v = self.vehicle(id).await?;
        v.changes.push(change);
        let text = serde_json::to_string(&v.changes).map_err(|e| StoreError::Broken(e.to_string()))?;
        sqlx::query("UPDATE vehicle SET changes = $1 WHERE id = $2 AND workshop_id = $3")
            .bind(text)
            .bind(id)
            .bind(self.workshop())
            .execute(&mut *self.tx)
            .await?;
        Ok(())
    }
}
