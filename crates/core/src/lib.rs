//! The core of Textum: everything but words on a screen.
//!
//! The modules in the order in which data flows through them:
//!
//! - [`manifest`]: `textum.toml` from text to a checked value; every mistake has its place in the text.
//! - [`graph`]: the pure graph of stages; what one writes and another reads puts them in order.
//! - [`fingerprint`]: what a stage depends on now, and how that differs from a recorded state.
//! - [`plan`]: graph, fingerprints and ledger into decisions with reasons.
//! - [`exec`]: carries a plan out at a place, and makes a receipt of each execution.
//! - [`signal`]: what a stage tells while it runs; [`rule`]: conditions on metrics, for gates and for stopping.
//! - [`sweep`]: many settings of the parameters, each a run; [`evaluation`]: predictions judged.
//! - [`receipt`]: the immutable documents that say exactly what was read, run and written.
//! - [`store`]: all content by digest, in immutable packs.
//! - [`ledger`]: the SQLite index of receipts, always rebuildable from the store.
//! - [`lineage`]: where content comes from, followed through receipts.
//! - [`comparison`], [`curve`]: how runs differ; metrics over steps. [`figure`]: what is drawn, as SVG and PNG.
//! - [`sandbox`], [`restore`], [`rebuild`]: scratch folders; content back in place; a past run done again
//!   and judged.
//! - [`verify`]: whether everything that receipts promise is there.
//! - [`workspace`], [`event`], [`fsio`]: the project's paths and parts; how the core talks while it works;
//!   the one place with rename, sync and locks.
//!
//! A newcomer's rule: needs the disk → `fingerprint` or `exec`; decides → `plan`; shows → the command line.

pub use textum_base::fsio;

pub mod config;
pub mod data;
pub mod event;
pub mod figure;
pub mod inspect;
pub mod maintain;
pub mod pipeline;
pub mod project;
pub mod record;
pub mod store;
pub mod table;
