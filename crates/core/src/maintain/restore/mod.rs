//! Bringing recorded content back: onto the tree, or into another folder.

mod environment;
mod params;
mod select;

pub use environment::{EnvironmentError, RestoredEnvironment, restore_environment};
pub use params::{ParamsError, WrittenParams, restore_params};
pub use select::{RestoreError, Restored, Wanted, of_digest, of_run, of_tree, of_version, restore_into, restore_tree};
