//! What the core holds to beside its unit tests: laws, and worlds that were made otherwise. One program, not
//! one for each file: linking each took longer than many a test.

mod answers;
mod built;
mod edits;
mod findings;
mod links;
mod made_otherwise;
mod newcomer;
mod own_signs;
mod readings;
mod references;
mod schema;
mod stories;
mod tracking;
mod unknown_lag;
mod weighing_laws;
