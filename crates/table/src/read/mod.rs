//! Tables out of files: where the bytes are and in which format, and a reader for each format.

mod by_column;
mod columnar;
mod delimited;
mod json_lines;
mod lines;
mod source;
mod watched;

pub use by_column::{ByColumn, Value};
pub use columnar::is_guarded;
pub(crate) use columnar::{guarded, malformed};
pub use source::{Opened, Origin, Packing, Source, SourceError, Table, TableFormat, format_of, scratch};
