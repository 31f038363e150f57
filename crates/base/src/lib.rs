//! What everything else stands on.
//!
//! - [`digest`]: the name of content.
//! - [`path`]: paths in a project, which only a checked constructor makes.
//! - [`fsio`]: the one place with rename, sync and locks; files and folders below a handle.

pub mod digest;
pub mod fsio;
pub mod path;

pub use digest::{Digest, NotADigest};
pub use path::{DeclaredPath, PathFault, ProjectPath, SourcePath, is_within, link_stays, overlap};
