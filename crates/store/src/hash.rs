//! The digest of a file without storing it: on all cores, in bounded memory.
//!
//! BLAKE3 is a tree, so spans of a large file are hashed apart and joined (the BLAKE3 paper, section
//! 2.1; `blake3::hazmat`). Each thread reads a little at a time, so that bytes are hashed while they
//! are still in the processor's cache.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use blake3::hazmat::{ChainingValue, HasherExt, Mode, left_subtree_len, merge_subtrees_non_root, merge_subtrees_root};

use super::Digest;
use textum_base::fsio::IoError;

/// A span hashed by one thread in one go. A power of two, as the tree demands. In bytes.
const SPAN: u64 = 4 << 20;
/// How much is read at a time. In bytes.
const PIECE: usize = 128 << 10;

/// The digest of a file's bytes and their number.
pub fn hash_file(path: &Path) -> Result<(Digest, u64), IoError> {
    let file = File::open(path).map_err(IoError::of("open", path))?;
    let length = file.metadata().map_err(IoError::of("look at", path))?.len();
    hash_open(&file, length).map_err(IoError::of("read", path)).map(|digest| (digest, length))
}

fn hash_open(file: &File, length: u64) -> std::io::Result<Digest> {
    if length <= SPAN {
        return Ok(feed(file, blake3::Hasher::new(), 0, length)?.finalize().into());
    }
    let left = left_subtree_len(length);
    let (a, b) = rayon::join(|| subtree(file, 0, left), || subtree(file, left, length - left));
    Ok(merge_subtrees_root(&a?, &b?, Mode::Hash).into())
}

fn subtree(file: &File, offset: u64, length: u64) -> std::io::Result<ChainingValue> {
    if length <= SPAN {
        let mut hasher = blake3::Hasher::new();
        hasher.set_input_offset(offset);
        return Ok(feed(file, hasher, offset, length)?.finalize_non_root());
    }
    let left = left_subtree_len(length);
    let (a, b) = rayon::join(|| subtree(file, offset, left), || subtree(file, offset + left, length - left));
    Ok(merge_subtrees_non_root(&a?, &b?, Mode::Hash))
}

fn feed(file: &File, mut hasher: blake3::Hasher, offset: u64, length: u64) -> std::io::Result<blake3::Hasher> {
    thread_local! {
        static BUFFER: std::cell::RefCell<Vec<u8>> = const { std::cell::RefCell::new(Vec::new()) };
    }
    BUFFER.with_borrow_mut(|buffer| {
        let most = PIECE.min(usize::try_from(length).unwrap_or(PIECE));
        if buffer.len() < most {
            buffer.resize(most, 0);
        }
        let mut at = 0;
        while at < length {
            let wanted = PIECE.min((length - at) as usize);
            file.read_exact_at(&mut buffer[..wanted], offset + at)?;
            hasher.update(&buffer[..wanted]);
            at += wanted as u64;
        }
        Ok(hasher)
    })
}
