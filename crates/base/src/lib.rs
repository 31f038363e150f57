//! What everything else stands on.
//!
//! - [`digest`]: the name of content.
//! - [`Better`], [`StorageMode`], [`nearest`]: words that manifest and documents share; names that are like others.
//! - [`path`]: paths in a project, which only a checked constructor makes.
//! - [`clock`], [`environment`], [`Identity`]: the time, the variables, and whom this process works for.
//! - [`limits`]: how many files may be open, and how many threads there may be.
//! - [`fsio`]: the one place with rename, sync and locks; files and folders below a handle.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod channel;
pub mod clock;
pub mod digest;
pub mod environment;
pub mod fsio;
mod identity;
pub mod limits;
mod names;
pub mod path;
mod words;

pub use channel::{Channel, ChannelKind};
pub use digest::{Digest, NotADigest};
pub use identity::{Identity, host};
pub use names::{MANIFEST_NAME, TREE_RECEIPT_NAME, nearest};
pub use path::{DeclaredPath, PathFault, ProjectPath, SourcePath, is_within, link_stays, overlap, without_dots};
pub use words::{Better, StorageMode};
