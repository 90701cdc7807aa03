//! Nobody hurt: which cautions stand at a step, what must be ticked before wheels turn, whether the vehicle may be driven.

pub mod cautions;
pub mod drive_clearance;
