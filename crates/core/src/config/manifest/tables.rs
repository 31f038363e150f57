//! `table = { … }` of a dataset: how a table is written, where that cannot be told from its name and first lines.

use super::Diagnostic;
use super::check::Checker;
use super::document::Step;
use super::form::TableForm;
use crate::table::{Delimiter, Dialect, Quote, TableFormat, encoding_of};

/// A mark or delimiter of one byte, as it is written.
fn byte(text: &str) -> Option<u8> {
    match text {
        "\\t" | "tab" => Some(b'\t'),
        _ => text.as_bytes().first().copied().filter(|b| text.len() == 1 && b.is_ascii() && !matches!(b, b'\n' | b'\r')),
    }
}

impl Checker<'_, '_> {
    /// How the table of a dataset is written; what cannot be meant is a mistake.
    pub(super) fn dialect(&mut self, name: &str, form: &TableForm) -> Dialect {
        let mut found = Dialect { header: form.header, null: form.null.clone(), ..Dialect::default() };
        let mut wrong = |key, title: String, help: &str| {
            let steps = [Step::Key("data"), Step::Key(name), Step::Key("table"), Step::Key(key)];
            let span = self.document.place(&steps);
            self.mistakes.push(Diagnostic::new(span, title, "here", help));
        };
        if let Some(text) = &form.delimiter {
            found.delimiter = match text.as_str() {
                "blanks" => Some(Delimiter::Blanks),
                other => byte(other).map(Delimiter::Byte),
            };
            if found.delimiter.is_none() {
                wrong(
                    "delimiter",
                    format!("`{text}` cannot part the fields of a line"),
                    "write one character, \"tab\", or \"blanks\"",
                );
            }
        }
        if let Some(text) = &form.quote {
            found.quote = match text.as_str() {
                "none" => Some(Quote::Nothing),
                other => byte(other).map(Quote::Byte),
            };
            if found.quote.is_none() {
                wrong("quote", format!("`{text}` cannot be the mark around fields"), "write one character, or \"none\"");
            }
        }
        if let Some(text) = &form.encoding {
            found.encoding = encoding_of(text);
            if found.encoding.is_none() {
                wrong(
                    "encoding",
                    format!("there is no encoding `{text}`"),
                    "write for example \"utf-8\", \"utf-16\" or \"latin-1\"",
                );
            }
        }
        if let Some(text) = &form.format {
            found.format = match text.as_str() {
                "csv" => Some(TableFormat::Csv),
                "tsv" => Some(TableFormat::Tsv),
                "jsonl" => Some(TableFormat::JsonLines),
                "json" => Some(TableFormat::JsonArray),
                "parquet" => Some(TableFormat::Parquet),
                "arrow" => Some(TableFormat::Arrow),
                _ => None,
            };
            if found.format.is_none() {
                let help = "write \"csv\", \"tsv\", \"jsonl\", \"json\", \"parquet\" or \"arrow\"";
                wrong("format", format!("`{text}` is no format of tables"), help);
            }
        }
        found
    }
}
