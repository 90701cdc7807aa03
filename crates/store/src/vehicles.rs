//! Vehicles: one history over many cases.

use crate::cases::StoredCase;
use crate::{Scope, StoreError};
use baricord_core::vehicle_history::Change;
use sqlx::FromRow;
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
    pub stored: StoredCase,
    /// The day.
    pub opened: String,
    /// Whether it is proved.
    pub closed: bool,
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
        self.weigh_board_again().await?;
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
        let changes = serde_json::from_str(&changes).map_err(|e| StoreError::Broken(e.to_string()))?;
        Ok(StoredVehicle { id, name, changes })
    }

    /// The vehicle of a case; none where the case names none.
    pub async fn vehicle_of_case(&mut self, case: Uuid) -> Result<Option<StoredVehicle>, StoreError> {
        let id: Option<Option<Uuid>> = sqlx::query_scalar("SELECT vehicle_id FROM case_file WHERE id = $1 AND workshop_id = $2")
            .bind(case)
            .bind(self.workshop())
            .fetch_optional(&mut *self.tx)
            .await?;
        match id.ok_or(StoreError::NotFound)? {
            Some(v) => Ok(Some(self.vehicle(v).await?)),
            None => Ok(None),
        }
    }

    /// The cases of a vehicle, oldest first.
    pub async fn cases_of_vehicle(&mut self, id: Uuid) -> Result<Vec<CaseOfVehicle>, StoreError> {
        self.weigh_board_again().await?;
        let rows: Vec<(Uuid, String, bool)> = sqlx::query_as(
            "SELECT id, to_char(created_at, 'YYYY-MM-DD'), waits_for = 'done' FROM case_file
             WHERE vehicle_id = $1 AND workshop_id = $2 ORDER BY created_at",
        )
        .bind(id)
        .bind(self.workshop())
        .fetch_all(&mut *self.tx)
        .await?;
        let mut out = vec![];
        for (case, opened, closed) in rows {
            let stored = self.case(case).await?;
            // A case that came from elsewhere says itself when it was opened.
            let opened = stored.case().opened.clone().unwrap_or(opened);
            out.push(CaseOfVehicle { stored, opened, closed });
        }
        out.sort_by(|a, b| a.opened.cmp(&b.opened));
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
