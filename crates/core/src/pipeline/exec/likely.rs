//! Which files a stage that failed in a sandbox was probably looking for.

use std::collections::BTreeSet;
use std::path::Path;

/// How much of the end of a log is looked at, in bytes.
const TAIL: usize = 64 << 10;

/// The end of a log, as text: at most so many bytes, however large it is.
pub fn tail(log: &Path, most: usize) -> String {
    use std::io::{Read, Seek, SeekFrom};
    let read = || -> std::io::Result<Vec<u8>> {
        let mut file = std::fs::File::open(log)?;
        let length = file.metadata()?.len();
        file.seek(SeekFrom::Start(length.saturating_sub(most as u64)))?;
        let mut bytes = Vec::new();
        file.take(most as u64).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    String::from_utf8_lossy(&read().unwrap_or_default()).into_owned()
}

/// Files of the project that the log speaks of, that are not in the sandbox: by path, or as a module
/// that an interpreter did not find beside one of the scripts.
pub fn likely_files(log: &Path, project: &Path, sandbox: &Path, reads: &[&str]) -> Vec<String> {
    let text = tail(log, TAIL);
    let mut found = BTreeSet::new();
    let separates = |c: char| c.is_whitespace() || "'\"`()[]{}<>,;:|=".contains(c);
    for word in text.split(separates).filter(|w| !w.is_empty()) {
        let word = word.trim_end_matches('.').trim_start_matches("./");
        let inside = word.strip_prefix(&format!("{}/", sandbox.display())).unwrap_or(word);
        let relative = inside.strip_prefix(&format!("{}/", project.display())).unwrap_or(inside);
        let names_a_path = !relative.starts_with('/') && !relative.contains("..") && !relative.starts_with(".textum");
        if names_a_path && project.join(relative).is_file() && !sandbox.join(relative).exists() {
            found.insert(relative.to_string());
        }
    }
    for line in text.lines().filter(|l| l.contains("No module named") || l.contains("cannot import name")) {
        let Some(module) = line.split('\'').nth(1) else { continue };
        let module = module.replace('.', "/");
        let folders: BTreeSet<&str> = reads.iter().map(|r| r.rsplit_once('/').map_or("", |(folder, _)| folder)).collect();
        for folder in folders {
            for tail in [format!("{module}.py"), format!("{module}/__init__.py")] {
                let candidate = if folder.is_empty() { tail } else { format!("{folder}/{tail}") };
                if project.join(&candidate).is_file() && !sandbox.join(&candidate).exists() {
                    found.insert(candidate);
                }
            }
        }
    }
    found.into_iter().collect()
}
