//! Datasets as versions: which states there were, what differs between them, who used them.
//!
//! - [`version`]: numbers for states; what `shifts@2` stands for.
//! - [`record`]: new states into the store, each with a data receipt.
//! - [`declare`]: a new dataset into the manifest, its comments and layout kept.
//! - [`side`]: one side of a comparison: a version, the working tree, or a path.
//! - [`files`], [`difference`]: how two states differ, file by file and row by row.
//! - [`listed`]: the files of a folder as a table, pictures among them.
//! - [`sheet`]: pictures of two folders that differ, made small.
//! - [`search`]: in which versions rows are.

mod data_ref;
mod declare;
mod difference;
mod error;
mod files;
mod listed;
mod record;
mod search;
mod sheet;
mod status;
mod stored_table;
mod table_at;
mod version;

pub use data_ref::{DataRef, find_data};
pub use declare::{Added, Declaration, add};
pub use difference::{Change, Difference, change_between, compare};
pub use error::DataError;
pub use files::{FileChange, FileChangeKind, FilesDiff, compare_files};
pub use listed::{ListedFile, PictureFacts, any_table_in_store, any_table_in_tree, as_table, listed_files, picture_facts};
pub use record::{Recording, none_is_erased, note_version, record_datasets, recorded_anew};
pub use search::{FoundIn, find_rows};
pub use sheet::{Sheet, Small, Tile, sheet};
pub use status::{DatasetState, DatasetStatus, status_of};
pub use table_at::{table_in_store, table_in_tree};
pub use version::{Version, split_name, version_of, version_with, versions};
