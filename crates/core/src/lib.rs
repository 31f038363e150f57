//! The core of Textum: everything but words on a screen.
//!
//! Its rooms, in the order in which data flows through them; none knows one that comes after it:
//!
//! - [`config`]: `textum.toml` from text to a checked value, its parameters and ranges, the graph of its stages.
//!   Every mistake has its place in the text.
//! - [`record`]: the immutable documents that say exactly what was read, run and written, and the ledger, the index
//!   of them that can always be made anew.
//! - [`project`]: the folder and its parts, what stands in the tree and what is put there, environments, sandboxes.
//! - [`data`]: datasets as versions: recorded, compared, searched.
//! - [`pipeline`]: what is to run and why (pure), running it, what stages say meanwhile, predictions judged.
//! - [`inspect`]: where content comes from, how runs differ, curves, runs at work. It only looks.
//! - [`share`]: what several machines have, by way of depots: sent, fetched, received.
//! - [`publish`]: what others may rely on: published in a registry, fetched and checked elsewhere.
//! - [`maintain`]: content back in place, a past run done again and judged, and the upkeep of the store: all that
//!   overwrites or deletes.
//!
//! [`event`] is how the core talks while it works. Below it stand crates of their own: [`fsio`] (the one place with
//! rename, sync and locks), [`registry`] (the signed log), [`store`], [`table`], [`expr`] and [`figure`].
//!
//! A newcomer's rule: decides → `pipeline/plan`; needs the disk → `project` or `pipeline/exec`; shows → the command line.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

pub use textum_base::fsio;
pub use textum_depot as depot;
pub use textum_expr as expr;
pub use textum_figure as figure;
pub use textum_observe as observe;
pub use textum_picture as picture;
pub use textum_registry as registry;
pub use textum_store as store;
pub use textum_table as table;

pub mod config;
pub mod data;
pub mod erase;
pub mod event;
pub mod inspect;
pub mod maintain;
pub mod pipeline;
pub mod project;
pub mod publish;
pub mod record;
pub mod share;
