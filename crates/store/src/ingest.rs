//! Content into entries: small content as one chunk, large content cut where its bytes say so.
//!
//! Cuts follow FastCDC (Xia et al., "The Design of Fast Content-Defined Chunking for Data
//! Deduplication Based Storage Systems", IEEE TPDS 2020) with the sizes below, so that an insertion
//! moves only the cuts beside it.

use std::borrow::Cow;
use std::cell::RefCell;
use std::fs::File;
use std::io::Read;
use std::path::Path;

use rayon::prelude::*;

use super::pack::{Coding, EntryHead, Kind};
use super::writer::{Coded, Writer};
use super::{Digest, StoreError};
use textum_base::fsio::IoError;

/// Content below this is one chunk. In bytes.
pub const LARGE: usize = 512 << 10;
/// No piece of a larger one is shorter, but for the last. In bytes.
pub const CUT_MIN: usize = 64 << 10;
/// About the mean length of a piece: an insertion costs the pieces that it cuts through. In bytes.
pub const CUT_MEAN: usize = 256 << 10;
/// No piece is longer. In bytes.
pub const CUT_MAX: usize = 1 << 20;
/// How much of a large file is read and cut at a time. In bytes.
const WINDOW: usize = 12 << 20;
/// Bytes of one record in a list of parts: a digest and a length.
pub const PART_LEN: usize = 36;

/// What was taken in: its digest and its size in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stored {
    /// BLAKE3 of all the bytes.
    pub digest: Digest,
    /// Number of bytes.
    pub size: u64,
}

thread_local! {
    static COMPRESSOR: RefCell<Option<zstd::bulk::Compressor<'static>>> = const { RefCell::new(None) };
    static SMALL: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

fn compress(bytes: &[u8]) -> Option<Vec<u8>> {
    COMPRESSOR.with_borrow_mut(|slot| {
        if slot.is_none() {
            *slot = zstd::bulk::Compressor::new(1).ok();
        }
        slot.as_mut()?.compress(bytes).ok()
    })
}

/// Whether compressing pays: it must save at least a sixteenth.
fn pays(from: usize, to: usize) -> bool {
    to + from / 16 <= from
}

/// Whether bytes are spread so evenly that no compressor will find anything: by the number of equal
/// pairs in three samples, which for random bytes is about N + N²/256.
fn looks_random(raw: &[u8]) -> bool {
    const SAMPLE: usize = 512;
    if raw.len() < 3 * SAMPLE {
        return false;
    }
    let mut counts = [0u32; 256];
    for at in [0, (raw.len() - SAMPLE) / 2, raw.len() - SAMPLE] {
        for byte in &raw[at..at + SAMPLE] {
            counts[*byte as usize] += 1;
        }
    }
    let n = 3 * SAMPLE as u32;
    counts.iter().map(|c| c * c).sum::<u32>() < (n + n * n / 256) * 115 / 100
}

/// Codes a payload for the pack: compressed where that pays. A sample decides for long ones, so that
/// incompressible content costs no time.
pub(super) fn code(kind: Kind, digest: Digest, raw: &[u8]) -> Coded<'_> {
    const SAMPLE: usize = 8 << 10;
    let middle = raw.len() / 2;
    let hopeful = raw.len() >= 64
        && !looks_random(raw)
        && (raw.len() < 4 * SAMPLE
            || [0, middle].iter().any(|&at| compress(&raw[at..at + SAMPLE]).is_some_and(|c| pays(SAMPLE, c.len()))));
    let compressed = if hopeful { compress(raw).filter(|c| pays(raw.len(), c.len())) } else { None };
    let (coding, payload) = match compressed {
        Some(bytes) => (Coding::Zstd, Cow::Owned(bytes)),
        None => (Coding::Raw, Cow::Borrowed(raw)),
    };
    let head = EntryHead { kind, coding, stored_len: payload.len() as u32, raw_len: raw.len() as u32, digest };
    Coded { head, payload }
}

impl Writer<'_> {
    /// Takes in bytes that are in memory.
    pub fn put_bytes(&self, bytes: &[u8]) -> Result<Stored, StoreError> {
        if bytes.len() >= LARGE {
            return self.put_reader(bytes, Path::new("(memory)"));
        }
        let digest = Digest::of(bytes);
        if !self.contains(&digest)? {
            self.append(code(Kind::Chunk, digest, bytes))?;
        }
        Ok(Stored { digest, size: bytes.len() as u64 })
    }

    /// Takes in a file's bytes. What is stored is what was read: its digest is true even when the file
    /// changes meanwhile (whether it did is for the caller to see from its times).
    ///
    /// Files of [`LARGE`] bytes and more must not be taken in from a task of the thread pool: each
    /// uses the whole pool, one at a time.
    pub fn put_file(&self, path: &Path) -> Result<Stored, StoreError> {
        let file = File::open(path).map_err(IoError::of("open", path))?;
        let length = file.metadata().map_err(IoError::of("look at", path))?.len();
        if length >= LARGE as u64 {
            return self.put_reader(file, path);
        }
        drop(file);
        self.put_small_file(path)
    }

    /// Takes in a file that is known to be small, with as few calls to the system as can be. It must be
    /// below [`LARGE`] bytes.
    pub fn put_small_file(&self, path: &Path) -> Result<Stored, StoreError> {
        SMALL.with_borrow_mut(|buffer| {
            let mut file = File::open(path).map_err(IoError::of("open", path))?;
            let read = read_small(&mut file, buffer).map_err(IoError::of("read", path))?;
            if read >= LARGE {
                let grown = std::io::Error::other("it grew while it was being read");
                return Err(IoError::of("read", path)(grown).into());
            }
            self.put_bytes(&buffer[..read])
        })
    }

    /// Takes in all bytes of a reader, in bounded memory: one thread reads and cuts, all cores hash.
    pub fn put_reader(&self, reader: impl Read + Send, path: &Path) -> Result<Stored, StoreError> {
        let _one = self.one_large.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let (send, receive) = crossbeam_channel::bounded::<(Vec<u8>, Vec<usize>)>(1);
        // Windows go back to be filled again: fresh memory would cost more than reading into it.
        let (give_back, spare) = crossbeam_channel::unbounded::<Vec<u8>>();
        std::thread::scope(|scope| {
            let cutter = scope.spawn(move || cut_windows(reader, &spare, |window| send.send(window).is_ok()));
            let mut whole = blake3::Hasher::new();
            let mut parts = Vec::new();
            let mut size = 0;
            for (bytes, cuts) in receive {
                size += bytes.len() as u64;
                let pieces = pieces_of(&bytes, &cuts);
                let (_, coded) = rayon::join(
                    || whole.update_rayon(&bytes),
                    || pieces.par_iter().map(|piece| self.piece(piece)).collect::<Vec<_>>(),
                );
                for (piece, coded) in pieces.iter().zip(coded) {
                    let (digest, coded) = coded?;
                    parts.extend_from_slice(digest.as_bytes());
                    parts.extend_from_slice(&(piece.len() as u32).to_le_bytes());
                    if let Some(coded) = coded {
                        self.append(coded)?;
                    }
                }
                let _ = give_back.send(bytes);
            }
            match cutter.join() {
                Ok(read) => read.map_err(IoError::of("read", path))?,
                Err(panic) => std::panic::resume_unwind(panic),
            }
            let digest = Digest::from(whole.finalize());
            // A single piece bears the digest of the whole: it needs no list.
            if parts.len() > PART_LEN && !self.contains(&digest)? {
                self.append(code(Kind::Parts, digest, &parts))?;
            }
            Ok(Stored { digest, size })
        })
    }

    fn piece<'b>(&self, piece: &'b [u8]) -> Result<(Digest, Option<Coded<'b>>), StoreError> {
        let digest = Digest::of(piece);
        let known = self.contains(&digest)?;
        Ok((digest, (!known).then(|| code(Kind::Chunk, digest, piece))))
    }
}

/// Reads a file below [`LARGE`] bytes to its end; a result of [`LARGE`] means that it is longer.
fn read_small(file: &mut File, buffer: &mut Vec<u8>) -> std::io::Result<usize> {
    // Most are far smaller, and many a thread reads a single one: half a megabyte is not made for that.
    const FIRST: usize = 16 << 10;
    let mut read = 0;
    while read < LARGE {
        if read == buffer.len() {
            buffer.resize((read * 4).clamp(FIRST, LARGE), 0);
        }
        match file.read(&mut buffer[read..]) {
            Ok(0) => break,
            Ok(n) => read += n,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    Ok(read)
}

fn pieces_of<'b>(bytes: &'b [u8], cuts: &[usize]) -> Vec<&'b [u8]> {
    let mut from = 0;
    cuts.iter()
        .map(|&to| {
            let piece = &bytes[from..to];
            from = to;
            piece
        })
        .collect()
}

/// Reads to the end in windows that finish at a cut; gives each with the ends of its pieces.
fn cut_windows(
    mut reader: impl Read,
    spare: &crossbeam_channel::Receiver<Vec<u8>>,
    mut give: impl FnMut((Vec<u8>, Vec<usize>)) -> bool,
) -> std::io::Result<()> {
    let mut rest: Vec<u8> = Vec::new();
    let mut first = true;
    loop {
        let mut window = spare.try_recv().unwrap_or_else(|_| Vec::with_capacity(WINDOW));
        window.clear();
        window.append(&mut rest);
        let missing = (WINDOW - window.len()) as u64;
        let read = (&mut reader).take(missing).read_to_end(&mut window)? as u64;
        let end_of_input = read < missing;
        let (cuts, used) = cut_points(&window, end_of_input);
        rest.extend_from_slice(&window[used..]);
        window.truncate(used);
        if (!window.is_empty() || (first && end_of_input)) && !give((window, cuts)) {
            return Ok(());
        }
        first = false;
        if end_of_input {
            return Ok(());
        }
    }
}

/// The ends of the pieces in a window, and how much of it they use up: all of it at the end of the
/// input, else only as far as a cut does not depend on what has not been read.
fn cut_points(window: &[u8], end_of_input: bool) -> (Vec<usize>, usize) {
    let mut cuts = Vec::new();
    let mut from = 0;
    let cutter = fastcdc::v2020::FastCDC::new(window, CUT_MIN, CUT_MEAN, CUT_MAX);
    while from < window.len() && (end_of_input || window.len() - from >= CUT_MAX) {
        let (_, to) = cutter.cut(from, window.len() - from);
        if to <= from {
            break;
        }
        cuts.push(to);
        from = to;
    }
    (cuts, from)
}
