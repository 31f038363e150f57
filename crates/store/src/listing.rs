//! The listing of a folder: the text whose digest is the folder's digest.
//!
//! One line an entry, sorted by the bytes of the path: type, digest in hex, size in bytes, path, with
//! single spaces between. Types: `file`, `exec` (a file that may be executed), `link` (digest and size
//! of the text it points to), `dir` (an empty folder; its digest is `-`, its size 0). In a path,
//! backslash, line feed and carriage return are written `\\`, `\n` and `\r`.

use std::borrow::Cow;

use rayon::prelude::*;
use textum_base::ProjectPath;

use super::{Digest, Store, StoreError};

/// What an entry of a folder is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ItemKind {
    /// A regular file.
    File,
    /// A regular file that may be executed.
    Exec,
    /// A symbolic link; its content is the text it points to.
    Link,
    /// A folder with nothing in it.
    EmptyDir,
}

/// One entry of a folder, at any depth.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item<'t> {
    /// What it is.
    pub kind: ItemKind,
    /// Digest of its content; none for an empty folder.
    pub digest: Option<Digest>,
    /// Size of its content in bytes.
    pub size: u64,
    /// Path below the folder, with `/`.
    pub path: Cow<'t, str>,
}

/// So many lines are read by one thread at least.
const FEW_LINES: usize = 2000;

/// A listing that is none.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("line {line} of the folder's listing is not one")]
pub struct ListingError {
    /// Number of the line, from 1.
    pub line: usize,
}

impl ItemKind {
    /// The word in the listing.
    pub fn word(self) -> &'static str {
        match self {
            ItemKind::File => "file",
            ItemKind::Exec => "exec",
            ItemKind::Link => "link",
            ItemKind::EmptyDir => "dir",
        }
    }
}

fn escape(path: &str) -> Cow<'_, str> {
    if path.contains(['\\', '\n', '\r']) {
        Cow::Owned(path.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r"))
    } else {
        Cow::Borrowed(path)
    }
}

fn unescape(path: &str) -> Option<Cow<'_, str>> {
    // This one must be written with a backslash; a line feed ends the line.
    if path.contains('\r') {
        return None;
    }
    if !path.contains('\\') {
        return Some(Cow::Borrowed(path));
    }
    let mut out = String::with_capacity(path.len());
    let mut chars = path.chars();
    while let Some(c) = chars.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        out.push(match chars.next()? {
            '\\' => '\\',
            'n' => '\n',
            'r' => '\r',
            _ => return None,
        });
    }
    Some(Cow::Owned(out))
}

/// Appends an entry's line. Entries must be given in the order of their paths' bytes.
pub fn write_listing_line(out: &mut Vec<u8>, item: &Item<'_>) {
    let mut size = [0; 20];
    let digits = format_number(item.size, &mut size);
    out.extend_from_slice(item.kind.word().as_bytes());
    out.push(b' ');
    match &item.digest {
        Some(digest) => out.extend_from_slice(blake3::Hash::from_bytes(*digest.as_bytes()).to_hex().as_bytes()),
        None => out.push(b'-'),
    }
    out.push(b' ');
    out.extend_from_slice(digits);
    out.push(b' ');
    out.extend_from_slice(escape(&item.path).as_bytes());
    out.push(b'\n');
}

fn format_number(mut number: u64, buffer: &mut [u8; 20]) -> &[u8] {
    let mut at = buffer.len();
    loop {
        at -= 1;
        buffer[at] = b'0' + (number % 10) as u8;
        number /= 10;
        if number == 0 {
            return &buffer[at..];
        }
    }
}

fn parse_line(line: &[u8]) -> Option<Item<'_>> {
    let line = std::str::from_utf8(line).ok()?;
    let mut fields = line.splitn(4, ' ');
    let (word, digest, size, path) = (fields.next()?, fields.next()?, fields.next()?, fields.next()?);
    let kind = match word {
        "file" => ItemKind::File,
        "exec" => ItemKind::Exec,
        "link" => ItemKind::Link,
        "dir" => ItemKind::EmptyDir,
        _ => return None,
    };
    // A listing has one form only, or one folder could have two digests: small letters, and numbers as they are counted.
    let is_lower = digest.bytes().all(|b| !b.is_ascii_uppercase());
    let is_counted = size == "0" || size.starts_with(|c: char| ('1'..='9').contains(&c));
    let digest = if kind == ItemKind::EmptyDir { (digest == "-").then_some(None)? } else { Some(Digest::from_hex(digest)?) };
    let path = unescape(path)?;
    let is_listed = ProjectPath::listed(&path).is_ok();
    (is_lower && is_counted && is_listed).then_some(Item { kind, digest, size: size.parse().ok()?, path })
}

/// The entries of a stored folder's listing; one that is none is damage.
pub fn items_of_listing<'l>(store: &Store, folder: &Digest, listing: &'l [u8]) -> Result<Vec<Item<'l>>, StoreError> {
    parse_listing(listing).map_err(|e| StoreError::Damaged { path: store.folder().to_path_buf(), what: format!("{folder}: {e}") })
}

/// The entries of a listing, in its order; the first line that is none is an error, as is one that is not written
/// as Textum writes it, and a path that leads out of the folder or stands out of order.
pub fn parse_listing(bytes: &[u8]) -> Result<Vec<Item<'_>>, ListingError> {
    if bytes.is_empty() {
        return Ok(Vec::new());
    }
    let body = bytes.strip_suffix(b"\n").ok_or(ListingError { line: 1 })?;
    let lines: Vec<&[u8]> = body.split(|b| *b == b'\n').collect();
    // Every line but the first is held against the one before it.
    let read = |at: usize| parse_line(lines[at]).filter(|item| at == 0 || precedes(lines[at - 1], item));
    let items: Option<Vec<Item<'_>>> = (0..lines.len()).into_par_iter().with_min_len(FEW_LINES).map(read).collect();
    let wrong = match &items {
        Some(items) => beneath_another(items),
        None => (0..lines.len()).find(|&at| read(at).is_none()),
    };
    match (items, wrong) {
        (Some(items), None) => Ok(items),
        (_, wrong) => Err(ListingError { line: wrong.unwrap_or(0) + 1 }),
    }
}

/// Whether the path of the line before comes before that of an entry.
fn precedes(before: &[u8], item: &Item<'_>) -> bool {
    let path = std::str::from_utf8(before).ok().and_then(|line| line.splitn(4, ' ').nth(3)).and_then(unescape);
    path.is_some_and(|path| *path < *item.path)
}

/// The first entry that lies in another one, which is then no folder: content written through a link would
/// land wherever that leads.
fn beneath_another(items: &[Item<'_>]) -> Option<usize> {
    let mut fine = "";
    for (number, item) in items.iter().enumerate() {
        let Some((parent, _)) = item.path.rsplit_once('/') else { continue };
        if parent == fine {
            continue;
        }
        let mut ancestors = item.path.match_indices('/').map(|(at, _)| &item.path[..at]);
        if ancestors.any(|a| items.binary_search_by(|i| (*i.path).cmp(a)).is_ok()) {
            return Some(number);
        }
        fine = parent;
    }
    None
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What is read as a listing is written as it was read, whatever byte of it is another one.
        #[test]
        fn what_is_read_has_one_form(
            names in prop::collection::btree_set("[a-c\\\\\n\r é]{1,4}(/[a-c]{1,2})?", 1..5),
            sizes in prop::collection::vec(0..2000u64, 5),
            at in any::<prop::sample::Index>(),
            with in prop_oneof![any::<u8>(), prop::sample::select(b"0+-A\\nr\r\n /.".to_vec())],
        ) {
            let mut text = Vec::new();
            for (path, size) in names.iter().zip(sizes) {
                let kind = [ItemKind::File, ItemKind::Exec, ItemKind::Link, ItemKind::EmptyDir][size as usize % 4];
                let digest = (kind != ItemKind::EmptyDir).then(|| Digest::of(path.as_bytes()));
                write_listing_line(&mut text, &Item { kind, digest, size, path: path.as_str().into() });
            }
            let is_written_alike = |text: &[u8]| {
                let mut again = Vec::new();
                let Ok(items) = parse_listing(text) else { return None };
                items.iter().for_each(|item| write_listing_line(&mut again, item));
                Some(again == text)
            };
            // A name with a backslash at its end, for example, is a name; one that lies in a file is none.
            let is_fine = |name: &String| {
                ProjectPath::listed(name).is_ok() && !names.iter().any(|other| name.starts_with(&format!("{other}/")))
            };
            prop_assert_eq!(is_written_alike(&text), names.iter().all(is_fine).then_some(true));
            let at = at.index(text.len());
            text[at] = with;
            prop_assert_ne!(is_written_alike(&text), Some(false), "{}", String::from_utf8_lossy(&text));
        }
    }

    #[test]
    fn a_line_has_one_form() {
        let line = format!("file {} 5 d\n", "0a".repeat(32));
        assert_eq!(parse_listing(line.as_bytes()).unwrap().len(), 1);
        for other in [line.to_uppercase().replace("FILE", "file"), line.replace(" 5 ", " 05 "), line.replace(" 5 ", " +5 ")] {
            assert_eq!(parse_listing(other.as_bytes()), Err(ListingError { line: 1 }), "{other}");
        }
    }

    #[test]
    fn awkward_names_survive_a_listing_and_hostile_ones_are_refused() {
        let mut text = Vec::new();
        let names = ["a b", "new\nline", "tail\\n", "ünïcode/ß"];
        for path in names {
            let digest = Some(Digest::of(path.as_bytes()));
            write_listing_line(&mut text, &Item { kind: ItemKind::File, digest, size: 7, path: path.into() });
        }
        let read: Vec<_> = parse_listing(&text).unwrap().into_iter().map(|i| i.path.into_owned()).collect();
        assert_eq!(read, names);
        for path in ["../up", "/root", "a/../../b", "a//b", "."] {
            let line = format!("file {} 1 {path}\n", Digest::of(b"").hex());
            assert!(parse_listing(line.as_bytes()).is_err(), "{path}");
        }
        for child in ["dir - 0 a/b", "dir - 0 a/b/c"] {
            let through = format!("link {} 1 a\ndir - 0 a-\n{child}\n", Digest::of(b"").hex());
            assert_eq!(parse_listing(through.as_bytes()), Err(ListingError { line: 3 }), "{child}");
        }
        let disordered = b"dir - 0 b\ndir - 0 a\n";
        assert_eq!(parse_listing(disordered), Err(ListingError { line: 2 }));
    }
}
