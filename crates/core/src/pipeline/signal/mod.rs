//! What a running stage tells by lines of JSON, or by files of metrics that it writes as it goes.

mod aggregate;
mod history;
mod line;
mod metrics;
mod reader;

pub use aggregate::{Aggregate, POINTS_HEADER};
pub use history::{MetricFiles, read_history, step_column};
pub use line::{Ask, Signal, parse_line, signal_line};
pub use metrics::{metric_leaves, quote_non_finite, read_metrics};
pub use reader::SignalReader;
