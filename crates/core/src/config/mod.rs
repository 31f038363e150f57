//! What a person wrote: the manifest, its parameters and ranges, and the graph of its stages.

pub mod graph;
pub mod manifest;
pub mod param_file;
pub mod sweep;
