//! What a running stage tells by lines of JSON, or by files of metrics that it writes as it goes.

mod history;
mod line;
mod metrics;
mod reader;
mod tally;

pub use history::{MetricFiles, read_history, step_column};
pub use line::{Ask, Signal, parse_line, signal_line};
pub use metrics::{metric_leaves, quote_non_finite, read_metrics};
pub use reader::SignalReader;
pub use tally::{POINTS_HEADER, Tally};
