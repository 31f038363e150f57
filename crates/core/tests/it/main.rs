//! The rooms of the core, each by what it hands out; one program, so that it is linked once and its tests wait side by side.
#![allow(
    clippy::disallowed_methods,
    clippy::expect_used,
    clippy::print_stderr,
    clippy::too_many_lines,
    clippy::unwrap_used,
    missing_docs
)]

mod decisions;
mod downstream;
mod each;
mod erasing;
mod evaluating;
mod examination;
mod executor;
mod folds;
mod fuzzed;
mod history;
mod judging;
mod ledger;
mod looking;
mod mistakes;
mod names;
mod observed;
mod publishing;
mod ranges;
mod team;
mod upkeep;
mod words;
