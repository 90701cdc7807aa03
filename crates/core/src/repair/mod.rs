//! The repair of a cause that was chosen: in what qualities its parts come, and how the choice is put into a case.

pub mod purchasing;
