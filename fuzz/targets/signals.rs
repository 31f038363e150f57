//! A target of libFuzzer; what it does is also a test of the core.
#![no_main]

#[path = "../../crates/core/tests/it/fuzzed/signals.rs"]
mod target;

libfuzzer_sys::fuzz_target!(|input: &str| target::target(input));
