//! The rules and the computation of driveline diagnosis. No input or output, no clock, no interface:
//! numbers and documents go in, answers and errors come out.
//!
//! A folder is a trade of the job, in the order in which a case passes through them:
//!
//! | folder | what it knows |
//! |---|---|
//! | [`case`] | the document: symptoms, observations, readings, repairs; the intake; the statement on driving; the words that may stand in it |
//! | [`vehicle`] | layout, places and their names, speeds of each part, tyres |
//! | [`signal`] | samples: speed, resampling, spectra, envelopes, frequency weighting |
//! | [`analysis`] | what a recording holds: reference, lag and scale, order lines, levels, events, the order map |
//! | [`drive`] | which runs to drive, the coach, the recorder |
//! | [`lift`] | the inspection route, isolation, blind checks, sounds |
//! | [`measure`] | angles, runout, bearings, the ladder of orders, critical speed, joint drag; the instruments and what they read |
//! | [`reasoning`] | weighs it all: prior, likelihood, posterior; the plan; the gate before parts are bought |
//! | [`repair`] | what is bought for a chosen cause; the repair plan: procedures, steps, order, kit |
//! | [`proof`] | before against after |
//! | [`safety`] | cautions, clearance to drive |
//! | [`edit`] | everything that can happen to a case, one act at a time, and when it is refused or taken back |
//! | [`workflow`] | the stations of a case and what is done next |
//! | [`vehicle_history`] | a vehicle over all its cases: what was done, what changed |
//!
//! [`calc`] is one face for all calculations. What all of them use: [`error`], [`units`], [`hands`] (how a thing is done by hand), [`permission`] (who may do what), [`synonyms`] (what people call a thing),
//! [`typed_input`] (what people type).

pub mod analysis;
pub mod calc;
pub mod case;
pub mod drive;
pub mod edit;
pub mod error;
pub mod hands;
pub mod lift;
pub mod measure;
pub mod permission;
pub mod proof;
pub mod reasoning;
pub mod repair;
pub mod safety;
pub mod signal;
pub mod synonyms;
pub mod typed_input;
pub mod units;
pub mod vehicle;
pub mod vehicle_history;
pub mod workflow;
