//! The index of a log: what it says of each version, to be looked up without reading all entries. It is derived: one that is
//! missing, behind or damaged is passed over, and made anew from the log.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use rusqlite::{Connection, OpenFlags, OptionalExtension, params};
use serde::de::DeserializeOwned;
use textum_base::Digest;
use textum_base::fsio;

use crate::entry::Action;
use crate::registry::{Model, Registry, Section, Version};

/// What the file says that it is.
const FORM: i64 = 1;

const SCHEMA: &str = "\
CREATE TABLE the_end (number INTEGER NOT NULL, digest BLOB NOT NULL, kept INTEGER NOT NULL);\
CREATE TABLE sections (name TEXT PRIMARY KEY, said TEXT NOT NULL) WITHOUT ROWID;\
CREATE TABLE models (name TEXT PRIMARY KEY, section TEXT NOT NULL) WITHOUT ROWID;\
CREATE TABLE versions (name TEXT NOT NULL, number INTEGER NOT NULL, said TEXT NOT NULL, PRIMARY KEY (name, number));\
CREATE TABLE aliases (name TEXT NOT NULL, alias TEXT NOT NULL, said TEXT NOT NULL, PRIMARY KEY (name, alias)) WITHOUT ROWID;";

/// Where an index has its end: the last entry that it knows of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct End {
    /// Its number.
    pub number: u64,
    /// Its digest.
    pub digest: Digest,
    /// The length of the file of what was read, in bytes, when the index was made.
    pub kept: u64,
}

/// An index.
pub struct Index {
    path: PathBuf,
}

/// What is asked of a version by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which<'w> {
    /// Its number.
    Number(u64),
    /// An alias.
    Alias(&'w str),
}

fn parsed<T: DeserializeOwned>(text: &str) -> rusqlite::Result<T> {
    serde_json::from_str(text).map_err(|e| rusqlite::Error::ToSqlConversionFailure(Box::new(e)))
}

fn text(value: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(|e| rusqlite::Error::ToSqlConversionFailure(Box::new(e)))
}

impl Index {
    /// The index of what is kept in a file.
    pub fn beside(kept: &Path) -> Index {
        Index { path: kept.with_extension("index") }
    }

    fn open(&self, flags: OpenFlags) -> rusqlite::Result<Option<Connection>> {
        if !self.path.exists() && !flags.contains(OpenFlags::SQLITE_OPEN_CREATE) {
            return Ok(None);
        }
        let db = Connection::open_with_flags(&self.path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
        db.busy_timeout(std::time::Duration::from_secs(2))?;
        Ok(Some(db))
    }

    fn end_of(db: &Connection) -> rusqlite::Result<Option<End>> {
        let form: i64 = db.query_row("PRAGMA user_version", [], |r| r.get(0))?;
        if form != FORM {
            return Ok(None);
        }
        db.query_row("SELECT number, digest, kept FROM the_end", [], |r| {
            let number = |at| Ok::<_, rusqlite::Error>(u64::try_from(r.get::<_, i64>(at)?).unwrap_or(0));
            Ok(End { number: number(0)?, digest: Digest::from_bytes(r.get(1)?), kept: number(2)? })
        })
        .optional()
    }

    /// What it says of a version: that one, the one before it, and those that aliases name; with the sections. `fits` is asked
    /// whether its end is that of the log. Nothing where it is of no use, or has no such version.
    pub fn version(&self, name: &str, which: Which<'_>, fits: impl FnOnce(End) -> bool) -> Option<(Registry, u64)> {
        let db = self.open(OpenFlags::SQLITE_OPEN_READ_ONLY).ok()??;
        let end = Index::end_of(&db).ok()??;
        if !fits(end) {
            return None;
        }
        Index::part(&db, name, which).ok()?
    }

    fn part(db: &Connection, name: &str, which: Which<'_>) -> rusqlite::Result<Option<(Registry, u64)>> {
        let mut model = Model::default();
        let section = db.query_row("SELECT section FROM models WHERE name = ?1", [name], |r| r.get(0)).optional()?;
        let Some(section) = section else { return Ok(None) };
        model.section = section;
        let mut aliases = db.prepare("SELECT alias, said FROM aliases WHERE name = ?1")?;
        let mut rows = aliases.query([name])?;
        while let Some(row) = rows.next()? {
            model.aliases.insert(row.get(0)?, parsed(row.get_ref(1)?.as_str()?)?);
        }
        let number = match which {
            Which::Number(number) => Some(number),
            Which::Alias(alias) => model.aliases.get(alias).map(|a| a.version),
        };
        let Some(number) = number else { return Ok(None) };
        let mut wanted: BTreeSet<u64> = model.aliases.values().map(|a| a.version).collect();
        wanted.extend([number.saturating_sub(1), number]);
        let mut find = db.prepare("SELECT said FROM versions WHERE name = ?1 AND number = ?2")?;
        for number in wanted {
            let Ok(at) = i64::try_from(number) else { continue };
            let said = find.query_row(params![name, at], |r| parsed::<Version>(r.get_ref(0)?.as_str()?)).optional()?;
            if let Some(version) = said {
                model.versions.insert(number, version);
            }
        }
        if model.version(number).is_none() {
            return Ok(None);
        }
        let mut registry = Registry::default();
        let mut sections = db.prepare("SELECT name, said FROM sections")?;
        let mut rows = sections.query([])?;
        while let Some(row) = rows.next()? {
            registry.sections.insert(row.get(0)?, parsed::<Section>(row.get_ref(1)?.as_str()?)?);
        }
        registry.models.insert(name.to_string(), model);
        Ok(Some((registry, number)))
    }

    /// Brings it up to what a whole log says. What goes wrong leaves no index: it can be made anew.
    pub fn bring_up(&self, registry: &Registry, kept: u64) {
        if self.write(registry, kept).is_err() {
            let _ = fsio::remove_any(&self.path);
        }
    }

    fn write(&self, registry: &Registry, kept: u64) -> rusqlite::Result<()> {
        let Some(last) = registry.entries.last() else { return Ok(()) };
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE;
        let Some(mut db) = self.open(flags)? else { return Ok(()) };
        // A machine that is lost meanwhile may leave it damaged: then it is of no use, and made anew.
        db.execute_batch("PRAGMA synchronous = OFF; PRAGMA journal_mode = MEMORY")?;
        let tx = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        let known = Index::end_of(&tx).unwrap_or(None).filter(|end| {
            let at = usize::try_from(end.number).ok().and_then(|n| n.checked_sub(1));
            at.and_then(|at| registry.entries.get(at)).is_some_and(|e| e.digest == end.digest)
        });
        if known.is_none() {
            let tables: Vec<String> = {
                let mut all = tx.prepare("SELECT name FROM sqlite_schema WHERE type = 'table'")?;
                all.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?
            };
            tables.iter().try_for_each(|table| tx.execute_batch(&format!("DROP TABLE {table}")))?;
            tx.execute_batch(&format!("{SCHEMA} PRAGMA user_version = {FORM};"))?;
        }
        let from = known.map_or(0, |end| end.number);
        put(&tx, registry, registry.entries.iter().filter(|e| e.entry.number > from).map(|e| &e.entry.action))?;
        tx.execute("DELETE FROM the_end", [])?;
        let (number, kept) = (last.entry.number as i64, i64::try_from(kept).unwrap_or(0));
        tx.execute("INSERT INTO the_end VALUES (?1, ?2, ?3)", params![number, last.digest.as_bytes(), kept])?;
        tx.commit()
    }
}

/// Writes down everything that these actions are about, as the registry says it now.
fn put<'a>(db: &Connection, registry: &Registry, actions: impl Iterator<Item = &'a Action>) -> rusqlite::Result<()> {
    let (mut sections, mut names, mut versions) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
    for action in actions {
        match action {
            Action::Section { section, .. } | Action::Role { section, .. } => drop(sections.insert(section.as_str())),
            Action::Publish(publication) => {
                names.insert(publication.name.as_str());
                versions.insert((publication.name.as_str(), publication.version));
            }
            Action::Alias { name, .. } => drop(names.insert(name.as_str())),
            Action::Approve { name, version, .. }
            | Action::Retire { name, version, .. }
            | Action::Note { name, version, .. }
            | Action::Card { name, version, .. } => drop(versions.insert((name.as_str(), *version))),
        }
    }
    let mut section = db.prepare("INSERT OR REPLACE INTO sections VALUES (?1, ?2)")?;
    for name in sections {
        if let Some(said) = registry.sections.get(name) {
            section.execute(params![name, text(said)?])?;
        }
    }
    let mut model = db.prepare("INSERT OR REPLACE INTO models VALUES (?1, ?2)")?;
    let mut gone = db.prepare("DELETE FROM aliases WHERE name = ?1")?;
    let mut alias = db.prepare("INSERT INTO aliases VALUES (?1, ?2, ?3)")?;
    for name in names {
        let Some(said) = registry.models.get(name) else { continue };
        model.execute(params![name, said.section])?;
        gone.execute([name])?;
        for (word, state) in &said.aliases {
            alias.execute(params![name, word, text(state)?])?;
        }
    }
    let mut version = db.prepare("INSERT OR REPLACE INTO versions VALUES (?1, ?2, ?3)")?;
    for (name, number) in versions {
        if let Some(said) = registry.models.get(name).and_then(|m| m.version(number)) {
            version.execute(params![name, i64::try_from(number).unwrap_or(i64::MAX), text(said)?])?;
        }
    }
    Ok(())
}
