//! Rows of a dataset forgotten, and everything that was made of them.
//!
//! - [`find`]: the versions with such rows, the rows themselves, and the version without them.
//! - [`plan`]: what goes: by receipts, everything that was made of those versions and of nothing else; what is left.
//! - [`places`]: files outside the store in which it stands.
//! - [`traces`]: where else the same rows stand, though no receipt says so.
//! - [`carry`]: doing it, by a journal: whatever instant it ends at, it goes on or has not begun.
//! - [`account`]: what receipts say of it afterwards.
//! - [`depots`]: the same in depots, now or when they can be reached again.

mod account;
mod carry;
mod depots;
mod error;
mod find;
mod forgotten;
mod places;
mod plan;
mod traces;

pub use account::{Account, Gone, account, accounts};
pub use carry::{Erased, erase, finish, follow, is_cut_off, plan_to_follow};
pub use depots::{DepotErased, erase_in_depot, pending, unfollowed};
pub use error::EraseError;
pub use find::{Asked, Found, FoundVersion, Next, find};
pub use places::Places;
pub use plan::{ErasePlan, Goes, GoesAs, plan};
