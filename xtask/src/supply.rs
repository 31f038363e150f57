//! What comes from elsewhere: from where, and under which licences.

use std::path::Path;
use std::process::Command;

/// Licences under which a program may be handed out with ours.
const FINE: &[&str] = &[
    "0BSD",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "BSL-1.0",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "ISC",
    "MIT",
    "MIT-0",
    "NCSA",
    "Unicode-3.0",
    "Unicode-DFS-2016",
    "Unlicense",
    "WTFPL",
    "Zlib",
    "LLVM-exception",
];
/// The one place that crates come from.
const REGISTRY: &str = "registry+https://github.com/rust-lang/crates.io-index";

/// A crate as `cargo tree` tells of it.
fn crates(top: &Path) -> Result<Vec<(String, String)>, String> {
    let program = std::env::var("CARGO").unwrap_or_else(|_| "cargo".into());
    // What is handed out: neither tests nor builds.
    let words = ["tree", "-p", "textum", "-e", "normal", "--prefix", "none", "--format", "{p}|{l}"];
    let told = Command::new(program).args(words).current_dir(top).output().map_err(|e| format!("cargo cannot be started: {e}"))?;
    if !told.status.success() {
        return Err(String::from_utf8_lossy(&told.stderr).into_owned());
    }
    let line =
        |line: &str| line.split_once('|').map(|(name, licence)| (name.to_string(), licence.trim_end_matches(" (*)").to_string()));
    let mut all: Vec<(String, String)> = String::from_utf8_lossy(&told.stdout).lines().filter_map(line).collect();
    all.sort();
    all.dedup();
    Ok(all)
}

/// Whether an expression of SPDX leaves a way that is fine.
pub fn is_fine(expression: &str) -> bool {
    // What holds beside a choice in parentheses must be fine by itself.
    if expression.contains('(') && expression.contains(" AND ") {
        return expression.split(" AND ").all(|part| is_fine(&part.replace(['(', ')'], " ")));
    }
    let plain = expression.replace(['(', ')'], " ").replace('/', " OR ");
    let each = |all: &str| {
        let mut words = all.split_whitespace().filter(|w| !["AND", "WITH"].contains(w)).peekable();
        words.peek().is_some() && words.all(|word| FINE.contains(&word))
    };
    plain.split(" OR ").any(each) && !expression.trim().is_empty()
}

/// Crates that come from anywhere else than the registry, and licences that are not known to be fine.
pub fn look(top: &Path) -> Result<Vec<String>, String> {
    let mut wrong = Vec::new();
    for (name, licence) in crates(top)?.iter().filter(|(name, _)| !name.starts_with("textum")) {
        if !is_fine(licence) {
            wrong.push(format!("{name}: the licence `{licence}` is not among those that are known to be fine"));
        }
    }
    let lock = std::fs::read_to_string(top.join("Cargo.lock")).map_err(|e| format!("Cargo.lock cannot be read: {e}"))?;
    let foreign = lock.lines().filter_map(|l| l.strip_prefix("source = ")).filter(|s| s.trim_matches('"') != REGISTRY);
    wrong.extend(foreign.map(|source| format!("Cargo.lock: {source} is not the registry")));
    Ok(wrong)
}

#[cfg(test)]
mod tests {
    use super::is_fine;

    #[test]
    fn licences_are_told_apart() {
        for fine in [
            "MIT",
            "MIT OR Apache-2.0",
            "MIT/Apache-2.0",
            "(MIT OR GPL-3.0) AND Unicode-3.0",
            "Apache-2.0 WITH LLVM-exception OR GPL-2.0",
        ] {
            assert!(is_fine(fine), "{fine}");
        }
        for not in
            ["", "GPL-3.0", "MIT AND GPL-3.0", "AGPL-3.0 OR LGPL-3.0", "MPL-2.0", "proprietary", "(MIT OR GPL-3.0) AND GPL-3.0"]
        {
            assert!(!is_fine(not), "{not}");
        }
    }
}
