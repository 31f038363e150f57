//! Where content comes from: the receipts behind it, followed upstream by digest.

mod find;
mod graph;
mod observed;

pub use find::{InRun, Origin, Target, TraceError, content_in_run, find_target};
pub use graph::{Edge, Node, NodeKind, Trace, trace};
pub use observed::{ObservedOf, group_name};
