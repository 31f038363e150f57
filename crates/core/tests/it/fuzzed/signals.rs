//! What commands write for Textum: signal lines and files of metrics. A signal that is taken is written and
//! taken again as the same line.

use textum_core::pipeline::signal::{parse_line, quote_non_finite, read_metrics, signal_line};

/// The target.
pub fn target(text: &str) {
    if let Ok(signal) = parse_line(text) {
        let line = signal_line(&signal);
        let again = parse_line(line.trim_end()).unwrap();
        assert_eq!(signal_line(&again), line);
    }
    let _ = quote_non_finite(text);
    let file = tempfile::NamedTempFile::with_suffix_in(".json", "/dev/shm")
        .or_else(|_| tempfile::NamedTempFile::with_suffix(".json"))
        .unwrap();
    std::fs::write(file.path(), text).unwrap();
    let _ = read_metrics(file.path());
}
