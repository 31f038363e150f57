//! Runs at work, as they tell of themselves every few seconds. These objects alone are written over.

use super::depot::{Depot, DepotError};
use super::layout::LIVE;
use super::storage::Object;

/// What a run tells of itself is smaller. In bytes.
const LARGEST: u64 = 64 << 20;

/// What a depot has of a run at work.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LiveObject {
    /// The run.
    pub run: String,
    /// When it told last, by the storage's clock, where that says so.
    pub told: Option<jiff::Timestamp>,
}

fn path_of(run: &str, what: &str) -> String {
    format!("{LIVE}/{run}/{what}")
}

impl Depot {
    /// The runs that tell of themselves.
    pub fn live_runs(&self) -> Result<Vec<LiveObject>, DepotError> {
        // One that is larger, or whose name is none of a run, was not written by one.
        let of = |object: Object| {
            let run = object.path.strip_prefix(LIVE)?.strip_prefix('/')?.strip_suffix("/state")?.to_string();
            let is_name = run.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
            (object.size <= LARGEST && is_name).then_some(LiveObject { run, told: object.modified })
        };
        let mut found: Vec<LiveObject> = self.storage.list(LIVE)?.into_iter().filter_map(of).collect();
        found.sort_by(|a, b| b.run.cmp(&a.run));
        Ok(found)
    }

    /// Tells the state of a run.
    pub fn tell_live(&self, run: &str, what: &str, bytes: Vec<u8>) -> Result<(), DepotError> {
        Ok(self.storage.put(&path_of(run, what), &bytes.into())?)
    }

    /// What a run told, if it did.
    pub fn live(&self, run: &str, what: &str) -> Result<Option<Vec<u8>>, DepotError> {
        match self.storage.read(&path_of(run, what)) {
            Err(e) if e.is_not_found() => Ok(None),
            other => Ok(Some(other?)),
        }
    }

    /// Takes away what a run told: it has ended.
    pub fn end_live(&self, run: &str) -> Result<(), DepotError> {
        for object in self.storage.list(&format!("{LIVE}/{run}"))? {
            self.storage.delete(&object.path)?;
        }
        Ok(())
    }
}
