//! Text in other encodings than UTF-8, made into that while it is read.

use std::io::{Cursor, Read};

use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use encoding_rs_io::DecodeReaderBytesBuilder;

/// How much is looked at to tell the encoding. In bytes.
const START: usize = 64 << 10;

/// A stream of UTF-8, and what it was before.
pub struct Decoded<'t> {
    /// The text. A byte-order mark is left out.
    pub stream: Box<dyn Read + Send + 't>,
    /// The encoding, if it is another one.
    pub encoding: Option<&'static Encoding>,
    /// Whether it began with a byte-order mark.
    pub byte_order_mark: bool,
}

/// Whether bytes are no UTF-8, and have nothing beyond ASCII that would be: a character of that takes several bytes
/// which fit one another, so that a text of another encoding hardly has one.
fn is_of_single_bytes(start: &[u8], is_whole: bool) -> bool {
    let (mut rest, mut wrong) = (start, false);
    loop {
        match std::str::from_utf8(rest) {
            Ok(good) => return wrong && good.is_ascii(),
            Err(e) => {
                let (good, bad) = rest.split_at(e.valid_up_to());
                if !good.is_ascii() {
                    return false;
                }
                // A character that is cut off by the end of what was looked at.
                let Some(length) = e.error_len() else { return wrong || is_whole };
                wrong = true;
                rest = &bad[length..];
            }
        }
    }
}

/// Tells the encoding of a stream from its beginning, unless it is said, and decodes it.
pub fn decoded<'t>(mut stream: Box<dyn Read + Send + 't>, said: Option<&'static Encoding>) -> std::io::Result<Decoded<'t>> {
    let mut start = Vec::with_capacity(START);
    (&mut stream).take(START as u64).read_to_end(&mut start)?;
    let marked = Encoding::for_bom(&start);
    let is_whole = start.len() < START;
    let encoding = match (marked, said) {
        (Some((encoding, _)), _) => encoding,
        (None, Some(said)) => said,
        (None, None) if is_of_single_bytes(&start, is_whole) => WINDOWS_1252,
        (None, None) => UTF_8,
    };
    start.drain(..marked.map_or(0, |(_, length)| length));
    let whole = Cursor::new(start).chain(stream);
    let stream: Box<dyn Read + Send> = match encoding == UTF_8 {
        true => Box::new(whole),
        false => Box::new(DecodeReaderBytesBuilder::new().encoding(Some(encoding)).bom_sniffing(false).build(whole)),
    };
    let wide = [UTF_16LE, UTF_16BE].contains(&encoding);
    Ok(Decoded { stream, encoding: (encoding != UTF_8).then_some(encoding), byte_order_mark: marked.is_some() && !wide })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(bytes: &[u8], said: Option<&'static Encoding>) -> (String, Option<&'static str>) {
        let mut found = decoded(Box::new(Cursor::new(bytes.to_vec())), said).unwrap();
        let mut text = String::new();
        found.stream.read_to_string(&mut text).unwrap();
        (text, found.encoding.map(Encoding::name))
    }

    #[test]
    fn text_is_the_same_in_whatever_encoding() {
        let text = "loom,note\nL01,gewebt für Götz\n";
        let wide =
            |order: fn(u16) -> [u8; 2]| -> Vec<u8> { std::iter::once(0xFEFF).chain(text.encode_utf16()).flat_map(order).collect() };
        let single: Vec<u8> = text.chars().map(|c| c as u32 as u8).collect();
        assert_eq!(read(text.as_bytes(), None), (text.into(), None));
        assert_eq!(read(&wide(u16::to_le_bytes), None), (text.into(), Some("UTF-16LE")));
        assert_eq!(read(&wide(u16::to_be_bytes), None), (text.into(), Some("UTF-16BE")));
        assert_eq!(
            read(&wide(u16::to_be_bytes)[2..], Some(UTF_16BE)),
            (text.into(), Some("UTF-16BE")),
            "without a mark it is to be said"
        );
        assert_eq!(read(&single, None), (text.into(), Some("windows-1252")));
        assert_eq!(read(&[0xE9], None).1, Some("windows-1252"), "cut off by the end of the text itself");
    }

    #[test]
    fn a_bad_byte_in_utf_8_makes_no_other_encoding_of_it() {
        let found = decoded(Box::new(Cursor::new(b"f\xC3\xBCr \xFF".to_vec())), None).unwrap();
        assert_eq!(found.encoding, None);
        let mut long = vec![b'a'; START - 1];
        long.extend("ü".bytes());
        assert_eq!(decoded(Box::new(Cursor::new(long)), None).unwrap().encoding, None, "a character over the end of the start");
    }
}
