//! A new dataset into the manifest: its comments and layout are kept.

use std::path::Path;

use toml_edit::{Array, DocumentMut, Item, Table, value};

use super::DataError;
use crate::config::manifest::Manifest;
use crate::fsio::{self, IoError};
use crate::record::receipt::StorageMode;

/// A dataset to be declared.
#[derive(Clone, Debug)]
pub struct Declaration {
    /// Its name.
    pub name: String,
    /// Its path: below the project, or absolute for a reference.
    pub path: String,
    /// What is in it.
    pub about: Option<String>,
    /// The columns that tell its rows apart.
    pub key: Vec<String>,
    /// How it is kept.
    pub hold: StorageMode,
}

/// What was written.
#[derive(Clone, Debug, Default)]
pub struct Added {
    /// The section of the manifest.
    pub section: String,
    /// The line for git to ignore the data, if one was added.
    pub ignored: Option<String>,
    /// Whether git keeps the data itself, in spite of the line.
    pub tracked: bool,
}

fn section(declaration: &Declaration) -> Table {
    let mut table = Table::new();
    table.insert("path", value(&declaration.path));
    if let Some(about) = &declaration.about {
        table.insert("about", value(about));
    }
    if !declaration.key.is_empty() {
        table.insert("key", value(declaration.key.iter().collect::<Array>()));
    }
    if declaration.hold == StorageMode::Reference {
        table.insert("hold", value("reference"));
    }
    table
}

/// Where a section put after these is to stand: behind the last dataset, or else behind `[project]`.
fn place(document: &DocumentMut) -> isize {
    let last = |item: &Item| -> Option<isize> {
        let table = item.as_table()?;
        let below = table.iter().filter_map(|(_, below)| below.as_table()?.position());
        below.chain(table.position()).max()
    };
    let data = document.get("data").and_then(last);
    data.or_else(|| document.get("project").and_then(last)).unwrap_or(0)
}

/// The manifest's text with one more dataset.
fn edited(text: &str, declaration: &Declaration) -> Result<String, DataError> {
    let not_added = |what: String, help: &str| DataError::NotAdded { what, help: help.to_string() };
    let mut document: DocumentMut =
        text.parse().map_err(|e: toml_edit::TomlError| not_added(e.message().to_string(), "correct textum.toml first"))?;
    let after = place(&document);
    let mut table = section(declaration);
    // Sections stand in the order of their positions; those behind make room for this one.
    move_behind(document.as_table_mut(), after);
    table.set_position(Some(after + 1));
    table.decor_mut().set_prefix("\n");
    let data = document.entry("data").or_insert_with(|| {
        let mut parent = Table::new();
        parent.set_implicit(true);
        Item::Table(parent)
    });
    let Some(data) = data.as_table_mut() else {
        return Err(not_added(
            "`data` in textum.toml is no table of sections".into(),
            "write each dataset as a section [data.NAME]",
        ));
    };
    if data.contains_key(&declaration.name) {
        let what = format!("there is a dataset `{}` in textum.toml already", declaration.name);
        return Err(not_added(what, "choose another name with --name, or edit the section by hand"));
    }
    data.insert(&declaration.name, Item::Table(table));
    Ok(document.to_string())
}

fn move_behind(table: &mut Table, after: isize) {
    if let Some(position) = table.position().filter(|p| *p > after) {
        table.set_position(Some(position + 1));
    }
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(below) => move_behind(below, after),
            Item::ArrayOfTables(each) => each.iter_mut().for_each(|below| move_behind(below, after)),
            _ => {}
        }
    }
}

/// Declares a dataset in the project's manifest; the new text is checked before it is written.
pub fn add(root: &Path, manifest: &Manifest, declaration: &Declaration) -> Result<Added, DataError> {
    let text = edited(&manifest.text, declaration)?;
    Manifest::parse(&manifest.path, text.clone())?;
    fsio::write_atomic(&manifest.path, text.as_bytes())?;
    let shown = section(declaration).to_string();
    let mut added = Added { section: format!("[data.{}]\n{shown}", declaration.name), ..Added::default() };
    if !declaration.path.starts_with('/') && crate::project::git::in_git(root) {
        added.tracked = crate::project::git::git_says(root, &["ls-files", "--error-unmatch", "--", &declaration.path]);
        if !crate::project::git::git_says(root, &["check-ignore", "-q", "--", &declaration.path]) {
            added.ignored = Some(ignore(root, &declaration.path)?);
        }
    }
    Ok(added)
}

fn ignore(root: &Path, path: &str) -> Result<String, DataError> {
    let file = root.join(".gitignore");
    let text = match std::fs::read_to_string(&file) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => String::new(),
        other => other.map_err(IoError::of("read", &file))?,
    };
    let escaped: String =
        path.chars().flat_map(|c| matches!(c, '*' | '?' | '[' | '\\').then_some('\\').into_iter().chain([c])).collect();
    let line = format!("/{escaped}");
    let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
    fsio::write_atomic(&file, format!("{text}{gap}{line}\n").as_bytes())?;
    Ok(line)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_section_is_added_behind_the_other_datasets_and_nothing_else_changes() {
        let text = "# ours\n[project]\nname = \"looms\" # kept\n\n[data.a]\npath  = \"a.csv\"   # as it was\n\n[params]\nn = 1\n\n\
                    [stage.x]\nrun = \"true\"\nwrites = [\"o\"]\n";
        let new = Declaration {
            name: "b".into(),
            path: "b.csv".into(),
            about: None,
            key: vec!["id".into()],
            hold: StorageMode::Reference,
        };
        let expected = text.replace("[params]", "[data.b]\npath = \"b.csv\"\nkey = [\"id\"]\nhold = \"reference\"\n\n[params]");
        assert_eq!(edited(text, &new).unwrap(), expected);
        let bare = "[project]\nname = \"looms\"\n\n[stage.x]\nrun = \"true\"\n";
        assert!(edited(bare, &new).unwrap().starts_with("[project]\nname = \"looms\"\n\n[data.b]\npath = \"b.csv\""));
        assert!(edited(&edited(text, &new).unwrap(), &new).is_err(), "not twice");
    }
}
