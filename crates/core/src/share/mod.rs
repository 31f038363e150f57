//! What several machines have, by way of depots.

mod closure;
mod live;
mod overview;
mod sync;

pub use closure::{Contents, contents_of, every_content};
pub use live::{EVERY, LiveState, LiveTeller, RemoteFollow, RemoteRun, remote_runs, stop_remote};
pub use overview::{RemoteFigures, prune_depot, verify_depot};
pub use sync::{Direction, Progress, SyncError, SyncOptions, SyncOutcome, Wanted, adding, receive, sync};
