//! What the person sees while something happens, and where results go.

mod live;
mod many;
mod plain;
mod signals;
mod style;
pub mod watch;

use std::io::{IsTerminal, Write};

use textum_core::event::{Event, EventSink};

pub use signals::catch_interrupts;
pub use style::Style;

use crate::args::{Color, Format, Global};
use crate::failure::Failure;
use crate::render;

/// Where words go: results to standard output, everything else to standard error.
pub struct Ui {
    /// How results are coloured.
    pub style: Style,
    /// How messages on standard error are coloured.
    pub err_style: Style,
    /// How results are printed.
    pub format: Format,
    /// Columns of the terminal.
    pub width: usize,
    quiet: bool,
    verbose: bool,
    err_terminal: bool,
}

impl Ui {
    /// As the options of the command line and the terminal have it.
    pub fn new(global: &Global) -> Ui {
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|v| !v.is_empty());
        let colored = |terminal: bool| match global.color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => terminal && !no_color && std::env::var_os("TERM").is_none_or(|t| t != "dumb"),
        };
        let err_terminal = std::io::stderr().is_terminal();
        Ui {
            style: Style::new(colored(std::io::stdout().is_terminal())),
            err_style: Style::new(colored(err_terminal)),
            format: global.format,
            width: width(),
            quiet: global.quiet,
            verbose: global.verbose,
            err_terminal,
        }
    }

    /// Prints a result. A reader that has gone away is no failure.
    pub fn result(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        let _ = out.write_all(text.as_bytes());
        if !text.ends_with('\n') && !text.is_empty() {
            let _ = out.write_all(b"\n");
        }
        let _ = out.flush();
    }

    /// Prints a result as JSON.
    pub fn json(&self, value: &impl serde::Serialize) {
        self.result(&serde_json::to_string_pretty(value).unwrap_or_default());
    }

    /// Says something that is not a result.
    pub fn say(&self, text: &str) {
        if !self.quiet {
            let _ = writeln!(std::io::stderr().lock(), "{text}");
        }
    }

    /// Says something that even a quiet command must say: where a person's file has gone.
    pub fn insist(&self, text: &str) {
        let _ = writeln!(std::io::stderr().lock(), "{text}");
    }

    /// Says something that only those want who asked for more.
    pub fn say_more(&self, text: &str) {
        if self.verbose {
            self.say(text);
        }
    }

    /// Whether the results of tables are wanted in a form that this command does not have.
    pub fn only(&self, allowed: &[Format]) -> Result<(), Failure> {
        if allowed.contains(&self.format) {
            return Ok(());
        }
        let names: Vec<String> = allowed.iter().map(|f| format!("{f:?}").to_lowercase()).collect();
        let help = format!("use --format {}", names.join(" or "));
        Err(Failure::new(
            crate::failure::USAGE,
            format!("this command has no {} form", format!("{:?}", self.format).to_lowercase()),
            help,
        ))
    }

    /// Whether a person at a terminal says yes; nobody there means no.
    pub fn agreed(&self, question: &str) -> bool {
        if !self.err_terminal || !std::io::stdin().is_terminal() {
            return false;
        }
        let _ = write!(std::io::stderr().lock(), "{question} [y/N] ");
        let mut answer = String::new();
        std::io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    /// Says what went wrong and what to do next.
    pub fn failure(&self, failure: &Failure) {
        let text = match &failure.mistakes {
            Some(mistakes) => render::mistakes::mistakes(mistakes, self.err_style.on(), self.width),
            None => {
                let help = if failure.help.is_empty() {
                    String::new()
                } else {
                    format!("\n{} {}", self.err_style.accent("next:"), failure.help)
                };
                format!("{} {}{help}", self.err_style.bad("error:"), failure.message)
            }
        };
        let _ = writeln!(std::io::stderr().lock(), "{}", text.trim_end());
    }

    /// Somebody who shows events: a live view on a terminal, lines elsewhere.
    pub fn events(&self) -> Box<dyn EventSink + Send + '_> {
        let shown: Box<dyn EventSink + Send + '_> = match (self.quiet, self.err_terminal) {
            (true, _) => Box::new(OnlyLosses(self)),
            (false, true) => Box::new(live::Live::new(self)),
            (false, false) => Box::new(plain::Plain::new(self)),
        };
        Box::new(many::SumsUp::new(self, shown))
    }
}

/// Even a quiet command tells where a person's file has gone.
struct OnlyLosses<'u>(&'u Ui);

impl EventSink for OnlyLosses<'_> {
    fn event(&self, event: Event) {
        if matches!(event, Event::Aside { .. } | Event::NotDeterministic { .. }) {
            self.0.insist(&render::events::line(&event, &self.0.err_style).unwrap_or_default());
        }
    }
}

fn width() -> usize {
    let told = std::env::var("COLUMNS").ok().and_then(|c| c.parse::<usize>().ok());
    let seen = || rustix::termios::tcgetwinsize(std::io::stdout()).ok().map(|w| usize::from(w.ws_col));
    seen().filter(|w| *w > 0).or(told).unwrap_or(100).clamp(40, 240)
}
