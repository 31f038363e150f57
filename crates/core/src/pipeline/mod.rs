//! From a plan to receipts: what is to run and why, running it, and judging what it says.

pub mod adopt;
pub mod draft;
pub mod evaluation;
pub mod examination;
pub mod exec;
pub mod executor;
pub mod plan;
pub mod signal;
