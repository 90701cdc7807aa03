//! The command line, as others call it. One program, not
//! one for each file: linking each took longer than many a test.

mod command_line;
mod install;
