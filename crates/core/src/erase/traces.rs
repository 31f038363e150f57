//! Where else rows stand that are to be forgotten, though no receipt says so: a copy under another name, a file that somebody
//! has made by hand. They are looked for by their bytes as they stood in the dataset's files.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::io::Read;
use std::path::Path;

use aho_corasick::{AhoCorasick, AhoCorasickKind};
use rayon::prelude::*;

use super::EraseError;
use crate::fsio;
use crate::project::fingerprint::walk;
use crate::project::workspace::Project;
use crate::record::receipt::{LeftKind, LeftOver, type_of};
use crate::store::{Digest, ItemKind, Kind, Store};

/// So many rows are looked for.
const MOST: usize = 5_000;
/// So many bytes of a file are read at once.
const BLOCK: usize = 1 << 20;

/// Finds rows by their bytes.
pub struct Rows {
    all: Option<AhoCorasick>,
    longest: usize,
}

impl Rows {
    /// A search for these rows; for the first of them, where they are very many.
    pub fn new(rows: &HashSet<Vec<u8>>) -> Rows {
        let some: BTreeSet<&Vec<u8>> = rows.iter().collect();
        let some: Vec<&Vec<u8>> = some.into_iter().take(MOST).collect();
        let longest = some.iter().map(|r| r.len()).max().unwrap_or(0);
        // Without one that can be built nothing is looked for; it is only told what was found.
        let all = AhoCorasick::builder().kind(Some(AhoCorasickKind::ContiguousNFA)).build(&some).ok();
        Rows { all: all.filter(|_| !some.is_empty()), longest }
    }

    /// Whether any of them is in these bytes.
    pub fn are_in(&self, bytes: &[u8]) -> bool {
        self.all.as_ref().is_some_and(|all| all.is_match(bytes))
    }

    /// Whether any of them is in a file. One that cannot be read has none.
    pub fn are_in_file(&self, path: &Path) -> bool {
        let (Some(_), Ok(mut file)) = (&self.all, fsio::open_plain(path)) else { return false };
        let mut bytes = Vec::with_capacity(BLOCK + self.longest);
        loop {
            let before = bytes.len();
            let read = (&mut file).take(BLOCK as u64).read_to_end(&mut bytes).unwrap_or(0);
            if self.are_in(&bytes) {
                return true;
            }
            if read == 0 || bytes.len() == before {
                return false;
            }
            // What comes next may complete a row.
            bytes.drain(..bytes.len().saturating_sub(self.longest));
        }
    }
}

/// Contents of the store that stay, in which some of the rows stand.
pub fn in_store(project: &Project, rows: &Rows, going: &HashSet<Digest>) -> Result<Vec<LeftOver>, EraseError> {
    if rows.all.is_none() {
        return Ok(Vec::new());
    }
    let store = &project.store;
    let entries = store.all_entries()?;
    let stays = |(digest, kind, _): &&(Digest, Kind, u64)| *kind == Kind::Document || !going.contains(digest);
    let holds = |digest: &Digest| store.read(digest).is_ok_and(|bytes| rows.are_in(&bytes));
    let hits: HashMap<Digest, Kind> = entries
        .par_iter()
        .filter(stays)
        .filter(|(digest, kind, _)| matches!(kind, Kind::Chunk | Kind::Document) && holds(digest))
        .map(|(digest, kind, _)| (*digest, *kind))
        .collect();
    if hits.is_empty() {
        return Ok(Vec::new());
    }
    let lists = entries.iter().filter(stays).filter(|(_, kind, _)| *kind == Kind::Parts).map(|(digest, ..)| *digest);
    let large =
        lists.filter(|list| store.pieces_of(list).ok().flatten().is_some_and(|p| p.iter().any(|p| hits.contains_key(&p.digest))));
    let contents: BTreeSet<Digest> = large.chain(hits.keys().copied()).collect();
    let mut found = BTreeSet::new();
    for digest in contents {
        if let Some(what) = called(project, store, &digest)? {
            found.insert(LeftOver { kind: LeftKind::SameRows, what, digest: Some(digest) });
        }
    }
    Ok(found.into_iter().collect())
}

/// What a content is to a person; nothing for a mere piece of another.
fn called(project: &Project, store: &Store, digest: &Digest) -> Result<Option<String>, EraseError> {
    let ledger = &project.ledger;
    let versions = ledger.versions_with(&HashSet::from([*digest]))?;
    if let Some((name, number)) = versions.first() {
        return Ok(Some(format!("{name}@{number}")));
    }
    if let Some(place) = ledger.places_of(digest)?.first() {
        let run = ledger.execution(&place.receipt)?.map_or(String::new(), |e| format!(" of {}", e.run));
        return Ok(Some(format!("{}{run}", place.path)));
    }
    if store.contains_document(digest)? {
        let kind = store.read(digest).ok().and_then(|bytes| type_of(&bytes)).unwrap_or_default();
        return Ok(Some(format!("the document {} ({kind})", digest.short())));
    }
    // A file of a folder, a log, a list: by its digest.
    Ok(store.pieces_of(digest)?.map(|_| format!("a content {}", digest.short())))
}

/// Files of the working tree in which some of the rows stand; `known` are paths that are dealt with.
pub fn in_tree(project: &Project, rows: &Rows, known: &dyn Fn(&str) -> bool) -> Vec<LeftOver> {
    if rows.all.is_none() {
        return Vec::new();
    }
    let root = project.workspace.root();
    let is_own = |path: &str| path.split('/').next().is_some_and(|first| first == ".textum" || first == ".git");
    // A folder that cannot be gone through hides what is in it: the rest is looked at.
    let mut files = Vec::new();
    for entry in std::fs::read_dir(root).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        match entry.file_type() {
            Ok(kind) if kind.is_dir() && !is_own(&name) => {
                let seen = walk(&entry.path()).unwrap_or_default();
                let plain = seen.iter().filter(|s| matches!(s.kind, ItemKind::File | ItemKind::Exec));
                files.extend(plain.map(|s| format!("{name}/{}", s.path)));
            }
            Ok(kind) if kind.is_file() => files.push(name),
            _ => {}
        }
    }
    files.retain(|path| !known(path));
    let holding = files.into_par_iter().filter(|path| rows.are_in_file(&root.join(path)));
    let mut found: Vec<LeftOver> = holding.map(|what| LeftOver { kind: LeftKind::File, what, digest: None }).collect();
    found.sort();
    found
}
