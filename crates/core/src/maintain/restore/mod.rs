//! Bringing recorded content back: onto the tree, or into another folder.

mod select;

pub use select::{RestoreError, Restored, Wanted, of_digest, of_run, of_tree, of_version, restore_into, restore_tree};
