//! What a stage depends on now, in named parts; how that differs from a recorded one; the stat cache.

mod cache;
mod environment;
mod inputs;
mod installed;
mod lines;
mod notebook;
mod outside;
mod python;
mod reason;
mod scan;
mod secret;
mod stat;
mod touched;
mod walk;

pub(super) use cache::{Memory, Remembered, save as save_memory};
pub use environment::{EnvironmentNow, counted_variables, environment, host, normal_name, stage_variables, system};
pub use inputs::{Resolved, inputs_of, notebook_input, read_input};
pub use installed::distribution;
pub use lines::{LineChange, line_change};
pub use outside::read_outside;
pub use python::{MayStart, PythonError, find_command, python};
pub use reason::{Reason, ReasonKind, environment_differences, in_words, reasons};
pub use scan::{ScanError, Scanner};
pub use secret::{SecretKey, is_secret, key_of, make_key};
pub use stat::{Stat, now_nanos};
pub use touched::Standstill;
pub(super) use walk::is_private;
pub use walk::{Seen, walk};
