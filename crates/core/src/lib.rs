//! The rules and the computation of driveline diagnosis. No input or output, no clock, no interface:
//! numbers and documents go in, answers and problems come out.
//!
//! A module is a trade of the job: [`vehicle`] knows layout, places and speeds; [`orders`] the ladder
//! of orders; [`signal`] samples and spectra; [`analysis`] what a recording says; [`angles`],
//! [`runout`], [`bearing`], [`shaft`] what is measured under the vehicle; [`reasoning`] weighs it
//! all; [`verify`] holds after against before, [`next_action`] says what is done next. [`permission`] says who may do what; [`entries`] reads lists of a document entry by entry,
//! [`typed`] what people type, [`cautions`] which cautions stand at a step. [`calc`] is one face for all single calculations.

pub mod analysis;
pub mod angles;
pub mod attempts;
pub mod bearing;
pub mod calc;
pub mod case;
pub mod cautions;
pub mod elimination;
pub mod entries;
pub mod fault_at;
pub mod instrument;
pub mod intake;
pub mod life;
pub mod lift_walk;
pub mod listening;
pub mod next_action;
pub mod orders;
pub mod permission;
pub mod problem;
pub mod progress;
pub mod proof_list;
pub mod reasoning;
pub mod release;
pub mod road_coach;
pub mod road_plan;
pub mod runout;
pub mod shaft;
pub mod signal;
pub mod sound;
pub mod swing;
pub mod typed;
pub mod units;
pub mod vehicle;
pub mod verify;
pub mod vote;
pub mod words;
