//! Aligned columns without boxes; and the same cells as CSV or Markdown.

use crate::ui::{Style, escape};

/// A cell: its text, and how it is coloured.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    /// The text.
    pub text: String,
    /// How it looks.
    pub look: Look,
}

/// How a cell looks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Look {
    /// As it is.
    #[default]
    Plain,
    /// What matters most.
    Bold,
    /// What matters least.
    Dim,
    /// The accent.
    Accent,
    /// Better.
    Good,
    /// Worse.
    Bad,
}

impl Cell {
    /// A cell with a look.
    pub fn new(text: impl Into<String>, look: Look) -> Cell {
        Cell { text: text.into(), look }
    }
}

impl<T: Into<String>> From<T> for Cell {
    fn from(text: T) -> Cell {
        Cell::new(text, Look::Plain)
    }
}

/// Colours a text.
pub fn painted(text: &str, look: Look, style: &Style) -> String {
    match look {
        Look::Plain => text.to_string(),
        Look::Bold => style.bold(text),
        Look::Dim => style.dim(text),
        Look::Accent => style.accent(text),
        Look::Good => style.good(text),
        Look::Bad => style.bad(text),
    }
}

fn is_number(text: &str) -> bool {
    let text = text.trim_end_matches(['*', ' ']);
    !text.is_empty() && (text.parse::<f64>().is_ok() || text.replace(',', "").parse::<f64>().is_ok())
}

/// Digits after the point, with what follows them.
fn after_point(text: &str) -> usize {
    text.find('.').map_or(0, |at| text.len() - at)
}

/// Pads the numbers of a column so that their points stand under each other.
fn align_numbers(column: &mut [Cell]) {
    let numeric = column.iter().any(|c| is_number(&c.text))
        && column.iter().all(|c| c.text.is_empty() || c.text == "–" || is_number(&c.text));
    if !numeric {
        return;
    }
    let most = column.iter().map(|c| after_point(&c.text)).max().unwrap_or(0);
    for cell in column.iter_mut() {
        let pad = most - after_point(&cell.text);
        cell.text.push_str(&" ".repeat(pad));
    }
    let width = column.iter().map(|c| escape::width(&c.text)).max().unwrap_or(0);
    for cell in column.iter_mut() {
        cell.text = format!("{}{}", " ".repeat(width - escape::width(&cell.text)), cell.text);
    }
}

/// Rows as aligned columns, two spaces apart, each line behind `indent`.
pub fn table(header: &[&str], rows: &[Vec<Cell>], indent: &str, style: &Style) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0).max(header.len());
    let header: Vec<String> = header.iter().map(|name| escape::line(name)).collect();
    let mut rows: Vec<Vec<Cell>> = rows.to_vec();
    for cell in rows.iter_mut().flatten() {
        cell.text = escape::line(&cell.text);
    }
    for column in 0..columns {
        let mut cells: Vec<Cell> = rows.iter().map(|r| r.get(column).cloned().unwrap_or_default()).collect();
        align_numbers(&mut cells);
        for (row, cell) in rows.iter_mut().zip(cells) {
            if let Some(slot) = row.get_mut(column) {
                *slot = cell;
            }
        }
    }
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|r| r.get(column)).map(|c| escape::width(&c.text));
        cells.chain(header.get(column).map(|h| escape::width(h))).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..columns).map(width).collect();
    let mut out = String::new();
    let mut line = |cells: Vec<(String, Look)>| {
        let mut text = indent.to_string();
        let last = cells.iter().rposition(|(t, _)| !t.trim_end().is_empty()).unwrap_or(0);
        for (column, (cell, look)) in cells.iter().enumerate().take(last + 1) {
            let gap = if column == last { 0 } else { widths[column] + 2 - escape::width(cell) };
            let shown = if column == last { cell.trim_end() } else { cell };
            text.push_str(&painted(shown, *look, style));
            text.push_str(&" ".repeat(gap));
        }
        out.push_str(text.trim_end());
        out.push('\n');
    };
    if !header.is_empty() {
        line(header.iter().map(|name| (name.clone(), Look::Dim)).collect());
    }
    for row in rows.iter() {
        line(row.iter().map(|c| (c.text.clone(), c.look)).collect());
    }
    out
}

/// The same as comma-separated values.
pub fn csv(header: &[&str], rows: &[Vec<Cell>]) -> String {
    let mut writer = csv::Writer::from_writer(Vec::new());
    let _ = writer.write_record(header);
    for row in rows {
        let _ = writer.write_record(row.iter().map(|c| c.text.as_str()));
    }
    writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
}

/// The same as a Markdown table.
pub fn markdown(header: &[&str], rows: &[Vec<Cell>]) -> String {
    let line = |cells: Vec<String>| format!("| {} |\n", cells.join(" | "));
    let escape = |text: &str| escape::markdown(text).replace('|', "\\|");
    let mut out = line(header.iter().map(|h| escape(h)).collect());
    out.push_str(&line(header.iter().map(|_| "---".to_string()).collect()));
    for row in rows {
        out.push_str(&line(row.iter().map(|c| escape(&c.text)).collect()));
    }
    out
}
