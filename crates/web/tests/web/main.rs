//! What the server answers and the pages do, over the wire and in a real browser. One program, not
//! one for each file: linking each took longer than many a test.

mod advised;
mod api;
mod beside;
mod case_life;
mod danger;
mod decision;
mod drive;
mod edits;
mod errors;
mod forms;
mod intake;
mod isolation;
mod jobs;
mod journey;
mod lift;
mod maps;
mod mending;
mod pages_ahead;
mod recordings_in;
mod repair_plan;
mod safe;
mod same_step;
mod screen_words;
mod sounds;
mod support;
mod together;
mod units;
mod work;
mod worksheets;
