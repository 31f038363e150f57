//! The log: numbered objects, each naming the digest of the one before, made only if there is none of their number.
//!
//! What was read of it is kept, so that only what is new is asked for, and so that a log that was rewritten or cut is told by
//! everybody who had seen more of it.

use std::path::PathBuf;
use std::sync::Arc;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use textum_base::fsio::{self, IoError};
use textum_base::{Digest, Identity};
use textum_depot::{Storage, StorageError};

use crate::entry::{Action, Entry};
use crate::envelope::{self, Signed};
use crate::index::{End, Index, Which};
use crate::key::{KeyError, Signer};
use crate::registry::Registry;

/// The folder of entries.
pub const FOLDER: &str = "registry";
/// So often it is tried anew when others were first.
const TRIES: usize = 10_000;

/// An entry as it lies in the log.
#[derive(Clone, Debug, PartialEq)]
pub struct Sealed {
    /// The digest of its envelope.
    pub digest: Digest,
    /// The entry.
    pub entry: Entry,
    /// By whom it is signed.
    pub signed: Signed,
}

/// Something in the log that is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The entry's number.
    pub number: u64,
    /// What is wrong.
    pub what: String,
}

/// The log as it was read: the entries up to the first that does not follow what stands before it.
#[derive(Clone, Debug, Default)]
pub struct Chain {
    /// The entries: number N stands at N - 1.
    pub entries: Vec<Sealed>,
    /// What is wrong with it.
    pub damage: Vec<Damage>,
}

impl Chain {
    /// What it says.
    pub fn registry(self) -> Registry {
        let mut registry = Registry::default();
        self.entries.into_iter().for_each(|e| registry.add(e.digest, e.entry, e.signed));
        registry
    }
}

/// Why the log could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum LogError {
    /// The storage.
    #[error(transparent)]
    Storage(#[from] StorageError),
    /// The disk of this machine.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// It is not as it must be.
    #[error("the registry at {at} is not whole: entry {number} {what}")]
    Damaged {
        /// Where it lies.
        at: String,
        /// The entry.
        number: u64,
        /// What is wrong with it.
        what: String,
    },
    /// The entry would have no effect.
    #[error("{0}")]
    NoEffect(String),
    /// Others were first again and again.
    #[error("the registry at {0} could not be written: others were first {TRIES} times")]
    Crowded(String),
}

/// An entry that was made, or why none had to be.
#[derive(Clone, Debug, PartialEq)]
pub enum Appended {
    /// This is the entry.
    Made(Box<Entry>),
    /// All is so already.
    Nothing,
}

/// What is kept of an entry that was read.
#[derive(Serialize, Deserialize)]
struct Kept {
    digest: Digest,
    signed: Signed,
    entry: Entry,
}

/// A log.
pub struct Log {
    storage: Arc<dyn Storage>,
    /// Where what was read of it is kept.
    kept: Option<PathBuf>,
    at: String,
}

/// Where an entry lies.
pub fn path_of(number: u64) -> String {
    format!("{FOLDER}/{number:010}.json")
}

fn number_of(path: &str) -> Option<u64> {
    let digits = path.strip_prefix(FOLDER)?.strip_prefix('/')?.strip_suffix(".json")?;
    digits.parse().ok().filter(|number| path_of(*number) == path)
}

impl Log {
    /// The log on a storage. `kept` is a file of this machine for what was read of it; `at` says where it lies.
    pub fn new(storage: Arc<dyn Storage>, kept: Option<PathBuf>, at: &str) -> Log {
        Log { storage, kept, at: at.to_string() }
    }

    /// Where it lies.
    pub fn at(&self) -> &str {
        &self.at
    }

    /// What was read before, and whether that is all that the file holds.
    fn kept(&self) -> (Vec<Sealed>, bool) {
        let Some(text) = self.kept.as_deref().and_then(|path| std::fs::read(path).ok()) else { return (Vec::new(), false) };
        let lines: Vec<&[u8]> = text.split(|b| *b == b'\n').collect();
        // Every whole line ends in a line feed, so that the last part is empty.
        let Some((rest, lines)) = lines.split_last() else { return (Vec::new(), false) };
        let read: Vec<Option<Kept>> = lines.par_iter().map(|line| serde_json::from_slice(line).ok()).collect();
        let mut found: Vec<Sealed> = Vec::with_capacity(read.len());
        for kept in read.into_iter().map_while(|kept| kept) {
            let sealed = Sealed { digest: kept.digest, entry: kept.entry, signed: kept.signed };
            if follows(found.last(), &sealed).is_err() {
                break;
            }
            found.push(sealed);
        }
        let whole = rest.is_empty() && found.len() == lines.len();
        (found, whole)
    }

    /// Keeps what was read: behind what is kept already, or in its place. It can be read again, but for that a log that is cut
    /// later would not be told.
    fn keep(&self, entries: &[Sealed], behind: bool) {
        let Some(path) = &self.kept else { return };
        let Some(folder) = path.parent() else { return };
        let mut text = Vec::new();
        for sealed in entries {
            let kept = Kept { digest: sealed.digest, signed: sealed.signed.clone(), entry: sealed.entry.clone() };
            text.extend(serde_json::to_vec(&kept).unwrap_or_default());
            text.push(b'\n');
        }
        if fsio::create_folder(folder).is_err() {
            return;
        }
        match behind {
            false => drop(fsio::write_derived(path, &text)),
            true => drop(fsio::append(path).map(|mut file| std::io::Write::write_all(&mut file, &text))),
        }
    }

    fn object(&self, number: u64) -> Result<Option<Vec<u8>>, StorageError> {
        match self.storage.read(&path_of(number)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.is_not_found() => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// The number of the last object, whatever is in it.
    fn last(&self) -> Result<u64, StorageError> {
        Ok(self.storage.list(FOLDER)?.iter().filter_map(|o| number_of(&o.path)).max().unwrap_or(0))
    }

    /// Objects from one number to another, read side by side.
    fn objects(&self, from: u64, to: u64) -> Result<Vec<Option<Vec<u8>>>, StorageError> {
        (from..=to).into_par_iter().map(|number| self.object(number)).collect()
    }

    /// The log: what was read of it before, and what is new. What it says of itself is checked as far as it is new.
    pub fn read(&self) -> Result<Chain, LogError> {
        let (mut entries, whole) = self.kept();
        let known = entries.len();
        if let Some(end) = entries.last() {
            let number = known as u64;
            let wrong = match self.object(number)? {
                Some(bytes) if Digest::of(&bytes) == end.digest => None,
                Some(_) => Some(rewritten()),
                None => Some(cut(self.last()?, number)),
            };
            if let Some(what) = wrong {
                return Ok(Chain { entries, damage: vec![Damage { number, what }] });
            }
        }
        let first = known as u64 + 1;
        let mut damage = Vec::new();
        if let Some(bytes) = self.object(first)? {
            let last = self.last()?.max(first);
            let mut found = vec![Some(bytes)];
            found.extend(self.objects(first + 1, last)?);
            damage = take_in(&mut entries, found);
        }
        if entries.len() > known {
            self.keep(&entries[if whole { known } else { 0 }..], whole && known > 0);
        }
        Ok(Chain { entries, damage })
    }

    /// The log, read and checked from its beginning, and held against what was read of it before.
    pub fn check(&self) -> Result<Chain, LogError> {
        let (kept, _) = self.kept();
        let last = self.last()?;
        let mut entries = Vec::new();
        let found = self.objects(1, last)?;
        let digests: Vec<Option<Digest>> = found.iter().map(|bytes| bytes.as_deref().map(Digest::of)).collect();
        let mut damage = take_in(&mut entries, found);
        for (at, known) in kept.iter().enumerate() {
            let number = at as u64 + 1;
            match digests.get(at) {
                Some(Some(digest)) if *digest == known.digest => {}
                Some(Some(_)) => damage.push(Damage { number, what: rewritten() }),
                Some(None) => {}
                None => {
                    damage.push(Damage { number, what: cut(last, kept.len() as u64) });
                    break;
                }
            }
        }
        damage.sort_by_key(|d| d.number);
        if damage.is_empty() {
            self.keep(&entries, false);
        }
        Ok(Chain { entries, damage })
    }

    /// The index of what was read, and the length of the file of that.
    fn index(&self) -> Option<(Index, u64)> {
        let kept = self.kept.as_deref()?;
        Some((Index::beside(kept), std::fs::metadata(kept).ok()?.len()))
    }

    /// What the log says of one version, with what stands beside it: looked up, where the log ends as it did when it was read
    /// last. Nothing where all of it has to be read.
    pub fn glance(&self, name: &str, which: Which<'_>) -> Option<(Registry, u64)> {
        let (index, kept) = self.index()?;
        let is_the_end = |end: End| {
            let stands = || self.object(end.number).ok().flatten().is_some_and(|bytes| Digest::of(&bytes) == end.digest);
            end.kept == kept && stands() && self.object(end.number + 1).is_ok_and(|next| next.is_none())
        };
        index.version(name, which, is_the_end)
    }

    /// Remembers what a whole log says, for the next glance.
    pub fn remember(&self, registry: &Registry) {
        if let Some((index, kept)) = self.index() {
            index.bring_up(registry, kept);
        }
    }

    /// The log, which must be whole.
    pub fn whole(&self) -> Result<Registry, LogError> {
        let chain = self.read()?;
        match chain.damage.first() {
            Some(Damage { number, what }) => Err(LogError::Damaged { at: self.at.clone(), number: *number, what: what.clone() }),
            None => Ok(chain.registry()),
        }
    }

    /// Appends what is decided on with everything before it in view; none: nothing has to be done. Who comes first of several
    /// has the number, and the others decide anew: nobody waits for a lock.
    pub fn append<E: From<LogError>>(
        &self,
        signer: Option<&Signer>,
        by: &Identity,
        mut decide: impl FnMut(&Registry) -> Result<Option<Action>, E>,
    ) -> Result<(Registry, Appended), E> {
        for _ in 0..TRIES {
            let mut registry = self.whole()?;
            let Some(action) = decide(&registry)? else { return Ok((registry, Appended::Nothing)) };
            let entry = registry.next(by, action);
            entry.check().map_err(LogError::NoEffect)?;
            let signed = Signed::of(signer);
            registry.may(&entry, &signed).map_err(LogError::NoEffect)?;
            let bytes = envelope::seal(&entry, signer).map_err(LogError::from)?;
            if bytes.len() > envelope::LARGEST {
                let what = format!("the entry would have {} bytes; it may have {}", bytes.len(), envelope::LARGEST);
                return Err(LogError::NoEffect(what).into());
            }
            let path = path_of(entry.number);
            let made = self.storage.put_new(&path, &bytes).map_err(LogError::from)?;
            // An answer that was lost is asked for again, and then it is our own that stands there.
            if made || self.object(entry.number).map_err(LogError::from)?.as_deref() == Some(&bytes) {
                let sealed = Sealed { digest: Digest::of(&bytes), entry: entry.clone(), signed };
                // Who has written it has seen it: a log that is cut behind this machine's back is told. What was before it has
                // been kept as it was read; where that failed, this line follows nothing, and all is read anew.
                self.keep(std::slice::from_ref(&sealed), true);
                registry.add(sealed.digest, sealed.entry, sealed.signed);
                self.remember(&registry);
                return Ok((registry, Appended::Made(Box::new(entry))));
            }
        }
        Err(LogError::Crowded(self.at.clone()).into())
    }
}

fn rewritten() -> String {
    "was rewritten: this machine had read another one of that number".to_string()
}

fn cut(last: u64, seen: u64) -> String {
    format!("is gone: the log was cut; it ends at {last}, and this machine had read it up to {seen}")
}

/// Whether an entry follows another.
fn follows(before: Option<&Sealed>, next: &Sealed) -> Result<(), String> {
    let number = before.map_or(0, |b| b.entry.number) + 1;
    if next.entry.number != number {
        return Err(format!("says to be entry {}", next.entry.number));
    }
    if next.entry.previous != before.map(|b| b.digest) {
        return Err("does not follow the entry before it: one of the two was changed, or it belongs elsewhere".to_string());
    }
    Ok(())
}

/// Adds objects to a chain, up to the first that does not belong there. Signatures are judged side by side.
fn take_in(entries: &mut Vec<Sealed>, found: Vec<Option<Vec<u8>>>) -> Vec<Damage> {
    let opened: Vec<Result<Sealed, String>> = found
        .into_par_iter()
        .map(|bytes| {
            let bytes = bytes.ok_or("is missing")?;
            let (entry, signed) = envelope::open(&bytes).map_err(|what| format!("cannot be read: {what}"))?;
            Ok(Sealed { digest: Digest::of(&bytes), entry, signed })
        })
        .collect();
    for sealed in opened {
        let number = entries.len() as u64 + 1;
        match sealed.and_then(|sealed| follows(entries.last(), &sealed).map(|()| sealed)) {
            Ok(sealed) => entries.push(sealed),
            Err(what) => return vec![Damage { number, what }],
        }
    }
    Vec::new()
}
