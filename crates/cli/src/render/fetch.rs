//! What was fetched, what repeating the proof found, and what it takes to use it.

use std::path::Path;

use serde_json::{Value, json};
use textum_core::publish::{Checked, Fetched, SchemaFault};
use textum_core::registry::{CARD_NAME, Version};

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::{Style, escape};

/// So many rows that are predicted otherwise are shown.
const ROWS: usize = 10;

/// What a fetch found.
pub struct Shown<'a> {
    /// What came.
    pub fetched: &'a Fetched,
    /// Where to.
    pub folder: &'a Path,
    /// What repeating the proof found, if it was repeated.
    pub checked: Option<&'a Checked>,
    /// Faults of a table, how many there are, and its rows.
    pub rows: Option<&'a (Vec<SchemaFault>, u64, u64)>,
}

fn proof_text(checked: &Checked, style: &Style) -> String {
    let rows = text::counted(checked.rows, "row");
    let took = format!("{}, {} when it was published", text::seconds(checked.seconds), text::seconds(checked.recorded_seconds));
    let mut out = match checked.differences.len() {
        0 => format!("{}: {rows}, {took}\n", style.good("predictions as before")),
        n => {
            let cells: Vec<Vec<Cell>> = checked
                .differences
                .iter()
                .take(ROWS)
                .map(|d| {
                    vec![
                        Cell::from(d.row.map_or("all rows".to_string(), |row| format!("row {row}"))),
                        Cell::from(d.column.clone()),
                        Cell::from(d.was.clone()),
                        Cell::new("→", Look::Dim),
                        Cell::new(d.is.clone(), Look::Bad),
                    ]
                })
                .collect();
            let more = if n > ROWS { format!("  and {} more\n", n - ROWS) } else { String::new() };
            let found = text::counted(n as u64, "answer");
            let head = format!("{}: {found} to {rows}\n", style.bad("not as before"));
            format!("{head}{}{more}", table(&[], &cells, "  ", style))
        }
    };
    for (name, recorded, here) in &checked.packages {
        let here = here.clone().unwrap_or_else(|| "not installed".to_string());
        out.push_str(&escape::line(&format!("  {name} is {here} here, and was {recorded}")));
        out.push('\n');
    }
    out
}

fn rows_text(found: &(Vec<SchemaFault>, u64, u64), style: &Style) -> String {
    let (faults, count, rows) = found;
    if *count == 0 {
        return format!("{}: {}, as the model takes them in\n", style.good("rows fit"), text::counted(*rows, "row"));
    }
    let cells: Vec<Vec<Cell>> = faults
        .iter()
        .map(|f| {
            let line = f.line.map_or("columns".to_string(), |line| format!("line {line}"));
            vec![Cell::from(line), Cell::from(f.column.clone()), Cell::new(f.what.clone(), Look::Bad)]
        })
        .collect();
    let more = count.saturating_sub(faults.len() as u64);
    let more = if more > 0 { format!("  and {} more\n", text::count(more)) } else { String::new() };
    format!(
        "{}: {} in {}\n{}{more}",
        style.bad("rows do not fit"),
        text::counted(*count, "fault"),
        text::counted(*rows, "row"),
        table(&[], &cells, "  ", style)
    )
}

/// For people.
pub fn text(shown: &Shown<'_>, style: &Style) -> String {
    let Fetched { card, written, same } = shown.fetched;
    let folder = text::near(shown.folder);
    let files = match (*written, *same) {
        (0, same) => format!("{} stood there already", text::counted(same, "file")),
        (written, 0) => text::counted(written, "file"),
        (written, same) => format!("{}, {same} stood there already", text::counted(written, "file")),
    };
    let mut out =
        format!("{} in {}: {files}, {}\n", style.bold(&card.reference), escape::line(&folder), text::bytes(card.bundle.size()));
    let key = card.key.as_ref().map_or("not signed".to_string(), |key| format!("key {}", key.short()));
    let when = text::ago(&card.published, textum_base::clock::now());
    let published = format!("  published {when} by {}, {key}; digests hold; {CARD_NAME} says what it is", escape::line(&card.by));
    out.push_str(&format!("{}\n", style.dim(&published)));
    if let Some(checked) = shown.checked {
        out.push_str(&proof_text(checked, style));
    }
    if let Some(rows) = shown.rows {
        out.push_str(&rows_text(rows, style));
    }
    out
}

/// The same as JSON.
pub fn json(shown: &Shown<'_>) -> Value {
    let card = &shown.fetched.card;
    let check = shown.checked.map(|c| {
        let packages: Vec<Value> =
            c.packages.iter().map(|(n, recorded, here)| json!({"name": n, "recorded": recorded, "here": here})).collect();
        json!({
            "as_before": c.differences.is_empty(), "rows": c.rows, "differences": c.differences, "packages": packages,
            "seconds": c.seconds, "recorded_seconds": c.recorded_seconds,
        })
    });
    let rows = shown.rows.map(|(faults, count, rows)| json!({"fit": *count == 0, "rows": rows, "faults": count, "first": faults}));
    json!({
        "name": card.name, "version": card.version, "reference": card.reference, "folder": shown.folder,
        "content": card.content, "written": shown.fetched.written, "same": shown.fetched.same, "check": check, "rows": rows,
    })
}

/// A word for the shell.
fn word(text: &str) -> String {
    textum_core::config::manifest::shell_word(text)
}

/// A text as Python writes it: as JSON does.
fn python_text(text: &str) -> String {
    Value::from(text).to_string()
}

/// What it takes to use a version, to be copied.
pub fn snippet(version: &Version, reference: &str, url: Option<&str>, language: &str) -> String {
    let bundle = &version.publication.bundle;
    let name = &version.publication.name;
    let depot = url.map_or(String::new(), |url| format!(" --depot {}", word(url)));
    let fetch = format!("textum fetch {}{depot} -o model", word(reference));
    let predict = bundle.predict.as_deref();
    let check = if bundle.proof.is_some() { " --check" } else { "" };
    match language {
        "python" => {
            let call = predict.map_or(String::new(), |predict| {
                let rows = "rows = open(\"rows.csv\", \"rb\").read()  # the columns that `textum registry show` lists\n";
                let run = format!(
                    "answers = subprocess.run({}, shell=True, cwd=folder, input=rows, stdout=subprocess.PIPE, check=True).stdout\n",
                    python_text(predict)
                );
                format!("{rows}{run}print(card[\"reference\"], answers.decode())\n")
            });
            let options: String = url.map_or(String::new(), |url| format!(", \"--depot\", {}", python_text(url)));
            format!(
                "import json, pathlib, subprocess\n\nfolder = pathlib.Path(\"model\")\nsubprocess.run([\"textum\", \"fetch\", {}{options}, \"-o\", str(folder)], check=True)\ncard = json.loads((folder / \"{CARD_NAME}\").read_text())\n{call}",
                python_text(reference)
            )
        }
        "ci" => format!("# {name}: fetched, and held against how it predicted when it was published\nset -eu\n{fetch}{check}\n"),
        _ => {
            let call = predict.map_or(String::new(), |predict| format!("(cd model && {predict}) < rows.csv > predictions.csv\n"));
            format!("{fetch}{check}\n{call}")
        }
    }
}
