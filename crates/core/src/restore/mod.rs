//! Bringing recorded content back: onto the tree, or into another folder.

mod put;
mod select;

pub use put::{PutError, put_in_tree, put_new};
pub use select::{RestoreError, Restored, Wanted, of_digest, of_run, of_tree, of_version, restore_into, restore_tree};
