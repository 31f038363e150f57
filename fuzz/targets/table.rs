//! A target of libFuzzer; what it does is also a test of the core.
#![no_main]

#[path = "../../crates/core/tests/it/fuzzed/table.rs"]
mod target;

/// A panic in the reader of a damaged Parquet file is caught by Textum: it must not end the fuzzer. Others still do.
fn caught_panics_are_fine() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| std::panic::set_hook(Box::new(|_| {})));
}

libfuzzer_sys::fuzz_target!(|input: &[u8]| {
    caught_panics_are_fine();
    target::target(input);
});
