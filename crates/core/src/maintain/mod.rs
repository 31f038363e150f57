//! What overwrites or deletes: content back in place, runs done again, and the upkeep of the store.

pub mod rebuild;
pub mod restore;
pub mod upkeep;
pub mod verify;
