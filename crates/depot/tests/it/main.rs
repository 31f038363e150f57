//! Depots, in a folder, in memory and on real servers; one program, so that it is linked once and its tests wait side by side.
#![allow(
    clippy::disallowed_methods,
    clippy::expect_used,
    clippy::print_stderr,
    clippy::too_many_lines,
    clippy::unwrap_used,
    missing_docs
)]

mod common;
mod conformance;
mod erasing;
mod exchange;
mod hostile;
