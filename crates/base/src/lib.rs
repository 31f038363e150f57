//! What everything else stands on.
//!
//! - [`digest`]: the name of content.
//! - [`Better`], [`StorageMode`], [`nearest`]: words that manifest and documents share; names that are like others.
//! - [`path`]: paths in a project, which only a checked constructor makes.
//! - [`fsio`]: the one place with rename, sync and locks; files and folders below a handle.

pub mod digest;
pub mod fsio;
mod names;
pub mod path;
mod words;

pub use digest::{Digest, NotADigest};
pub use names::{MANIFEST_NAME, TREE_RECEIPT_NAME, nearest};
pub use path::{DeclaredPath, PathFault, ProjectPath, SourcePath, is_within, link_stays, overlap};
pub use words::{Better, StorageMode};
