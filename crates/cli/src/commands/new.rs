//! `textum new`.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use textum_core::config::manifest::manifest_schema;
use textum_core::fsio::IoError;

use super::demo::put;
use super::{here, repository};
use crate::args::Global;
use crate::demo::{BARE, Files, TABULAR};
use crate::failure::Failure;
use crate::ui::Ui;

/// What `textum new` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum new                          here, a project with one stage\n  textum new looms --template tabular  a model on a table, from split to scores\n\nIn a folder that holds files already, only what is missing is added; nothing is overwritten.\nWhere no git repository is, one is begun; nothing is committed."
)]
pub struct NewArgs {
    /// The folder of the project
    #[arg(value_name = "DIR", default_value = ".", value_hint = clap::ValueHint::DirPath)]
    folder: PathBuf,
    /// What to begin with
    #[arg(long, value_name = "NAME", default_value = "bare")]
    template: Template,
    /// Without a git repository
    #[arg(long)]
    no_git: bool,
}

/// What a project can begin with.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Template {
    /// One stage, in shell.
    Bare,
    /// A tabular model, from table to scores, in Python's standard library.
    Tabular,
}

/// Lines that git should not see.
const IGNORED: [&str; 3] = ["/data/", "/build/", "__pycache__/"];

/// Begins a project.
pub fn run(global: &Global, args: &NewArgs, ui: &Ui) -> Result<u8, Failure> {
    let root = here(global).join(&args.folder);
    textum_core::fsio::create_folder(&root)?;
    let full = std::fs::canonicalize(&root).map_err(IoError::of("open the folder", &root))?;
    let name = full.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_else(|| "project".into());
    let files: Files = match args.template {
        Template::Bare => BARE,
        Template::Tabular => TABULAR,
    };
    // A manifest of the user's own has its own stages: only what belongs to any project is added then.
    let has_manifest = full.join("textum.toml").exists();
    let (mut added, mut kept) = (Vec::new(), Vec::new());
    let mut add = |path: &str, text: &str| -> Result<(), Failure> {
        if full.join(path).symlink_metadata().is_ok() {
            kept.push(path.to_string());
        } else {
            put(&full.join(path), text)?;
            added.push(path.to_string());
        }
        Ok(())
    };
    for (path, text) in files.iter().filter(|(path, _)| !has_manifest || *path == "textum.toml") {
        add(path, &text.replace("\"NAME\"", &toml_string(&name)))?;
    }
    add("textum.schema.json", &serde_json::to_string_pretty(&manifest_schema()).unwrap_or_default())?;
    if ignore(&full)? {
        added.push(".gitignore".into());
    }
    if !args.no_git && !repository::is_in_one(&full) && repository::begin(&full) {
        added.push(".git".into());
    }
    let mut out = String::new();
    for path in &added {
        out.push_str(&format!("  {} {path}\n", ui.style.good("+")));
    }
    for path in &kept {
        out.push_str(&format!("  {} {path}\n", ui.style.dim("kept as it is:")));
    }
    ui.result(&format!(
        "{} in {}\n\n{out}\nnext: `textum plan`, then `textum run`",
        ui.style.bold("a project"),
        args.folder.display()
    ));
    Ok(0)
}

fn toml_string(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// Adds the lines that are missing in `.gitignore`; says whether there were any.
fn ignore(root: &Path) -> Result<bool, Failure> {
    let path = root.join(".gitignore");
    let text = match std::fs::read_to_string(&path) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => String::new(),
        other => other.map_err(IoError::of("read", &path))?,
    };
    let plain = |line: &str| line.trim().trim_matches('/').to_string();
    let missing: Vec<&str> = IGNORED.into_iter().filter(|l| !text.lines().any(|t| plain(t) == plain(l))).collect();
    if missing.is_empty() {
        return Ok(false);
    }
    let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
    let new = format!("{text}{gap}{}\n", missing.join("\n"));
    textum_core::fsio::overwrite(&path, new.as_bytes())?;
    Ok(true)
}
