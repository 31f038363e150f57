//! Names of files as text that can be written down, whatever bytes they are made of.

use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

/// A path as text: bytes that are no UTF-8 are written as `\xNN`, and a backslash as `\\`.
pub fn to_text(path: &[u8]) -> String {
    // Nearly all names are.
    if let Ok(plain) = std::str::from_utf8(path)
        && !path.contains(&b'\\')
    {
        return plain.to_string();
    }
    let mut out = String::with_capacity(path.len());
    for chunk in path.utf8_chunks() {
        for c in chunk.valid().chars() {
            if c == '\\' {
                out.push('\\');
            }
            out.push(c);
        }
        chunk.invalid().iter().for_each(|byte| out.push_str(&format!("\\x{byte:02x}")));
    }
    out
}

/// The path that a text stands for.
pub fn from_text(text: &str) -> PathBuf {
    if !text.contains('\\') {
        return PathBuf::from(text);
    }
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\\') {
        bytes.extend_from_slice(&rest.as_bytes()[..at]);
        let escaped = &rest[at + 1..];
        let byte = escaped.strip_prefix('x').and_then(|hex| u8::from_str_radix(hex.get(..2)?, 16).ok());
        match byte {
            Some(byte) => {
                bytes.push(byte);
                rest = &escaped[3..];
            }
            None => {
                bytes.push(b'\\');
                rest = escaped.strip_prefix('\\').unwrap_or(escaped);
            }
        }
    }
    bytes.extend_from_slice(rest.as_bytes());
    PathBuf::from(OsString::from_vec(bytes))
}

#[cfg(test)]
mod tests {
    use std::os::unix::ffi::OsStrExt;

    use super::*;

    #[test]
    fn every_name_survives() {
        for name in [&b"/shed/looms.csv"[..], b"/a\\b", b"/a\\xff", b"/\xff\xfe/\\", b"/\xc3\xa9\xc3", b"\\"] {
            assert_eq!(from_text(&to_text(name)).as_os_str().as_bytes(), name);
        }
        assert_eq!(to_text(b"/shed/\xff.csv"), "/shed/\\xff.csv");
    }
}
