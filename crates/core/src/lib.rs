//! tour
pub mod event;
pub mod fingerprint;
pub mod fsio;
pub mod graph;
pub mod ledger;
pub mod manifest;
pub mod receipt;
pub mod store;
pub mod workspace;
