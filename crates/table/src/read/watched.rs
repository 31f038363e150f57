//! A stream whose bytes are kept for a moment, so that it can be said on which line a record begins, and whether
//! its last quotation mark was ever closed: the general reader of delimited tables tells neither.

use std::io::{self, Read};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

#[derive(Default)]
struct Kept {
    bytes: Vec<u8>,
    /// So many of them, at the start, are forgotten: they go when others come.
    gone: usize,
    /// Where in the stream the first of the others stands.
    from: u64,
    /// Line ends before that.
    lines: u64,
}

/// Bytes that have gone by since the record that is being read began.
#[derive(Clone, Default)]
pub struct Watched(Arc<Mutex<Kept>>);

/// Passes a stream's bytes on and keeps them.
pub struct Watching<R> {
    stream: R,
    kept: Watched,
}

impl Watched {
    /// Watches a stream.
    pub fn over<R: Read>(stream: R) -> (Watched, Watching<R>) {
        let kept = Watched::default();
        (kept.clone(), Watching { stream, kept })
    }

    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The line, from 1, of the record that was found to begin at a place of the stream: line ends that the reader
    /// passes over first do not count as part of it. What lies before it is forgotten.
    pub fn line_of(&self, at: u64) -> u64 {
        let mut kept = self.kept();
        let bytes = &kept.bytes[kept.gone..];
        let mut start = usize::try_from(at.saturating_sub(kept.from)).unwrap_or(0).min(bytes.len());
        start += bytes[start..].iter().take_while(|b| matches!(b, b'\n' | b'\r')).count();
        let lines = memchr::memchr_iter(b'\n', &bytes[..start]).count() as u64;
        kept.lines += lines;
        kept.from += start as u64;
        kept.gone += start;
        kept.lines + 1
    }

    /// Whether the record that ended the stream ended within quotation marks.
    pub fn ends_quoted(&self, delimiter: u8, quote: u8) -> bool {
        let kept = self.kept();
        let (mut quoted, mut field_begins) = (false, true);
        let mut bytes = kept.bytes[kept.gone..].iter().copied().peekable();
        while let Some(byte) = bytes.next() {
            match byte {
                byte if byte == quote && quoted && bytes.peek() == Some(&quote) => drop(bytes.next()),
                byte if byte == quote && quoted => quoted = false,
                byte if byte == quote && field_begins => quoted = true,
                _ => {}
            }
            field_begins = !quoted && (byte == delimiter || matches!(byte, b'\n' | b'\r'));
        }
        quoted
    }
}

impl<R: Read> Read for Watching<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.stream.read(buffer)?;
        let mut kept = self.kept.kept();
        let gone = std::mem::take(&mut kept.gone);
        kept.bytes.drain(..gone);
        kept.bytes.extend_from_slice(&buffer[..read]);
        Ok(read)
    }
}
