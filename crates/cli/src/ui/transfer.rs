//! How far something that travels is: bytes, rate and time left, on a terminal.

use indicatif::{ProgressBar, ProgressStyle};

use super::Ui;

/// A line that tells how far a transfer is; nothing where there is no terminal.
pub struct Transfer {
    bar: Option<ProgressBar>,
}

impl Ui {
    /// A line for something that travels.
    pub fn transfer(&self) -> Transfer {
        if self.quiet || !self.err_terminal {
            return Transfer { bar: None };
        }
        let bar = ProgressBar::new_spinner();
        bar.enable_steady_tick(std::time::Duration::from_millis(120));
        Transfer { bar: Some(bar) }
    }
}

impl Transfer {
    /// What is being done, how many bytes have travelled, and how many there are in all.
    pub fn tell(&self, what: &str, bytes: u64, total: Option<u64>) {
        let Some(bar) = &self.bar else { return };
        let template = match (bytes, total) {
            (0, None) => "  {spinner} {msg}",
            (_, None) => "  {spinner} {msg}  {decimal_bytes}  {decimal_bytes_per_sec}",
            (_, Some(_)) => "  {spinner} {msg}  {decimal_bytes} of {decimal_total_bytes}  {decimal_bytes_per_sec}  {eta} left",
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.tick_chars("⠋⠙⠹⠸⠼⠴⠦⠧⠇⠏ "));
        }
        bar.set_message(what.to_string());
        if let Some(total) = total {
            bar.set_length(total);
        }
        bar.set_position(bytes);
    }
}

impl Drop for Transfer {
    fn drop(&mut self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}
