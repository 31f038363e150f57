//! Reading, comparing, filtering and examining tables; one program, so that it is linked once.
#![allow(
    clippy::disallowed_methods,
    clippy::expect_used,
    clippy::print_stderr,
    clippy::too_many_lines,
    clippy::unwrap_used,
    missing_docs
)]

#[cfg(feature = "arrow")]
mod arrow;
mod by_column;
mod conditions;
mod encodings;
mod examining;
mod filtering;
mod likeness;
mod parts;
mod pictures;
mod proposing;
mod readers;
mod sources;
mod tables;
mod without;
