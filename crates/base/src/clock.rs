//! The clock: the one place where it is asked.
// This is the one place.
#![allow(clippy::disallowed_methods)]

use std::time::{SystemTime, UNIX_EPOCH};

/// The time now, as the system's clock has it. It may have been set back since it was asked last.
pub fn now() -> jiff::Timestamp {
    jiff::Timestamp::now()
}

/// Nanoseconds since the beginning of 1970, as file systems count; 0 for a clock that is set before that.
pub fn nanoseconds() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_nanos()).unwrap_or(i64::MAX))
}
