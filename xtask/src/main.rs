//! The project's own chores: `cargo xtask ci | check | picture`.

#![allow(clippy::disallowed_methods)] // a tool of the build, not a part of the program

mod house;
mod supply;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

/// The most lines that a file may have.
const LONGEST: usize = 600;
/// Between these lines of the page stands what `picture` draws.
const FROM: &str = "<!-- drawn by `cargo xtask picture` -->\n```text\n";
const TO: &str = "```\n<!-- until here -->";
const PAGE: &str = "docs/architecture.md";

fn main() -> ExitCode {
    let top = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    let done = match std::env::args().nth(1).as_deref() {
        Some("ci") => ci(&top),
        Some("check") => check(&top),
        Some("picture") => draw(&top),
        _ => Err(
            "cargo xtask ci       all that CI checks\ncargo xtask check    sizes of files, direction of the rooms, the picture, licences\n\
                  cargo xtask picture  draws the rooms into docs/architecture.md anew"
                .to_string(),
        ),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(what) => {
            eprintln!("{what}");
            ExitCode::FAILURE
        }
    }
}

fn cargo(folder: &Path, words: &[&str], variables: &[(&str, &str)]) -> Result<(), String> {
    eprintln!("$ cargo {}", words.join(" "));
    let program = std::env::var("CARGO").unwrap_or_else(|_| "cargo".into());
    let status = Command::new(program).args(words).current_dir(folder).envs(variables.iter().copied()).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(_) => Err(format!("cargo {} did not succeed", words.join(" "))),
        Err(e) => Err(format!("cargo cannot be started: {e}")),
    }
}

fn ci(top: &Path) -> Result<(), String> {
    let fuzz = top.join("fuzz");
    cargo(top, &["fmt", "--all", "--check"], &[])?;
    cargo(&fuzz, &["fmt", "--check"], &[])?;
    check(top)?;
    cargo(top, &["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"], &[])?;
    // Its profile and its versions are those of the workspace, so that most of it has just been checked.
    cargo(&fuzz, &["check"], &[("CARGO_TARGET_DIR", "../target")])?;
    // The README's own command. Many tests wait for others, a cluster for one: more at once than there are processors.
    let at_once = std::thread::available_parallelism().map_or(1, |n| n.get()).max(4).to_string();
    cargo(top, &["test", "--workspace"], &[("RUST_TEST_THREADS", &at_once)])
}

fn check(top: &Path) -> Result<(), String> {
    let mut wrong = Vec::new();
    for folder in ["crates", "xtask", "fuzz/targets"] {
        for file in house::sources(&top.join(folder)) {
            let lines = fs::read_to_string(&file).unwrap_or_default().lines().count();
            if lines > LONGEST {
                wrong.push(format!("{}: {lines} lines, {LONGEST} are the most", file.strip_prefix(top).unwrap_or(&file).display()));
            }
        }
    }
    let (knows, against) = house::look(top);
    wrong.extend(against);
    let page = fs::read_to_string(top.join(PAGE)).unwrap_or_default();
    if drawn_into(&page, &house::picture(&knows)).as_deref() != Some(page.as_str()) {
        wrong.push(format!("{PAGE}: the picture is not that of the code: `cargo xtask picture` draws it anew"));
    }
    wrong.extend(supply::look(top)?);
    if wrong.is_empty() { Ok(()) } else { Err(wrong.join("\n")) }
}

fn draw(top: &Path) -> Result<(), String> {
    let path = top.join(PAGE);
    let page = fs::read_to_string(&path).map_err(|e| format!("{PAGE} cannot be read: {e}"))?;
    let drawn = drawn_into(&page, &house::picture(&house::look(top).0)).ok_or(format!("{PAGE} has no place for the picture"))?;
    fs::write(&path, drawn).map_err(|e| format!("{PAGE} cannot be written: {e}"))
}

fn drawn_into(page: &str, picture: &str) -> Option<String> {
    let (before, rest) = page.split_once(FROM)?;
    let (_, after) = rest.split_once(TO)?;
    Some(format!("{before}{FROM}{picture}{TO}{after}"))
}
