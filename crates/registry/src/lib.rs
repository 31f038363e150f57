//! The registry: a signed, append-only log of what others may rely on, and what it says.
//!
//! - [`key`]: people's SSH keys, from a file or an agent, in the signature format of OpenSSH.
//! - [`envelope`]: an entry with its signature, in the form of DSSE.
//! - [`entry`], [`bundle`]: what an entry says; what is published.
//! - [`log`]: numbered entries in a depot or a folder, each naming the one before, made only if there is none of its number.
//! - [`index`]: what it says of a version, without reading all of it.
//! - [`registry`]: what all entries together say, and which of them have no effect for want of a right.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

pub mod bundle;
mod card;
pub mod entry;
pub mod envelope;
pub mod index;
pub mod key;
pub mod log;
pub mod registry;
mod rights;

pub use bundle::{Bundle, BundleFile, Column, ColumnKind, DataFacts, Header, Proof, Rebuilt, RunFacts, Schema, Tensor};
pub use card::{CARD, CARD_NAME, Card, LARGEST_CARD};
pub use entry::{Action, Entry, Kind, Publication, Role, is_alias, is_name, split_reference};
pub use envelope::Signed;
pub use index::{End, Index, Which};
pub use key::{KeyError, KeyId, Signer};
pub use log::{Chain, Damage, Log, LogError, Sealed};
pub use registry::{AliasState, Judged, Model, Note, Registry, Section, Version, Versions};
