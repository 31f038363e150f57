//! Looking at the project's files: digests of files and folders, through the stat cache, and taking
//! them into the store.

use std::collections::HashMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use rayon::prelude::*;
use textum_base::SourcePath;

use super::cache::{self, Memory, Remembered};
use super::stat::{Stat, now_nanos};
use super::walk::{self, Seen};
use crate::fsio::IoError;
use crate::record::receipt::{Content, ContentKind, Private};
use crate::store::{self, Digest, Item, ItemKind, LARGE, StoreError, Stored, Writer, write_listing_line};

/// Why the project's files could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum ScanError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store did not take it.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A name is not UTF-8.
    #[error("the name {path:?} is not UTF-8, so that it cannot be recorded")]
    NotUtf8 {
        /// The path, as far as it can be shown.
        path: PathBuf,
    },
    /// A link leads out of what is recorded.
    #[error("the link {} points to {}, which is outside: what it points to would not be recorded", link.display(), target.display())]
    LinkLeaves {
        /// The link.
        link: PathBuf,
        /// Where it points to.
        target: PathBuf,
    },
    /// Something that is neither file, folder nor link.
    #[error("{} is neither a file nor a folder (a pipe, socket or device)", path.display())]
    NotAFile {
        /// The path.
        path: PathBuf,
    },
}

impl ScanError {
    /// Whether it is the store that failed, rather than what stands there that cannot be recorded.
    pub fn is_textums_own(&self) -> bool {
        matches!(self, ScanError::Store(_))
    }
}

/// Files of this size and more are waited for until their time stamps can be trusted, so that they are
/// not hashed again at the next look. In bytes.
const WORTH_WAITING: u64 = 8 << 20;

/// Looks at the files below one root, remembering their digests.
pub struct Scanner {
    root: PathBuf,
    cache: Option<PathBuf>,
    /// Paths whose bytes stay where they are: only their listings are recorded.
    references: Vec<SourcePath>,
    single: Mutex<Single>,
    /// What is to be found at some paths, once it is brought there.
    expected: Mutex<HashMap<String, Content>>,
}

#[derive(Default)]
struct Single {
    known: HashMap<String, (ItemKind, Stat, Digest)>,
    changed: bool,
    /// What was found at a path in the last moments: a plan and the run after it ask for the same.
    recent: HashMap<String, (Instant, Content)>,
}

/// For how long a look at a folder that no stage writes stands for another one.
const RECENT: Duration = Duration::from_secs(2);

impl Scanner {
    /// A scanner for what lies below `root`, with its cache in the given folder if there is to be one.
    pub fn open(root: &Path, cache: Option<PathBuf>) -> Scanner {
        let memory = cache.as_ref().map(|c| Memory::load(&c.join("files"))).unwrap_or_default();
        let known = memory.iter().map(|f| (f.path.to_string(), (f.kind, f.stat, f.digest))).collect();
        let single = Mutex::new(Single { known, ..Single::default() });
        Scanner { root: root.to_path_buf(), cache, references: Vec::new(), single, expected: Mutex::default() }
    }

    /// With these references: of what lies in them only digests and listings are recorded, and a link
    /// there may lead anywhere.
    pub fn with_references(mut self, references: Vec<SourcePath>) -> Scanner {
        self.references = references;
        self
    }

    /// Whether a path is a reference, or lies in one.
    pub fn is_reference(&self, path: &str) -> bool {
        self.references.iter().any(|r| crate::config::manifest::is_within(path, r))
    }

    /// The references that it knows.
    pub fn references(&self) -> &[SourcePath] {
        &self.references
    }

    /// The folder below which it looks.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Keeps what was learnt of single files for the next look.
    pub fn save(&self) {
        let Some(cache) = &self.cache else { return };
        let mut single = self.single.lock().unwrap_or_else(PoisonError::into_inner);
        if std::mem::take(&mut single.changed) {
            let known = single.known.iter();
            let mut files: Vec<Remembered<'_>> =
                known.map(|(path, (kind, stat, digest))| Remembered { path, kind: *kind, stat: *stat, digest: *digest }).collect();
            files.sort_unstable_by_key(|f| f.path);
            cache::save(&cache.join("files"), files.into_iter(), None);
        }
    }

    /// From now on these contents are found at their paths, as if they stood there already.
    pub fn expect(&self, contents: Vec<(String, Content)>) {
        self.expected.lock().unwrap_or_else(PoisonError::into_inner).extend(contents);
    }

    /// What is expected at a path.
    pub fn expected(&self, path: &str) -> Option<Content> {
        self.expected.lock().unwrap_or_else(PoisonError::into_inner).get(path).cloned()
    }

    /// What stands at a path now; `None` when nothing does.
    pub fn look(&self, path: &str) -> Result<Option<Content>, ScanError> {
        match self.expected(path) {
            Some(content) => Ok(Some(content)),
            None => self.at(path, None),
        }
    }

    /// What stands at a path now, or stood there a moment ago when this process last looked at it. For
    /// planning only: whether something has changed is for [`Scanner::look`] to say.
    pub fn look_lately(&self, path: &str) -> Result<Option<Content>, ScanError> {
        if let Some(content) = self.expected(path) {
            return Ok(Some(content));
        }
        let recent = self.single.lock().unwrap_or_else(PoisonError::into_inner).recent.get(path).cloned();
        match recent {
            Some((when, content)) if when.elapsed() < RECENT => Ok(Some(content)),
            _ => self.look(path),
        }
    }

    /// Forgets what was found in the last moments: something has changed since.
    pub fn forget_lately(&self) {
        self.single.lock().unwrap_or_else(PoisonError::into_inner).recent.clear();
    }

    /// What stands at a path now, taken into the store.
    pub fn record(&self, path: &str, writer: &Writer<'_>) -> Result<Option<Content>, ScanError> {
        self.at(path, Some(writer))
    }

    fn at(&self, path: &str, writer: Option<&Writer<'_>>) -> Result<Option<Content>, ScanError> {
        let full = self.root.join(path);
        let found = fs::symlink_metadata(&full)
            .and_then(|meta| if meta.is_symlink() { fs::metadata(&full).map(|m| (m, true)) } else { Ok((meta, false)) });
        let (meta, linked) = match found {
            Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => return Ok(None),
            other => other.map_err(IoError::of("look at", &full))?,
        };
        let is_reference = self.is_reference(path);
        if linked && !is_reference {
            self.stays_in_project(&full)?;
        }
        let (writer, outlines) = if is_reference { (None, writer) } else { (writer, None) };
        match walk::kind_of(&meta) {
            Some(ItemKind::EmptyDir) => self.folder(path, &full, writer, outlines).map(Some),
            Some(kind) => {
                let stat = Stat::of(&meta);
                let digest = self.file(path, &full, kind, stat, writer)?;
                let kind = if kind == ItemKind::Exec { ContentKind::Exec } else { ContentKind::File };
                let private = walk::is_private(meta.permissions().mode()).into();
                Ok(Some(Content { kind, private, ..Content::file(digest, stat.size) }))
            }
            None => Err(ScanError::NotAFile { path: full }),
        }
    }

    fn stays_in_project(&self, link: &Path) -> Result<(), ScanError> {
        let target = fs::canonicalize(link).map_err(IoError::of("follow the link", link))?;
        let root = fs::canonicalize(&self.root).map_err(IoError::of("look at", &self.root))?;
        if target.starts_with(root) { Ok(()) } else { Err(ScanError::LinkLeaves { link: link.to_path_buf(), target }) }
    }

    fn file(&self, path: &str, full: &Path, kind: ItemKind, stat: Stat, writer: Option<&Writer<'_>>) -> Result<Digest, ScanError> {
        let known = {
            let single = self.single.lock().unwrap_or_else(PoisonError::into_inner);
            single.known.get(path).filter(|k| k.1 == stat).map(|k| k.2)
        };
        if let Some(digest) = known
            && writer.is_none_or(|w| w.contains(&digest).unwrap_or(false))
        {
            return Ok(digest);
        }
        if stat.size >= WORTH_WAITING {
            std::thread::sleep(stat.until_trusted(now_nanos()));
        }
        let observed = now_nanos();
        let digest = read_file(full, stat.size, writer)?.digest;
        let mut single = self.single.lock().unwrap_or_else(PoisonError::into_inner);
        let unchanged = fs::metadata(full).is_ok_and(|m| Stat::of(&m) == stat);
        if unchanged && !stat.is_racy(observed) {
            single.known.insert(path.to_string(), (kind, stat, digest));
            single.changed = true;
        }
        Ok(digest)
    }

    /// With a writer, all of the folder is taken in; with one for outlines, only its listing is.
    fn folder(
        &self,
        path: &str,
        full: &Path,
        writer: Option<&Writer<'_>>,
        outlines: Option<&Writer<'_>>,
    ) -> Result<Content, ScanError> {
        let cache = self.cache.as_ref().map(|c| c.join(format!("folder-{}", &Digest::of(path.as_bytes()).hex()[..16])));
        let (memory, seen) = rayon::join(|| cache.as_deref().map(Memory::load).unwrap_or_default(), || walk::walk(full));
        let seen = seen?;
        if let Some((digest, files, size)) = unchanged(&seen, &memory)
            && writer.is_none_or(|w| w.contains(&digest).unwrap_or(false))
            && outlines.is_none_or(|w| w.has_outline(&digest).unwrap_or(false))
        {
            let content = Content { private: private_of(&seen), ..Content::folder(digest, size, files) };
            self.remember_recent(path, &content);
            return Ok(content);
        }
        let observed = now_nanos();
        let digests = digests_of(full, &seen, &memory, writer)?;
        let (content, listing) = list(&seen, &digests);
        if let Some(writer) = writer {
            writer.put_bytes(&listing)?;
        }
        if let Some(outlines) = outlines {
            outlines.put_outline(&listing)?;
        }
        if let Some(cache) = cache {
            remember(&cache, &seen, &digests, observed, &content);
        }
        self.remember_recent(path, &content);
        Ok(content)
    }

    fn remember_recent(&self, path: &str, content: &Content) {
        let mut single = self.single.lock().unwrap_or_else(PoisonError::into_inner);
        single.recent.insert(path.to_string(), (Instant::now(), content.clone()));
    }
}

fn read_file(full: &Path, size: u64, writer: Option<&Writer<'_>>) -> Result<Stored, ScanError> {
    let stored = match writer {
        Some(writer) if size < LARGE as u64 => writer.put_small_file(full),
        Some(writer) => writer.put_file(full),
        None => return store::hash_file(full).map(|(digest, size)| Stored { digest, size }).map_err(ScanError::from),
    };
    stored.map_err(|e| match e {
        // It is the file that could not be read, not the store that failed.
        StoreError::Io(e) if e.path == full => ScanError::Io(e),
        other => other.into(),
    })
}

/// The folder's remembered digest, if nothing in it has changed since.
fn unchanged(seen: &[Seen], memory: &Memory) -> Option<(Digest, u64, u64)> {
    let folder = memory.folder?;
    let same = seen.len() == memory.len()
        && seen.iter().zip(memory.iter()).all(|(s, m)| s.stat == m.stat && s.kind == m.kind && s.path == m.path);
    same.then_some(folder)
}

fn known_digests(seen: &[Seen], memory: &Memory) -> Vec<Option<Digest>> {
    let mut remembered = memory.iter().peekable();
    seen.iter()
        .map(|s| {
            while remembered.peek().is_some_and(|m| m.path < s.path.as_str()) {
                remembered.next();
            }
            let same = remembered.peek().filter(|m| m.path == s.path && m.stat == s.stat && m.kind == s.kind);
            same.filter(|m| m.kind != ItemKind::EmptyDir).map(|m| m.digest)
        })
        .collect()
}

fn digests_of(full: &Path, seen: &[Seen], memory: &Memory, writer: Option<&Writer<'_>>) -> Result<Vec<Option<Digest>>, ScanError> {
    let mut digests = known_digests(seen, memory);
    let missing = |digest: &Option<Digest>| match (digest, writer) {
        (None, _) => Ok(true),
        (Some(digest), Some(writer)) => writer.contains(digest).map(|there| !there),
        (Some(_), None) => Ok(false),
    };
    let is_large = |s: &Seen| s.stat.size >= LARGE as u64;
    digests.par_iter_mut().zip(seen).filter(|(_, s)| s.kind == ItemKind::Link || !is_large(s)).try_for_each(
        |(digest, s)| -> Result<(), ScanError> {
            if s.kind != ItemKind::EmptyDir && missing(digest)? {
                *digest = Some(item_digest(&full.join(&s.path), s, writer)?);
            }
            Ok(())
        },
    )?;
    // Large files use all cores each, one after another.
    for (digest, s) in digests.iter_mut().zip(seen).filter(|(_, s)| s.kind != ItemKind::Link && is_large(s)) {
        if missing(digest)? {
            *digest = Some(item_digest(&full.join(&s.path), s, writer)?);
        }
    }
    Ok(digests)
}

fn item_digest(full: &Path, seen: &Seen, writer: Option<&Writer<'_>>) -> Result<Digest, ScanError> {
    if seen.kind != ItemKind::Link {
        return Ok(read_file(full, seen.stat.size, writer)?.digest);
    }
    let target = walk::link_target(full)?;
    match writer {
        Some(writer) => Ok(writer.put_bytes(target.as_bytes())?.digest),
        None => Ok(Digest::of(target.as_bytes())),
    }
}

fn list(seen: &[Seen], digests: &[Option<Digest>]) -> (Content, Vec<u8>) {
    let mut listing = Vec::with_capacity(seen.len() * 110);
    let (mut files, mut bytes) = (0, 0);
    for (s, digest) in seen.iter().zip(digests) {
        let item = Item { kind: s.kind, digest: *digest, size: s.stat.size, path: s.path.as_str().into() };
        write_listing_line(&mut listing, &item);
        files += u64::from(s.kind != ItemKind::EmptyDir);
        bytes += s.stat.size;
    }
    let digest = Digest::of(&listing);
    (Content { private: private_of(seen), ..Content::folder(digest, bytes, files) }, listing)
}

fn private_of(seen: &[Seen]) -> Private {
    let files = seen.iter().filter(|s| s.kind != ItemKind::EmptyDir);
    let private = files.clone().filter(|s| s.private).map(|s| s.path.clone()).collect();
    Private::of_files(private, files.count() as u64)
}

fn remember(cache: &Path, seen: &[Seen], digests: &[Option<Digest>], observed: i64, content: &Content) {
    let trusted = |s: &Seen| s.kind == ItemKind::EmptyDir || !s.stat.is_racy(observed);
    let whole = seen.iter().all(trusted);
    let records = seen.iter().zip(digests).filter(|(s, _)| trusted(s)).map(|(s, digest)| Remembered {
        path: &s.path,
        kind: s.kind,
        stat: s.stat,
        digest: digest.unwrap_or(Digest::from_bytes([0; 32])),
    });
    cache::save(cache, records, whole.then_some((content.digest, content.files.unwrap_or(0), content.size)));
}
