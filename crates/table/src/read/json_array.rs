//! A JSON array of objects, made into JSON Lines while it is read: an element a line.

use std::io::{BufRead, BufReader, Read};

/// Where in the array the reader is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum At {
    Before,
    Inside,
    After,
}

/// A reader of the lines.
pub struct Elements<R> {
    stream: BufReader<R>,
    at: At,
    depth: u32,
    in_text: bool,
    escaped: bool,
    /// Whether an element has begun since the last comma.
    any: bool,
    /// Whether there was an element before.
    some: bool,
}

impl<R: Read> Elements<R> {
    /// Reads the array that this stream holds.
    pub fn of(stream: R) -> Elements<R> {
        Elements {
            stream: BufReader::with_capacity(1 << 17, stream),
            at: At::Before,
            depth: 0,
            in_text: false,
            escaped: false,
            any: false,
            some: false,
        }
    }

    /// What becomes of a byte; `None`: nothing.
    fn turn(&mut self, byte: u8) -> Result<Option<u8>, &'static str> {
        if self.in_text {
            self.in_text = self.escaped || byte != b'"';
            self.escaped = !self.escaped && byte == b'\\';
            return Ok(Some(byte));
        }
        let blank = byte.is_ascii_whitespace();
        match (self.at, byte) {
            (_, _) if blank => Ok((self.at == At::Inside).then_some(b' ')),
            (At::Before, b'[') => {
                self.at = At::Inside;
                Ok(None)
            }
            (At::Before, _) => Err("this is no array of objects: it does not begin with `[`"),
            (At::After, _) => Err("something follows the end of the array"),
            (At::Inside, b',') if self.depth == 0 => match std::mem::take(&mut self.any) {
                true => Ok(Some(b'\n')),
                false => Err("a comma follows nothing"),
            },
            (At::Inside, b']') if self.depth == 0 => {
                self.at = At::After;
                match self.any || !self.some {
                    true => Ok(Some(b'\n')),
                    false => Err("nothing follows the last comma"),
                }
            }
            (At::Inside, _) => {
                (self.any, self.some) = (true, true);
                match byte {
                    b'"' => self.in_text = true,
                    b'{' | b'[' => self.depth += 1,
                    b'}' | b']' => self.depth = self.depth.saturating_sub(1),
                    _ => {}
                }
                Ok(Some(byte))
            }
        }
    }
}

impl<R: Read> Read for Elements<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let mut written = 0;
        while written == 0 && !buffer.is_empty() {
            // Nothing is kept that the next call would need: as much is taken as there is room for.
            let bytes = self.stream.fill_buf()?;
            if bytes.is_empty() {
                let what = match self.at {
                    At::After => return Ok(0),
                    At::Before => "it is empty, where an array of objects belongs",
                    At::Inside => "the array has no end",
                };
                return Err(std::io::Error::new(std::io::ErrorKind::InvalidData, what));
            }
            let take = bytes.len().min(buffer.len());
            let chunk = bytes[..take].to_vec();
            self.stream.consume(take);
            for byte in chunk {
                let turned = self.turn(byte).map_err(|what| std::io::Error::new(std::io::ErrorKind::InvalidData, what))?;
                if let Some(byte) = turned {
                    buffer[written] = byte;
                    written += 1;
                }
            }
        }
        Ok(written)
    }
}

/// Whether a file's beginning is that of an array of objects.
pub fn looks_like_one(start: &[u8]) -> bool {
    let start = start.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(start).trim_ascii_start();
    let Some(rest) = start.strip_prefix(b"[") else { return false };
    matches!(rest.trim_ascii_start().first(), Some(b'{'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Result<String, String> {
        let mut out = String::new();
        Elements::of(text.as_bytes()).read_to_string(&mut out).map(|_| out).map_err(|e| e.to_string())
    }

    #[test]
    fn an_element_becomes_a_line() {
        assert_eq!(lines("[{\"a\": [1,\n2]}, {\"b\":\"x,]\\\"\\\\\"}]\n").unwrap(), "{\"a\": [1, 2]}\n {\"b\":\"x,]\\\"\\\\\"}\n");
        assert_eq!(lines(" [ ] ").unwrap().trim(), "");
        for (text, what) in
            [("[1,]", "last comma"), ("{}", "no array"), ("[1", "no end"), ("", "empty"), ("[,1]", "nothing"), ("[] x", "follows")]
        {
            assert!(lines(text).unwrap_err().contains(what), "{text}: {:?}", lines(text));
        }
        assert!(
            looks_like_one(b"\xEF\xBB\xBF \n[ {") && !looks_like_one(b"[1]") && !looks_like_one(b"{}") && !looks_like_one(b"[]")
        );
    }
}
