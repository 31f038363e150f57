//! Core values to text, JSON, CSV and Markdown: pure functions.

mod braille;
pub mod chart;
pub mod compare;
pub mod csv;
pub mod data;
pub mod diagnostics;
pub mod events;
pub mod follow;
pub mod graph;
pub mod groups;
pub mod observed;
pub mod plan;
pub mod plot;
pub mod rebuild;
pub mod report;
pub mod run;
pub mod runs;
pub mod show;
pub mod spread;
pub mod steps;
pub mod sweep;
pub mod table;
pub mod text;
pub mod trace;
pub mod upkeep;
