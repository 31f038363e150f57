//! Content onto the disk and out of the way: always below a folder's handle, whole or not at all, and never at
//! the cost of something of a person's.

mod clear;
mod put;
mod staged;

pub use clear::{ClearError, TreeCleaner, drop_recorded_copies};
pub use put::{PutError, put_new, write_new, write_part};
pub use staged::Staged;
