//! The store of contents: one program, so that it is linked once.
#![allow(
    clippy::disallowed_methods,
    clippy::expect_used,
    clippy::print_stderr,
    clippy::too_many_lines,
    clippy::unwrap_used,
    missing_docs
)]

mod lookups;
mod machine;
mod store;
