//! Reads written into a stage of a manifest's text; everything else in it stays as it is, comments and layout too.

use toml_edit::{Array, DocumentMut, Item, TableLike, Value};

/// Adds paths to the `reads` of a stage; `None` where the text has no such stage, or its `reads` are no list.
pub fn add_reads(text: &str, stage: &str, paths: &[String]) -> Option<String> {
    let mut document: DocumentMut = text.parse().ok()?;
    let table = document.get_mut("stage")?.as_table_like_mut()?.get_mut(stage)?.as_table_like_mut()?;
    match table.get_mut("reads") {
        Some(reads) => add_to(reads.as_array_mut()?, paths),
        None => put_first(table, paths),
    }
    Some(document.to_string())
}

/// Adds texts to a list in the layout that it has: a line for each where the last one has a line of its own.
fn add_to(list: &mut Array, paths: &[String]) {
    let last = list.len().checked_sub(1).and_then(|last| list.get(last));
    let before = last.and_then(|v| v.decor().prefix()).and_then(|p| p.as_str()).map(str::to_string);
    for path in paths {
        let mut value = Value::from(path.as_str());
        match &before {
            // What stands before the first of a line of several is no more than its indentation.
            Some(before) if before.contains('\n') => {
                let indentation = before.rsplit('\n').next().unwrap_or_default();
                value.decor_mut().set_prefix(format!("\n{indentation}"));
                list.push_formatted(value);
            }
            _ => list.push(value),
        }
    }
}

fn put_first(table: &mut dyn TableLike, paths: &[String]) {
    let list: Array = paths.iter().map(String::as_str).collect();
    table.insert("reads", Item::Value(Value::Array(list)));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_are_added_in_the_layout_that_is_there() {
        let one = "[stage.fit] # fits\nrun = \"x\" # how\nreads = [\"a\"] # what\nwrites = [\"b\"]\n";
        let added = add_reads(one, "fit", &["lib/units.py".into()]).unwrap();
        assert_eq!(added, one.replace("[\"a\"]", "[\"a\", \"lib/units.py\"]"));
        let lines = "[stage.fit]\nreads = [\n  \"a\", # the first\n  \"b\",\n]\n";
        let added = add_reads(lines, "fit", &["c".into(), "d".into()]).unwrap();
        assert_eq!(added, "[stage.fit]\nreads = [\n  \"a\", # the first\n  \"b\",\n  \"c\",\n  \"d\",\n]\n");
        let none = add_reads("[stage]\nfit = { run = \"x\" }\n", "fit", &["c".into()]).unwrap();
        assert_eq!(none, "[stage]\nfit = { run = \"x\" , reads = [\"c\"] }\n");
        assert_eq!(add_reads(one, "weave", &["c".into()]), None);
        assert_eq!(add_reads("[stage.fit]\nreads = 3\n", "fit", &["c".into()]), None);
    }
}
