//! One line of signals.

use serde_json::{Map, Value};

use super::metrics::{metric_leaves, quote_non_finite};

/// A longer line is no signal. In bytes.
const LONGEST: usize = 1 << 20;

/// What a line says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Signal {
    /// Metrics with their values, which may be NaN or infinite.
    pub metrics: Vec<(String, f64)>,
    /// The step that they belong to.
    pub step: Option<u64>,
    /// How much is done, 0 to 1.
    pub progress: Option<f64>,
    /// Words.
    pub note: Option<String>,
    /// A version of the checkpoints is to be made.
    pub checkpoint: Option<Ask>,
}

/// How a checkpoint is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ask {
    /// Nobody waits.
    Plain,
    /// Somebody waits for the answer under this name.
    Waiting(String),
}

/// Reads a line; what is wrong with it otherwise.
pub fn parse_line(text: &str) -> Result<Signal, String> {
    if text.len() > LONGEST {
        return Err(format!("it has {} bytes; a signal is short", text.len()));
    }
    let value: Value = serde_json::from_str(text)
        .or_else(|e| serde_json::from_str(&quote_non_finite(text)).map_err(|_| e))
        .map_err(|e| format!("it is no JSON: {e}"))?;
    let Value::Object(table) = value else { return Err("it is no JSON object".into()) };
    if table.is_empty() {
        return Err("it says nothing".into());
    }
    let mut signal = Signal::default();
    for (key, value) in table {
        match (key.as_str(), value) {
            ("metric", Value::Object(values)) => signal.metrics = metrics(values)?,
            ("metric", _) => return Err("`metric` is no table: write {\"metric\": {\"loss\": 0.4}}".into()),
            ("step", value) => {
                let whole = value.as_u64().or_else(|| value.as_f64().filter(|v| *v >= 0.0 && v.fract() == 0.0).map(|v| v as u64));
                signal.step = Some(whole.ok_or_else(|| format!("`step` is {value}, not a whole number from 0 on"))?);
            }
            ("progress", value) => {
                let share = value.as_f64().filter(|v| (0.0..=1.0).contains(v));
                signal.progress = Some(share.ok_or_else(|| format!("`progress` is {value}, not a number from 0 to 1"))?);
            }
            ("note", Value::String(text)) => signal.note = Some(text),
            ("note", _) => return Err("`note` is no text".into()),
            ("checkpoint", Value::Bool(true)) => signal.checkpoint = Some(Ask::Plain),
            ("checkpoint", Value::Bool(false)) => {}
            ("checkpoint", Value::String(name)) if !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric()) => {
                signal.checkpoint = Some(Ask::Waiting(name));
            }
            ("checkpoint", _) => return Err("`checkpoint` is neither true nor false".into()),
            (other, _) => return Err(format!("`{other}` is not known: metric, step, progress, note and checkpoint are")),
        }
    }
    Ok(signal)
}

fn metrics(values: Map<String, Value>) -> Result<Vec<(String, f64)>, String> {
    let given = values.len();
    let named: Vec<String> = values.keys().cloned().collect();
    let found: Vec<(String, f64)> = metric_leaves(&Value::Object(values)).into_iter().map(|(n, m)| (n, m.0)).collect();
    let missing = |name: &&String| !found.iter().any(|(n, _)| n == *name || n.starts_with(&format!("{name}.")));
    match named.iter().find(missing) {
        Some(name) => Err(format!("the metric `{name}` is no number")),
        None if given == 0 => Err("`metric` is empty".into()),
        None => Ok(found),
    }
}

/// A signal as the line that says it.
pub fn signal_line(signal: &Signal) -> String {
    let mut table = Map::new();
    if !signal.metrics.is_empty() {
        let values = signal.metrics.iter().map(|(n, v)| (n.clone(), serde_json::json!(crate::record::receipt::Metric(*v))));
        table.insert("metric".into(), Value::Object(values.collect()));
    }
    if let Some(step) = signal.step {
        table.insert("step".into(), step.into());
    }
    if let Some(progress) = signal.progress {
        table.insert("progress".into(), progress.into());
    }
    if let Some(note) = &signal.note {
        table.insert("note".into(), note.as_str().into());
    }
    match &signal.checkpoint {
        Some(Ask::Plain) => drop(table.insert("checkpoint".into(), true.into())),
        Some(Ask::Waiting(name)) => drop(table.insert("checkpoint".into(), name.as_str().into())),
        None => {}
    }
    format!("{}\n", Value::Object(table))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn lines_say_what_they_say() {
        let read = |text: &str| parse_line(text).unwrap_or_else(|e| panic!("{text}: {e}"));
        let first = read(r#"{"metric": {"loss": 0.412, "of": {"L1": 1}}, "step": 4}"#);
        assert_eq!((first.metrics.len(), first.step), (2, Some(4)));
        assert!(read(r#"{"metric": {"loss": NaN}}"#).metrics[0].1.is_nan());
        assert_eq!(read(r#"{"metric": {"loss": "-Infinity"}, "step": 2.0}"#).metrics[0].1, f64::NEG_INFINITY);
        assert_eq!(read(r#"{"progress": 0.4, "note": "armed"}"#).note.as_deref(), Some("armed"));
        for (bad, why) in [
            ("loss=3", "no JSON"),
            ("[1]", "no JSON object"),
            ("{}", "nothing"),
            (r#"{"metric": {"loss": "low"}}"#, "`loss` is no number"),
            (r#"{"metric": 3}"#, "no table"),
            (r#"{"step": -1}"#, "whole number"),
            (r#"{"progress": 40}"#, "0 to 1"),
            (r#"{"los": 3}"#, "`los` is not known"),
        ] {
            let said = parse_line(bad).unwrap_err();
            assert!(said.contains(why), "{bad}: {said}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(value in any::<f64>(), step in 0u64..1 << 53, note in ".{0,20}") {
            let signal = Signal {
                metrics: vec![("loss".into(), value)], step: Some(step), progress: Some(0.5), note: Some(note),
                checkpoint: Some(Ask::Waiting("a1".into())),
            };
            let back = parse_line(signal_line(&signal).trim_end()).unwrap();
            prop_assert!(back == signal || value.is_nan() && back.metrics[0].1.is_nan());
        }

        #[test]
        fn no_line_brings_the_reader_down(text in "[\\PC\\n]{0,80}") {
            let _ = parse_line(&text);
        }
    }
}
