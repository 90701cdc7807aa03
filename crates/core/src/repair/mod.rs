//! The repair of a cause that was chosen.
//!
//! | file | what it knows |
//! |---|---|
//! | [`purchasing`] | in what qualities its parts come, and how the choice is put into a case |
//! | [`procedures`] | what comes off and goes on again, and the work in between, as data |
//! | [`own_procedures`] | how a workshop does a thing itself |
//! | [`entry_form`] | an entry of the procedures as a form has it |
//! | [`repair_plan`] | the plan of all open repairs: call [`repair_plan::repair_plan`] |
//! | [`job`] | what is to be done where, what must be asked, what is impossible |
//! | `put_back` | what stays of it when all is put back unrepaired |
//! | `step_graph` | one graph of steps for all of it |
//! | [`schedule`] | the order, and how far it is from the best |
//! | [`kit`] | what must lie ready |
//! | [`step`] | a step |
//! | [`teardown`] | how the driveline stands at a point of the plan |

pub(crate) mod drive_steps;
pub mod entry_form;
pub mod job;
pub mod kit;
mod layout_conditions;
pub mod own_procedures;
mod place_template;
#[cfg(test)]
mod plan_properties;
pub mod procedures;
pub mod purchasing;
mod put_back;
pub mod repair_plan;
pub mod schedule;
pub mod step;
mod step_graph;
pub mod teardown;
