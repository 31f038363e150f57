//! Values of secret variables in what a stage printed: they are masked before it is stored.

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;

use memchr::memmem;

use crate::fsio::{self, IoError};
use crate::project::fingerprint::is_secret;

/// What stands in the place of a value.
const MASK: &str = "(masked)";
/// A shorter value stands in too many texts by chance.
const SHORTEST: usize = 6;

/// The values that are masked: of variables of the stage whose names say that they hold a secret.
/// They are masked also in what a depot is told of a run at work.
pub(crate) fn secrets<'v>(names: impl Iterator<Item = &'v String>, own: &[(String, String)]) -> Vec<String> {
    let value = |name: &String| own.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone());
    let mut found: Vec<String> = names.filter(|name| is_secret(name)).filter_map(value).collect();
    found.retain(|value| value.trim().len() >= SHORTEST);
    // The longest first: one may be part of another.
    found.sort_by_key(|value| std::cmp::Reverse(value.len()));
    found
}

/// A text, which may be JSON, with the values masked: as they are, and as JSON writes them.
pub(crate) fn masked(text: &str, secrets: &[String]) -> String {
    let mut text = text.to_string();
    for secret in secrets {
        let written = serde_json::Value::from(secret.as_str()).to_string();
        // Without the quotes around it.
        let written = written.get(1..written.len() - 1).unwrap_or_default();
        for form in [secret.as_str(), written] {
            if !form.is_empty() && text.contains(form) {
                text = text.replace(form, MASK);
            }
        }
    }
    text
}

/// Whether any of the values stands in a file.
fn holds(path: &Path, secrets: &[String]) -> Result<bool, IoError> {
    let longest = secrets.iter().map(String::len).max().unwrap_or(0);
    let mut file = std::fs::File::open(path).map_err(IoError::of("read", path))?;
    let mut window = vec![0; (1 << 20) + longest];
    let mut kept = 0;
    loop {
        let read = file.read(&mut window[kept..]).map_err(IoError::of("read", path))?;
        let filled = kept + read;
        if secrets.iter().any(|secret| memmem::find(&window[..filled], secret.as_bytes()).is_some()) {
            return Ok(true);
        }
        if read == 0 {
            return Ok(false);
        }
        // What a value may have begun in is looked at again with what follows.
        let from = filled.saturating_sub(longest);
        window.copy_within(from..filled, 0);
        kept = filled - from;
    }
}

/// Masks the values in a log, where any stands in it.
pub(super) fn mask(path: &Path, secrets: &[String]) -> Result<(), IoError> {
    if secrets.is_empty() || !path.is_file() || !holds(path, secrets)? {
        return Ok(());
    }
    let masked = path.with_extension("masked");
    let mut reader = BufReader::new(std::fs::File::open(path).map_err(IoError::of("read", path))?);
    let mut out = std::io::BufWriter::new(fsio::create(&masked)?);
    let mut line = Vec::new();
    loop {
        line.clear();
        if reader.read_until(b'\n', &mut line).map_err(IoError::of("read", path))? == 0 {
            break;
        }
        for secret in secrets {
            line = replaced(&line, secret.as_bytes());
        }
        out.write_all(&line).map_err(IoError::of("write", &masked))?;
    }
    out.flush().map_err(IoError::of("write", &masked))?;
    fsio::rename(&masked, path)
}

fn replaced(line: &[u8], secret: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(line.len());
    let mut from = 0;
    for at in memmem::find_iter(line, secret) {
        out.extend_from_slice(&line[from..at]);
        out.extend_from_slice(MASK.as_bytes());
        from = at + secret.len();
    }
    out.extend_from_slice(&line[from..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_masked_wherever_they_stand_and_nothing_else_is() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        let own = [("SHED_TOKEN", "hunter2"), ("DB_PASSWORD", "hunter2-long"), ("PAT", "short"), ("LOOM", "hunter3")];
        let own: Vec<(String, String)> = own.map(|(k, v)| (k.to_string(), v.to_string())).to_vec();
        let secrets = secrets(own.iter().map(|(name, _)| name), &own);
        assert_eq!(secrets, ["hunter2-long", "hunter2"]);
        // Across the edge of a window too.
        let far = format!("{}hunter2\n", "x".repeat((1 << 20) - 3));
        let text = format!("a hunter2hunter2 b\nhunter2-long hunter3 short\n{far}");
        std::fs::write(&path, &text).unwrap();
        mask(&path, &secrets).unwrap();
        let masked = std::fs::read_to_string(&path).unwrap();
        assert_eq!(masked, text.replace("hunter2-long", "(masked)").replace("hunter2", "(masked)"));
        std::fs::write(&path, "nothing").unwrap();
        let before = std::fs::metadata(&path).unwrap().modified().unwrap();
        mask(&path, &secrets).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().modified().unwrap(), before, "left as it is");
        mask(&folder.path().join("absent"), &secrets).unwrap();
    }

    #[test]
    fn values_are_masked_in_json_as_json_writes_them() {
        let secrets = vec!["loom\"7\\é\nx".to_string()];
        let json = serde_json::json!({"command": format!("weave --token {}", secrets[0])}).to_string();
        assert_eq!(masked(&json, &secrets), r#"{"command":"weave --token (masked)"}"#);
        assert_eq!(masked(&format!("a {} b", secrets[0]), &secrets), "a (masked) b");
        assert_eq!(masked("nothing", &secrets), "nothing");
    }
}
