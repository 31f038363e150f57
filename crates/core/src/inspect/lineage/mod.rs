//! Where content comes from: the receipts behind it, followed upstream by digest.

mod find;
mod graph;
mod observed;

pub use find::{Origin, Target, TraceError, find_target};
pub use graph::{Edge, Node, NodeKind, Trace, trace};
pub use observed::{ObservedOf, group_name};
