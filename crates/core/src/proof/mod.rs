//! After the repair: what has to be made again ([`proof_list`]), and what before against after says ([`verify`]).

pub mod proof_list;
pub mod verify;
