//! Looking only: where content comes from, in what runs differ, curves, and runs at work.

pub mod comparison;
pub mod curve;
pub mod follow;
pub mod lineage;
pub mod provenance;
