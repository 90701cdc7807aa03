//! Under the vehicle: the order of the inspection, what an isolation leaves, what is felt blind by two, what is heard where, how the vehicle stands and what holds it.

pub mod blind_check;
pub mod holding;
pub mod inspection_route;
pub mod isolation;
pub mod sound;
pub mod sound_localisation;
pub mod vehicle_state;
