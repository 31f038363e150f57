//! What the person sees while something happens, and where results go.

pub mod escape;
mod live;
mod many;
mod plain;
mod signals;
mod style;
mod trace;
mod transfer;
pub mod watch;

use std::io::{IsTerminal, Write};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use textum_core::event::{Event, EventSink};
use textum_core::project::depots::Depots;

pub use signals::{catch_interrupts, interrupt_too};
pub use style::Style;
pub use trace::trace_if_asked;

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
    /// Whether more is to be said.
    pub verbose: bool,
    err_terminal: bool,
    out_terminal: bool,
    /// Why a result could not be printed, if it could not.
    failed: Mutex<Option<std::io::Error>>,
    /// The depots that content may have come from.
    depots: OnceLock<Arc<Depots>>,
}

impl Ui {
    /// As the options of the command line and the terminal have it.
    pub fn new(global: &Global) -> Ui {
        let no_color = textum_base::environment::raw_variable("NO_COLOR").is_some_and(|v| !v.is_empty());
        let colored = |terminal: bool| match global.color {
            Color::Always => true,
            Color::Never => false,
            Color::Auto => terminal && !no_color && textum_base::environment::raw_variable("TERM").is_none_or(|t| t != "dumb"),
        };
        let err_terminal = std::io::stderr().is_terminal();
        Ui {
            // Data has no colours, wherever it goes.
            style: Style::new(global.format == Format::Text && colored(std::io::stdout().is_terminal())),
            err_style: Style::new(colored(err_terminal)),
            format: global.format,
            width: width(),
            quiet: global.quiet,
            verbose: global.verbose,
            err_terminal,
            out_terminal: std::io::stdout().is_terminal(),
            failed: Mutex::default(),
            depots: OnceLock::new(),
        }
    }

    /// Prints a result for people, or data of the format asked for.
    pub fn result(&self, text: &str) {
        match self.format {
            // Data goes into a pipe or file as it is; JSON has been made fit for a terminal already.
            Format::Json => self.print(text),
            Format::Csv if !self.out_terminal => self.print(text),
            _ => self.print(&escape::text(text)),
        }
    }

    fn print(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        let end = if text.ends_with('\n') || text.is_empty() { "" } else { "\n" };
        let printed = out.write_all(text.as_bytes()).and_then(|()| out.write_all(end.as_bytes())).and_then(|()| out.flush());
        self.keep(printed);
    }

    fn keep(&self, printed: std::io::Result<()>) {
        // A reader that has gone away is no failure.
        if let Err(e) = printed
            && e.kind() != std::io::ErrorKind::BrokenPipe
        {
            self.failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(e);
        }
    }

    /// Hands the bytes of a log or file out: as they are into a pipe or file, fit for a terminal on one.
    pub fn bytes<E>(&self, write: impl FnOnce(&mut dyn Write) -> Result<(), E>) -> Result<(), E> {
        if self.out_terminal {
            let mut all = Vec::new();
            write(&mut all)?;
            self.print(&escape::text(&String::from_utf8_lossy(&all).replace("\r\n", "\n")));
            return Ok(());
        }
        let mut out = std::io::stdout().lock();
        write(&mut out)?;
        self.keep(out.flush());
        Ok(())
    }

    /// What kept results from being printed, if anything did.
    pub fn unprinted(&self) -> Option<Failure> {
        let source = self.failed.lock().unwrap_or_else(PoisonError::into_inner).take()?;
        Some(textum_core::fsio::IoError { action: "write to", path: "standard output".into(), source }.into())
    }

    /// Remembers the depots of the project, to say in the end what came from them.
    pub fn remember(&self, depots: &Arc<Depots>) {
        let _ = self.depots.set(depots.clone());
    }

    /// Says what came from depots on the way.
    pub fn say_fetched(&self) {
        let fetched = self.depots.get().map(|depots| depots.fetched()).unwrap_or_default();
        if let Some(line) = render::depot::fetched_line(&fetched) {
            self.say(&self.err_style.dim(&line));
        }
    }

    /// Prints a result as JSON.
    pub fn json(&self, value: &impl serde::Serialize) {
        self.print(&escape::json(&serde_json::to_string_pretty(value).unwrap_or_default()));
    }

    /// Says something that is not a result.
    pub fn say(&self, text: &str) {
        if !self.quiet {
            self.insist(text);
        }
    }

    /// Says something that even a quiet command must say: where a person's file has gone.
    pub fn insist(&self, text: &str) {
        let _ = writeln!(std::io::stderr().lock(), "{}", escape::text(text));
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

    /// Whether a person sits at a terminal.
    pub fn can_ask(&self) -> bool {
        self.err_terminal && std::io::stdin().is_terminal()
    }

    /// Whether a person at a terminal says yes; nobody there means no.
    pub fn agreed(&self, question: &str) -> bool {
        if !self.can_ask() {
            return false;
        }
        let _ = write!(std::io::stderr().lock(), "{} [y/N] ", escape::text(question));
        let mut answer = String::new();
        std::io::stdin().read_line(&mut answer).is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    /// Says what went wrong and what to do next.
    pub fn failure(&self, failure: &Failure) {
        let text = match &failure.mistakes {
            // Rendered with colours of its own; what comes from the manifest has been made plain before.
            Some(mistakes) => {
                let text = render::diagnostics::mistakes(mistakes, self.err_style.on(), self.width);
                let _ = writeln!(std::io::stderr().lock(), "{}", text.trim_end());
                return;
            }
            None => {
                let help = if failure.help.is_empty() {
                    String::new()
                } else {
                    format!("\n{} {}", self.err_style.accent("next:"), failure.help)
                };
                format!("{} {}{help}", self.err_style.bad("error:"), failure.message)
            }
        };
        self.insist(text.trim_end());
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
        if matches!(event, Event::Aside { .. } | Event::NotDeterministic { .. } | Event::StillHeld { .. }) {
            self.0.insist(&render::events::line(&escape::event(&event), &self.0.err_style).unwrap_or_default());
        }
    }
}

fn width() -> usize {
    let told = textum_base::environment::variable("COLUMNS").and_then(|c| c.parse::<usize>().ok());
    let seen = || rustix::termios::tcgetwinsize(std::io::stdout()).ok().map(|w| usize::from(w.ws_col));
    seen().filter(|w| *w > 0).or(told).unwrap_or(100).clamp(40, 240)
}
