//! tour
pub mod event;
pub mod exec;
pub mod fingerprint;
pub mod fsio;
pub mod graph;
pub mod ledger;
pub mod lineage;
pub mod manifest;
pub mod plan;
pub mod rebuild;
pub mod receipt;
pub mod restore;
pub mod sandbox;
pub mod store;
pub mod verify;
pub mod workspace;
