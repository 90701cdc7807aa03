//! A case as it is now, at one glance: its state, what stands beside it on every page, and what else a page asks for with it. The case
//! itself is not read.

use crate::analysis_tasks::AnalysisTask;
use crate::drives::Drive;
use crate::events::LastEvent;
use crate::incoming::Incoming;
use crate::kept_pages::KeptPages;
use crate::vehicles::{VehicleGlance, cases_beside};
use crate::workshop_knowledge::SharedKnowledge;
use crate::{Scope, StoreError};
use sqlx::Row;
use uuid::Uuid;

/// What is read beside the state of a case.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WithCase {
    /// The pages that are kept in these slots, for [`Scope::kept_page`].
    pub slots: Vec<String>,
    /// Its vehicle, with so many of its latest other cases.
    pub vehicle: Option<u16>,
    /// Whether files are on their way in or a drive goes on, for [`Scope::incoming_now`] and [`Scope::drive_now`].
    pub under_way: bool,
}

/// The state in which a case is now, with what stands beside it; the case itself is not read yet.
#[derive(Debug)]
pub struct CaseNow {
    /// The case.
    pub id: Uuid,
    pub(crate) state: CaseState,
    about: Option<String>,
    pub(crate) kept: KeptPages,
    /// The latest analysis of its recordings.
    pub task: Option<AnalysisTask>,
    /// The latest thing that was done to it and stands.
    pub last: Option<LastEvent>,
    /// Its vehicle, where it was asked for and the case names one.
    pub vehicle: Option<VehicleGlance>,
    /// Known where it was asked for.
    under_way: Option<UnderWay>,
}

#[derive(Debug)]
struct UnderWay {
    receives: bool,
    drives: bool,
}

/// Of which state of a case, and by what, it is weighed.
#[derive(Debug)]
pub(crate) struct CaseState {
    pub stamp: Uuid,
    pub weighed_by: String,
    pub knowledge: SharedKnowledge,
}

impl CaseNow {
    /// Names the state, as [`crate::assessments::AssessedCase::state`] does.
    pub fn state(&self) -> (Uuid, &str) {
        (self.state.stamp, self.state.knowledge.version())
    }

    /// The symptom that its pages are about where none is asked for; none where it has not been weighed in this state.
    pub fn about(&self) -> Option<&str> {
        self.about.as_deref().filter(|_| self.state.weighed_by == self.state.knowledge.version())
    }
}

/// Columns and joins that every page asks for: case `c` is `$1` of workshop `$2`.
const COLUMNS: &str = "c.stamp, c.weighed_by, CASE WHEN c.about_stamp = c.stamp THEN c.about END AS about, w.house,
    t.id AS task_id, t.state, t.progress, t.what AS doing, t.problem, u.id AS last_id, u.person, u.what";
const JOINS: &str = "JOIN workshop w ON w.id = c.workshop_id
    LEFT JOIN LATERAL (
      SELECT id, state, progress, what, problem FROM analysis_task
      WHERE case_id = c.id AND workshop_id = c.workshop_id AND drive_id IS NULL ORDER BY created_at DESC, id DESC LIMIT 1) t ON true
    LEFT JOIN LATERAL (
      SELECT e.id, e.person, e.what FROM case_event e
      WHERE e.case_id = c.id AND e.workshop_id = c.workshop_id AND e.takes_back IS NULL AND NOT e.was_undone AND e.sequence > 1
        AND NOT EXISTS (SELECT 1 FROM case_event b WHERE b.case_id = e.case_id AND b.takes_back = e.id)
      ORDER BY e.sequence DESC LIMIT 1) u ON true";
/// Whether a file is on its way in, and whether a drive goes on.
const UNDER_WAY: &str = ",
    EXISTS (SELECT 1 FROM incoming i WHERE i.case_id = c.id AND i.workshop_id = c.workshop_id AND i.of_id IS NULL) AS receives,
    EXISTS (SELECT 1 FROM drive d WHERE d.case_id = c.id AND d.workshop_id = c.workshop_id AND d.state NOT IN ('done', 'failed')) AS drives";

impl WithCase {
    /// Only what is asked for stands in the statement: the database sets up each part of one before it knows that it is not needed.
    fn sql(&self) -> String {
        let (mut columns, mut joins) = (COLUMNS.to_string(), JOINS.to_string());
        if self.vehicle.is_some() {
            columns += ", v.id AS vehicle_id, v.name AS vehicle_name, v.changes, o.others";
            joins += " LEFT JOIN vehicle v ON v.id = c.vehicle_id AND v.workshop_id = c.workshop_id LEFT JOIN LATERAL (";
            joins += &cases_beside("$3");
            joins += ") o ON true";
        }
        if !self.slots.is_empty() {
            // A row for each page.
            columns += ", k.slot, k.state AS page_state, k.body";
            joins += " LEFT JOIN case_page k ON k.case_id = c.id AND k.workshop_id = c.workshop_id AND k.slot = ANY($4)";
        }
        if self.under_way {
            columns += UNDER_WAY;
        }
        format!("SELECT {columns} FROM case_file c {joins} WHERE c.id = $1 AND c.workshop_id = $2")
    }
}

impl Scope {
    /// The state of a case of this workshop with what stands beside it on every page; [`StoreError::NotFound`] where there is none.
    pub async fn case_now(&mut self, id: Uuid) -> Result<CaseNow, StoreError> {
        self.case_now_with(id, WithCase::default()).await
    }

    /// The same, and what else is asked for with it.
    pub async fn case_now_with(&mut self, id: Uuid, with: WithCase) -> Result<CaseNow, StoreError> {
        let rows = sqlx::query(&with.sql())
            .bind(id)
            .bind(self.workshop())
            .bind(with.vehicle.map(i64::from))
            .bind(&with.slots)
            .fetch_all(&mut *self.tx)
            .await?;
        let row = rows.first().ok_or(StoreError::NotFound)?;
        let task = match row.try_get("task_id")? {
            Some(id) => Some(AnalysisTask {
                id,
                state: row.try_get("state")?,
                progress: row.try_get("progress")?,
                what: row.try_get("doing")?,
                problem: row.try_get("problem")?,
            }),
            None => None,
        };
        let last = match row.try_get("last_id")? {
            Some(id) => Some(LastEvent { id, person: row.try_get("person")?, what: row.try_get("what")? }),
            None => None,
        };
        let (stamp, weighed_by) = (row.try_get("stamp")?, row.try_get("weighed_by")?);
        let knowledge = self.knowledge_of(row.try_get("house")?)?;
        let vehicle = match with.vehicle {
            Some(_) => self.vehicle_beside(row, &knowledge).await?,
            None => None,
        };
        let under_way = match with.under_way {
            true => Some(UnderWay { receives: row.try_get("receives")?, drives: row.try_get("drives")? }),
            false => None,
        };
        let about = row.try_get("about")?;
        let kept = KeptPages::read(&rows, with.slots)?;
        let state = CaseState { stamp, weighed_by, knowledge };
        Ok(CaseNow { id, state, about, kept, task, last, vehicle, under_way })
    }

    /// Files on their way into a case: not asked for again where it was seen that there are none.
    pub async fn incoming_now(&mut self, now: &CaseNow) -> Result<Vec<Incoming>, StoreError> {
        match &now.under_way {
            Some(u) if !u.receives => Ok(vec![]),
            _ => self.incoming_of(now.id).await,
        }
    }

    /// The drive that goes on, in the same way.
    pub async fn drive_now(&mut self, now: &CaseNow) -> Result<Option<Drive>, StoreError> {
        match &now.under_way {
            Some(u) if !u.drives => Ok(None),
            _ => self.open_drive(now.id).await,
        }
    }
}
