//! A project on this machine: its folder and parts, what stands in its tree, and what is put there.

pub mod depots;
pub mod erasures;
pub mod fingerprint;
pub mod git;
pub mod observed;
pub mod sandbox;
pub mod tree;
pub mod way;
pub mod workspace;
