//! What Textum itself does, for whoever looks for a fault or for where the time goes: on standard error, when the
//! variable `TEXTUM_LOG` asks for it.

use tracing_subscriber::filter::Targets;
use tracing_subscriber::fmt::format::FmtSpan;
use tracing_subscriber::prelude::*;

use super::Ui;

/// The variable that asks for it: a level, or levels by part, as in `info,textum_core::record=trace`.
const VARIABLE: &str = "TEXTUM_LOG";

/// Tells of what is done, and how long it took, when the environment asks for that.
pub fn trace_if_asked(ui: &Ui) {
    let Some(asked) = textum_base::environment::variable(VARIABLE).filter(|asked| !asked.is_empty()) else { return };
    let Ok(levels) = asked.parse::<Targets>() else {
        ui.say(&format!("{VARIABLE} is `{asked}`: write a level such as debug, or parts with levels, as in textum_core=debug"));
        return;
    };
    let told = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_ansi(false).with_span_events(FmtSpan::CLOSE);
    // A second subscriber cannot be: there is one main function.
    let _ = tracing_subscriber::registry().with(told.with_filter(levels)).try_init();
}
