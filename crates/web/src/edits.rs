//! What a form sends becomes an edit of the case: the form's fields are read here into an act, and the core says whether it fits.

use crate::auth::Member;
use crate::error::PageError;
use crate::stations::form::FormFields;
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::{Applied, CaseEdit};
use baricord_store::Scope;
use jiff::Timestamp;
use uuid::Uuid;

/// An edit that is made now, by whoever the store is told.
pub fn new_edit(act: CaseAct) -> CaseEdit {
    CaseEdit::new(Uuid::now_v7(), Timestamp::now(), act)
}

/// Keeps what a form did to a case. A form that names its edit is kept once, and one that says which version it was made on does not
/// overwrite what somebody changed since. None where it was kept before.
pub async fn keep(m: &Member, s: &mut Scope, id: Uuid, f: &FormFields, act: CaseAct) -> Result<Option<Applied>, PageError> {
    let edit = CaseEdit { id: f.edit_id()?.unwrap_or_else(Uuid::now_v7), as_typed: f.as_typed(), ..new_edit(act) };
    Ok(s.edit_case(id, &m.author(), edit, f.version()).await?.1)
}

/// The same, and it is kept for good.
pub async fn keep_now(m: &Member, id: Uuid, f: &FormFields, act: CaseAct) -> Result<Option<Applied>, PageError> {
    let mut s = m.scope().await?;
    let applied = keep(m, &mut s, id, f, act).await?;
    s.commit().await?;
    Ok(applied)
}
