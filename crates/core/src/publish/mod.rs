//! What others may rely on: models and versions of datasets, published in a registry, fetched and checked elsewhere.

mod act;
mod answers;
mod bundle;
mod check;
mod difference;
mod error;
mod fetch;
mod header;
mod impact;
mod inputs;
mod place;
mod predict;
mod schema;
mod seeds;
mod signer;
mod watch;

pub use act::{Asked, Published, alias, append, check_values, publish};
pub use answers::{Answers, RowDifference, compare_answers};
pub use bundle::{bundle_of_data, bundle_of_run};
pub use check::{RegistryReport, check_registry};
pub use difference::{Difference, Line, differences};
pub use error::PublishError;
pub use fetch::{Checked, Fetch, Fetched, check_bundle, fetch, find_version, rows_fit};
pub use header::header_of;
pub use impact::{
    Downstream, Impact, Other, Reached, TouchedPrediction, TouchedRun, TouchedVersion, downstream, impact, is_made_of, others_of,
    reached,
};
pub use inputs::{PublishedInput, as_they_stand, bring_in, expect, published_inputs};
pub use place::{Home, Place};
pub use predict::{Predicted, predict};
pub use schema::{SchemaFault, check_rows, schema_of};
pub use seeds::{Seeds, seeds_of, seeds_of_package, seeds_of_param, seeds_of_rows};
pub use signer::find_signer;
pub use watch::{DeadLetter, Event, Filter, Position, Told, Tries, Watcher, events_after, post, try_to_tell};
