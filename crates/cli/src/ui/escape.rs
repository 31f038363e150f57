//! The one place that decides which characters reach a terminal. Names, cells, notes and logs come from outside:
//! what would move the cursor, colour, hide or reorder text, or talk to the terminal is shown, not sent.

use std::hash::{BuildHasher, RandomState};
use std::sync::LazyLock;

use textum_core::event::Event;
use unicode_width::UnicodeWidthStr;

/// Begins and ends a mark for a colour; between them stand [`SECRET`] and the code. Only this process knows the
/// secret, so that nothing from outside can be taken for a colour of Textum's own.
const BEGIN: char = '\u{1}';
const END: char = '\u{2}';
static SECRET: LazyLock<String> = LazyLock::new(|| format!("{:016x}", RandomState::new().hash_one("colour")));

/// A mark that [`text`] turns into the escape sequence of a colour.
pub fn colour(code: &str) -> String {
    format!("{BEGIN}{}{code}{END}", *SECRET)
}

/// Characters that say how text runs, in which order it is shown, or nothing at all.
fn is_hidden(c: char) -> bool {
    matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{e0000}'..='\u{e007f}')
}

fn show(c: char, out: &mut String) {
    match c {
        '\r' => out.push_str("\\r"),
        '\n' => out.push_str("\\n"),
        '\t' => out.push_str("\\t"),
        c if c.is_ascii() => out.push_str(&format!("\\x{:02x}", c as u32)),
        c => out.push_str(&format!("\\u{{{:x}}}", c as u32)),
    }
}

/// Splits an own mark off the front: its code, and what follows.
fn own_mark(text: &str) -> Option<(&str, &str)> {
    text.strip_prefix(BEGIN)?.strip_prefix(SECRET.as_str())?.split_once(END)
}

/// Columns that a text takes in a terminal. Marks for colours take none.
pub fn width(text: &str) -> usize {
    let mut width = 0;
    let mut rest = text;
    while let Some(at) = rest.find(BEGIN) {
        width += rest[..at].width();
        rest = match own_mark(&rest[at..]) {
            Some((_, after)) => after,
            None => &rest[at + BEGIN.len_utf8()..],
        };
    }
    width + rest.width()
}

/// What is printed for people: its lines stay lines, its own colours become colours, everything else that is no
/// plain character is shown.
pub fn text(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some((code, after)) = own_mark(rest) {
            out.push_str(&format!("\x1b[{code}m"));
            rest = after;
            continue;
        }
        rest = &rest[c.len_utf8()..];
        match c {
            '\n' | '\t' => out.push(c),
            c if c.is_control() || is_hidden(c) => show(c, &mut out),
            c => out.push(c),
        }
    }
    out
}

/// A name, cell or message from outside, on one line. Own marks for colours stay.
pub fn line(text: &str) -> String {
    if !text.chars().any(|c| c.is_control() || is_hidden(c)) {
        return text.to_string();
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some((_, after)) = own_mark(rest) {
            out.push_str(&rest[..rest.len() - after.len()]);
            rest = after;
            continue;
        }
        rest = &rest[c.len_utf8()..];
        if c.is_control() || is_hidden(c) { show(c, &mut out) } else { out.push(c) }
    }
    out
}

/// The same in Markdown, which may hold HTML: words are not markup.
pub fn markdown(text: &str) -> String {
    line(text).replace('&', "&amp;").replace('<', "&lt;")
}

/// A text between quotes as Graphviz takes it (its grammar: "The DOT Language").
pub fn graphviz(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// JSON is text that terminals are shown too: what JSON leaves as it is and a terminal does not goes as `\u….`.
pub fn json(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\u{7f}'..='\u{9f}' => out.push_str(&format!("\\u{:04x}", c as u32)),
            c if is_hidden(c) => c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}"))),
            c => out.push(c),
        }
    }
    out
}

/// An event whose texts each stand on one line.
pub fn event(event: &Event) -> Event {
    fn visit(value: &mut serde_json::Value) {
        match value {
            serde_json::Value::String(text) => *text = line(text),
            serde_json::Value::Array(items) => items.iter_mut().for_each(visit),
            serde_json::Value::Object(map) => map.iter_mut().for_each(|(_, value)| visit(value)),
            _ => {}
        }
    }
    let clean = serde_json::to_value(event).ok().and_then(|mut value| {
        visit(&mut value);
        serde_json::from_value(value).ok()
    });
    clean.unwrap_or_else(|| event.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_from_outside_reaches_a_terminal_as_a_command() {
        let hostile = "a\x1b]52;c;aGk=\x07b\x1b[2Jc\r\u{9b}31md\u{202e}e\u{1}000000000000000031\u{2}f";
        let shown = text(hostile);
        assert!(shown.chars().all(|c| !c.is_control() && !is_hidden(c)), "{shown:?}");
        assert!(shown.contains("\\x1b]52;c;aGk=\\x07b") && shown.contains("\\u{9b}31m") && shown.contains("\\u{202e}e"));
        assert_eq!(text(&format!("{}red{}\n\tnext", colour("31"), colour("0"))), "\x1b[31mred\x1b[0m\n\tnext");
        assert_eq!(line("two\nlines\t\x1b[0m"), "two\\nlines\\t\\x1b[0m");
        assert_eq!(line("plain ünïcode ✓"), "plain ünïcode ✓");
        let marked = format!("a {}red{}\nb", colour("31"), colour("0"));
        assert_eq!((text(&line(&marked)), width(&line(&marked))), ("a \x1b[31mred\x1b[0m\\nb".to_string(), 8));
        assert_eq!(line("\u{1}0000000000000000\u{31}31\u{2}"), "\\x010000000000000000131\\x02");
        let value = serde_json::json!({"name": "x\u{9b}\u{7f}\u{e0041}\x1b"});
        let printed = json(&value.to_string());
        assert!(printed.is_ascii() && serde_json::from_str::<serde_json::Value>(&printed).unwrap() == value, "{printed}");
    }
}
