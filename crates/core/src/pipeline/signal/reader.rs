//! Reading a file of signals while it grows.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use super::{Signal, parse_line};

/// Bytes read at once.
const BITE: usize = 256 << 10;

/// Reads each line once, when it is whole.
pub struct SignalReader {
    path: PathBuf,
    file: Option<File>,
    read: u64,
    rest: Vec<u8>,
    line: u64,
    /// Within a line that is too long to be a signal.
    skipping: bool,
}

/// A line without an end is given up beyond this. In bytes.
const LONGEST: usize = 2 << 20;

impl SignalReader {
    /// A reader of this file, which need not be there yet.
    pub fn new(path: &Path) -> SignalReader {
        SignalReader { path: path.to_path_buf(), file: None, read: 0, rest: Vec::new(), line: 0, skipping: false }
    }

    /// Gives each new line: its number, and what it says or what is wrong with it. At the `end` a line
    /// without its end is taken too. Whether there was anything new is returned; not more than one bite is
    /// taken at once unless it is the end.
    pub fn read(&mut self, end: bool, mut each: impl FnMut(u64, Result<Signal, String>)) -> bool {
        if self.file.is_none() {
            self.file = File::open(&self.path).ok();
        }
        let Some(file) = &mut self.file else { return false };
        let length = file.metadata().map_or(0, |m| m.len());
        if length < self.read {
            each(self.line + 1, Err("the file of signals was cut: it is read again from its beginning".into()));
            (self.read, self.line) = (0, 0);
            self.rest.clear();
        }
        let mut any = false;
        loop {
            if file.seek(SeekFrom::Start(self.read)).is_err() {
                return any;
            }
            let mut bite = vec![0; BITE.min((length.saturating_sub(self.read)) as usize)];
            let got = file.read(&mut bite).unwrap_or(0);
            self.read += got as u64;
            self.rest.extend_from_slice(&bite[..got]);
            any |= got > 0;
            let mut from = 0;
            while let Some(to) = memchr::memchr(b'\n', &self.rest[from..]) {
                if !std::mem::take(&mut self.skipping) {
                    self.line += 1;
                    say(self.line, &self.rest[from..from + to], &mut each);
                }
                from += to + 1;
            }
            self.rest.drain(..from);
            if self.rest.len() > LONGEST {
                if !std::mem::replace(&mut self.skipping, true) {
                    self.line += 1;
                    each(self.line, Err("it has no end within two megabytes".into()));
                }
                self.rest.clear();
            }
            if !end || got == 0 {
                break;
            }
        }
        if end && !self.rest.is_empty() && !self.skipping {
            self.line += 1;
            let rest = std::mem::take(&mut self.rest);
            say(self.line, &rest, &mut each);
        }
        any
    }
}

fn say(line: u64, bytes: &[u8], each: &mut impl FnMut(u64, Result<Signal, String>)) {
    let Ok(text) = std::str::from_utf8(bytes) else { return each(line, Err("it is not UTF-8 text".into())) };
    if !text.trim().is_empty() {
        each(line, parse_line(text.trim()));
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn lines_are_taken_once_and_whole() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("signals");
        let mut reader = SignalReader::new(&path);
        let mut steps = |end: bool| {
            let mut found = Vec::new();
            reader.read(end, |line, signal| found.push((line, signal.map(|s| s.step))));
            found
        };
        assert_eq!(steps(false), []);
        let mut file = File::create(&path).unwrap();
        file.write_all(b"{\"step\": 1}\n\n{\"st").unwrap();
        assert_eq!(steps(false), [(1, Ok(Some(1)))]);
        file.write_all(b"ep\": 2}\nnonsense\n{\"step\": 3}").unwrap();
        let found = steps(false);
        assert_eq!((found[0].clone(), found[1].0, found[1].1.is_err(), found.len()), ((3, Ok(Some(2))), 4, true, 2));
        assert_eq!(steps(true), [(5, Ok(Some(3)))]);
        file.write_all(format!("\n{}\n{{\"step\": 6}}\n", "x".repeat(LONGEST + BITE)).as_bytes()).unwrap();
        assert_eq!(steps(true).iter().map(|(line, s)| (*line, s.is_ok())).collect::<Vec<_>>(), [(7, false), (8, true)]);
        file.set_len(0).unwrap();
        assert!(steps(true)[0].1.is_err());
    }
}
