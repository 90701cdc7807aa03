//! What the database keeps, and keeps apart. One program, not
//! one for each file: linking each took longer than many a test.

mod edits;
mod kept;
mod safe;
