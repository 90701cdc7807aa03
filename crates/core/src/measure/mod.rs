//! What is measured and worked out: one module for each calculation, with its formula, its source and its worked values.
//! [`instrument`] is what can be read where;
//! [`crate::calc`] is the one face of all of them for the command line and HTTP.

pub mod angle_plan;
pub mod angle_targets;
pub mod angles;
pub mod backlash;
pub mod balance;
pub mod bearing;
pub mod bending_speed;
pub mod bow;
pub mod clamps;
pub mod clutch_pack;
pub mod contact_pattern;
pub mod critical_speed;
pub mod indexing;
pub mod instrument;
pub mod joint_drag;
pub mod lash;
pub mod orders;
pub mod preload;
pub mod ring_clearance;
pub mod roll_out;
pub mod runout;
pub mod shaft_adjusters;
pub mod shaft_length;
mod slopes;
pub mod torque;
mod vehicle_figures;

pub use vehicle_figures::{Figures, PropFigures, SectionFigures};
