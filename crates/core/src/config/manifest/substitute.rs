//! Parameters in a command: `{fit.rate}` becomes the value.

use serde_json::Value;

use super::Command;

/// The names in braces of a text that could be parameters: `{fit.rate}`, but not `${HOME}`, `{}`,
/// `{a,b}` or `{ print }`.
pub fn placeholders(text: &str) -> Vec<&str> {
    spans(text).into_iter().map(|(from, to)| &text[from + 1..to - 1]).collect()
}

/// The placeholders of a shell's text that stand inside quotation marks: a value is put there as one quoted word,
/// which ends the quotation it stands in.
pub fn quoted_placeholders(text: &str) -> Vec<&str> {
    let mut found = Vec::new();
    let mut quote = None;
    let mut bytes = text.bytes().enumerate();
    let places = spans(text);
    while let Some((at, byte)) = bytes.next() {
        match (quote, byte) {
            (None | Some(b'"'), b'\\') => drop(bytes.next()),
            (None, b'\'' | b'"') => quote = Some(byte),
            (Some(open), byte) if open == byte => quote = None,
            (Some(_), b'{') => found.extend(places.iter().find(|(from, _)| *from == at).map(|(from, to)| &text[from + 1..to - 1])),
            _ => {}
        }
    }
    found
}

pub(super) fn spans(text: &str) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    for (open, _) in text.match_indices('{') {
        if text[..open].ends_with('$') {
            continue;
        }
        let Some(length) = text[open + 1..].find('}') else { break };
        let name = &text[open + 1..open + 1 + length];
        let fits = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.'));
        if fits {
            found.push((open, open + length + 2));
        }
    }
    found
}

/// A value as it stands in names, paths and commands.
pub(super) fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

/// A word as a shell takes it literally.
pub fn shell_word(text: &str) -> String {
    let safe = |c: char| c.is_ascii_alphanumeric() || "_-./:=@%+,".contains(c);
    if !text.is_empty() && text.chars().all(safe) { text.to_string() } else { format!("'{}'", text.replace('\'', "'\\''")) }
}

/// A text with the values of its placeholders, as they are.
pub(super) fn replace_each(text: &str, value_of: &dyn Fn(&str) -> Option<String>) -> String {
    replace(text, value_of)
}

fn replace(text: &str, value_of: &dyn Fn(&str) -> Option<String>) -> String {
    let mut out = String::with_capacity(text.len());
    let mut done = 0;
    for (from, to) in spans(text) {
        if let Some(value) = value_of(&text[from + 1..to - 1]) {
            out.push_str(&text[done..from]);
            out.push_str(&value);
            done = to;
        }
    }
    out.push_str(&text[done..]);
    out
}

/// The command with its parameters filled in; in a shell's text each value is one quoted word.
pub fn substitute<'v>(command: &Command, value_of: impl Fn(&str) -> Option<&'v Value>) -> Command {
    match command {
        Command::Shell(text) => Command::Shell(replace(text, &|name| value_of(name).map(|v| shell_word(&plain(v))))),
        Command::Argv(words) => Command::Argv(words.iter().map(|w| replace(w, &|name| value_of(name).map(plain))).collect()),
        own @ (Command::Evaluate(_) | Command::Examine(_)) => own.clone(),
    }
}

/// A command as a line that people read: words are quoted where a shell would need it.
pub fn command_text(command: &Command) -> String {
    match command {
        Command::Shell(text) => text.clone(),
        Command::Argv(words) => words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" "),
        Command::Evaluate(evaluation) => evaluation.to_string(),
        Command::Examine(examination) => examination.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_placeholder_in_quotes_is_found() {
        let text = r#"a {one} "{two}" '{three} x' \"{four}\" "\"{five}" it\'s {six} "$(x {seven})" "{eight"{nine}"#;
        assert_eq!(quoted_placeholders(text), ["two", "three", "five", "seven"]);
    }

    #[test]
    fn only_parameters_are_replaced() {
        let value = Value::from("it's a b");
        let of = |name: &str| (name == "fit.kind").then_some(&value);
        let command = Command::Shell("run {fit.kind} ${HOME} {other} {a,b} '{print $1}'".into());
        let expected = Command::Shell("run 'it'\\''s a b' ${HOME} {other} {a,b} '{print $1}'".into());
        assert_eq!(substitute(&command, of), expected);
        let command = Command::Argv(vec!["x={fit.kind}".into()]);
        assert_eq!(substitute(&command, of), Command::Argv(vec!["x=it's a b".into()]));
    }
}
