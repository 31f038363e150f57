//! Core values to text, JSON, CSV and Markdown: pure functions.

pub mod data;
pub mod events;
pub mod graph;
pub mod mistakes;
pub mod plan;
pub mod rebuild;
pub mod run;
pub mod runs;
pub mod show;
pub mod sweep;
pub mod table;
pub mod text;
pub mod trace;
pub mod upkeep;
