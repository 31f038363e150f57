//! Tables out of files: where the bytes are and in which format, and a reader for each format.

#[cfg(feature = "arrow")]
mod arrow;
#[cfg(feature = "arrow")]
mod arrow_cell;
mod blanks;
mod by_column;
mod columnar;
mod delimited;
mod dialect;
mod encoded;
mod flat;
mod json_array;
mod json_lines;
mod lines;
mod listed;
#[cfg(not(feature = "arrow"))]
mod no_arrow;
mod nulls;
mod only;
mod parts;
mod source;
mod stopping;
mod watched;

pub use by_column::{ByColumn, Value};
pub use columnar::is_guarded;
pub(crate) use columnar::{guarded, malformed};
pub use dialect::{Delimiter, Dialect, Quote, encoding_of};
pub use json_array::looks_like_one as looks_like_array;
pub use listed::Listed;
pub use only::FilterOrTable;
pub use parts::Part;
pub use source::{Opened, Origin, Packing, Source, SourceError, Table, TableFormat, format_of, scratch};
