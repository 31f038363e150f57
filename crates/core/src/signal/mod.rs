//! What a running stage tells by lines of JSON, or by files of metrics that it writes as it goes.

mod history;
mod line;
mod reader;
mod tally;

pub use history::{MetricFiles, read_history, step_column};
pub use line::{Ask, Signal, parse_line, signal_line};
pub use reader::SignalReader;
pub use tally::{POINTS_HEADER, Tally};
