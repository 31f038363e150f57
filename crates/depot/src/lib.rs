//! Depots: a shared store of content and receipts, in a folder or on a server.
//!
//! A depot is made of immutable objects. Content comes before the index that tells of it, and both before the documents that
//! speak of it: whatever instant a machine is lost at, what can be found is whole.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod address;
mod catalog;
mod depot;
mod documents;
mod erase;
mod fetch;
mod folder;
mod index;
mod layout;
mod live;
mod memory;
mod merge;
mod parallel;
mod probe;
#[cfg(feature = "remote")]
mod remote;
mod retry;
mod send;
mod storage;
mod sweep;
mod verify;

use std::collections::BTreeMap;
use std::sync::Arc;

pub use address::{Address, AddressError, OPTIONS};
pub use depot::{Depot, DepotError, DepotOptions};
pub use documents::{Received, SentDocuments};
pub use erase::Erased;
pub use fetch::Fetched;
pub use folder::Folder;
pub use index::{EntryAt, Index, PackAt, encode as encode_index};
pub use layout::{DEPOT_FILE, DEPOT_TYPE, DepotDocument, PackName, project_key};
pub use live::LiveObject;
pub use memory::Memory;
pub use probe::{Probe, probe};
pub use retry::{Interrupt, Retrying};
pub use send::{Progress, SendPlan, Sent};
pub use storage::{Fault, Object, Storage, StorageError};
pub use sweep::{SweepOptions, Swept};
pub use verify::{DepotDamage, DepotFigures, DepotReport, VerifyOptions};

/// The storage at an address, whose passing failures are tried again. Nothing is asked of it yet.
pub fn open_storage(
    address: &Address,
    options: &BTreeMap<String, String>,
    variables: &[(String, String)],
    interrupt: &Interrupt,
) -> Result<Arc<dyn Storage>, StorageError> {
    if let Address::Folder(path) = address {
        return Ok(Arc::new(Retrying::new(Folder::new(path), interrupt.clone()).named(address.to_string())));
    }
    #[cfg(feature = "remote")]
    {
        let remote = remote::connect(address, options, variables, interrupt)?;
        Ok(Arc::new(Retrying::new(remote, interrupt.clone()).named(address.to_string())))
    }
    #[cfg(not(feature = "remote"))]
    {
        let _ = (options, variables);
        let what = "this Textum was built without servers: build it with `--features remote`";
        Err(StorageError::of(Fault::Lasting, "reach", &address.to_string(), what))
    }
}
