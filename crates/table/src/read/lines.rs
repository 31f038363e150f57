//! The plain part of a delimited table: lines in which nothing is quoted are parted at once. Where the first
//! quotation mark comes, or a line ends in another way, the general reader takes over.

use std::io::{self, Read};

use crate::Row;

/// How much is read at a time. In bytes.
const BLOCK: usize = 256 << 10;

/// Reads plain lines.
pub struct Lines<'t> {
    stream: Box<dyn Read + Send + 't>,
    delimiter: u8,
    quote: Option<u8>,
    buffer: Vec<u8>,
    at: usize,
    /// Lines given so far, blank ones too.
    pub number: u64,
    ended: bool,
}

/// What comes next.
pub enum Next {
    /// A row was read.
    Row,
    /// There is no more.
    End,
    /// What follows is not plain.
    NotPlain,
}

/// Whether lines of these bytes can be parted by themselves.
fn is_plain(bytes: &[u8], quote: Option<u8>) -> bool {
    let ends_line = |at: usize| bytes.get(at + 1) == Some(&b'\n');
    quote.is_none_or(|quote| memchr::memchr(quote, bytes).is_none()) && memchr::memchr_iter(b'\r', bytes).all(ends_line)
}

impl<'t> Lines<'t> {
    /// Lines of a stream, from its beginning.
    pub fn new(stream: Box<dyn Read + Send + 't>, delimiter: u8, quote: Option<u8>) -> Lines<'t> {
        Lines { stream, delimiter, quote, buffer: Vec::new(), at: 0, number: 0, ended: false }
    }

    /// Reads more; `false` when it is not plain.
    fn fill(&mut self) -> io::Result<bool> {
        self.buffer.drain(..self.at);
        self.at = 0;
        let before = self.buffer.len();
        let read = (&mut self.stream).take(BLOCK as u64).read_to_end(&mut self.buffer)?;
        self.ended = read < BLOCK;
        // Also the end of what was there: a line's end may be parted from what comes now.
        Ok(is_plain(&self.buffer[before.saturating_sub(1)..], self.quote))
    }

    /// Reads the next line that is not blank.
    pub fn next(&mut self, row: &mut Row) -> io::Result<Next> {
        loop {
            let rest = &self.buffer[self.at..];
            let (line, used) = match memchr::memchr(b'\n', rest) {
                Some(end) => (&rest[..end], end + 1),
                None if self.ended => (rest, rest.len()),
                None => match self.fill()? {
                    true => continue,
                    false => return Ok(Next::NotPlain),
                },
            };
            if used == 0 {
                return Ok(Next::End);
            }
            self.number += 1;
            let line = line.strip_suffix(b"\r").unwrap_or(line);
            if !line.is_empty() {
                row.split(line, self.delimiter);
                row.line = self.number;
                self.at += used;
                return Ok(Next::Row);
            }
            self.at += used;
        }
    }

    /// What has not been read yet, from the beginning of a line.
    pub fn rest(self) -> impl Read + Send + 't {
        io::Cursor::new(self.buffer[self.at..].to_vec()).chain(self.stream)
    }
}
