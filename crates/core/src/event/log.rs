//! The log of a run: what happened, and when, a line of JSON for each event. It is kept with the run.

use serde::{Deserialize, Serialize};

use super::Event;

/// A line of a run's log.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LoggedEvent {
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// What happened.
    pub event: Event,
}

impl LoggedEvent {
    /// Something that happens now.
    pub fn now(event: Event) -> LoggedEvent {
        LoggedEvent { at: textum_base::clock::now().to_string(), event }
    }
}

/// The events in a log, in their order; a line that is none, the torn last one of a run that was cut off for
/// example, is passed over. Runs of an earlier Textum wrote events without a time: those have an empty one.
pub fn read_log(text: &str) -> Vec<LoggedEvent> {
    let line = |line: &str| {
        let untimed = || serde_json::from_str::<Event>(line).ok().map(|event| LoggedEvent { at: String::new(), event });
        serde_json::from_str::<LoggedEvent>(line).ok().or_else(untimed)
    };
    text.lines().filter_map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_with_and_without_a_time_are_read_and_torn_ones_are_not() {
        let one = LoggedEvent { at: "2026-11-26T10:00:00Z".into(), event: Event::Stopping };
        let text = format!(
            "{}\n{}\n\nnot one\n{{\"at\": \"2026",
            serde_json::to_string(&one).unwrap(),
            serde_json::to_string(&Event::Interrupted { run: "r".into() }).unwrap()
        );
        let read = read_log(&text);
        assert!(read[0].at == one.at && matches!(read[0].event, Event::Stopping));
        assert!(read[1].at.is_empty() && matches!(&read[1].event, Event::Interrupted { run } if run == "r"));
        assert_eq!(read.len(), 2);
    }
}
