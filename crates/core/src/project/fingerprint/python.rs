//! The Python interpreter's version and installed packages, without starting it at every look.
//!
//! What it said is kept with the metadata of everything it depends on: the interpreter, the virtual
//! environment's settings, and the folders that packages are installed in, whose own times change when
//! a package comes, goes or is replaced.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde::{Deserialize, Serialize};

use super::installed::read_environment;
use super::stat::{Stat, now_nanos};
use crate::fsio::{self, IoError};
use crate::record::receipt::PythonRecord;
use crate::store::Digest;

/// Whether an interpreter that lies in the project may be started: by what executes stages, never by a look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MayStart {
    /// Whatever the manifest names.
    Anything,
    /// Only what lies outside of the project.
    NothingOfTheProject,
}

/// Why the interpreter could not be asked.
#[derive(Debug, thiserror::Error)]
pub enum PythonError {
    /// There is no such command.
    #[error("the interpreter `{0}` of [environment] is not there")]
    NotFound(String),
    /// It lies in the project and has not been started by a run yet.
    #[error("the interpreter `{0}` lies in the project: what it is and has installed is not known before a run has started it")]
    InProject(String),
    /// It did not answer as expected.
    #[error("the interpreter `{command}` did not tell its packages: {what}")]
    NoAnswer {
        /// The command.
        command: String,
        /// What it said instead.
        what: String,
    },
}

const ASK: &str = r#"
import json, platform, re, sys
from importlib import metadata
found = {}
for d in metadata.distributions():
    name = d.metadata["Name"]
    if name:
        found.setdefault(re.sub(r"[-_.]+", "-", name).lower(), d.version)
json.dump({"version": platform.python_implementation() + " " + platform.python_version(),
           "packages": found, "path": sys.path, "prefix": [sys.prefix, sys.base_prefix],
           "executable": sys.executable}, sys.stdout)
"#;

#[derive(Deserialize)]
struct Answer {
    version: String,
    packages: BTreeMap<String, String>,
    path: Vec<String>,
    prefix: Vec<String>,
    executable: String,
}

#[derive(Serialize, Deserialize)]
struct Kept {
    record: PythonRecord,
    stamps: Vec<(PathBuf, Option<Stamp>)>,
}

#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct Stamp {
    size: u64,
    mtime: i64,
    ctime: i64,
    inode: u64,
}

fn stamp(path: &Path) -> Option<Stamp> {
    let stat = Stat::of(&fs::metadata(path).ok()?);
    Some(Stamp { size: stat.size, mtime: stat.mtime, ctime: stat.ctime, inode: stat.inode })
}

/// Finds a command as a shell would, on the given search path.
pub fn find_command(command: &str, search: &str, folder: &Path) -> Option<PathBuf> {
    let executable = |path: &Path| {
        use std::os::unix::fs::PermissionsExt;
        fs::metadata(path).is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o111 != 0)
    };
    if command.contains('/') {
        let path = folder.join(command);
        return executable(&path).then_some(path);
    }
    search.split(':').filter(|p| !p.is_empty()).map(|p| Path::new(p).join(command)).find(|p| executable(p))
}

/// What the interpreter is and has installed; asked only when something it depends on has changed.
/// `variables` are those that a stage would have; `cache` the folder to remember the answer in.
pub fn python(
    command: &str,
    folder: &Path,
    variables: &[(String, String)],
    cache: Option<&Path>,
    may: MayStart,
) -> Result<PythonRecord, PythonError> {
    let search = variables.iter().find(|(name, _)| name == "PATH").map_or("", |(_, value)| value.as_str());
    let executable = find_command(command, search, folder).ok_or_else(|| PythonError::NotFound(command.to_string()))?;
    let relevant = |name: &str| name.starts_with("PYTHON") || matches!(name, "VIRTUAL_ENV" | "CONDA_PREFIX" | "HOME");
    let said: Vec<_> = variables.iter().filter(|(name, _)| relevant(name)).collect();
    let name = Digest::of(format!("{command}\0{}\0{said:?}", executable.display()).as_bytes());
    let kept_at = cache.map(|c| c.join(format!("python-{}.json", &name.hex()[..16])));
    if let Some(kept) = kept_at.as_deref().and_then(recall) {
        return Ok(kept);
    }
    if may == MayStart::NothingOfTheProject && lies_in(&executable, folder) {
        return read_environment(command, &executable).ok_or_else(|| PythonError::InProject(command.to_string()));
    }
    let observed = now_nanos();
    let answer = ask(command, &executable, folder, variables, may)?;
    let mut watched = vec![executable.clone(), fs::canonicalize(&executable).unwrap_or(executable)];
    watched.extend(answer.prefix.iter().map(|p| Path::new(p).join("pyvenv.cfg")));
    watched.extend(answer.path.iter().filter(|p| !p.is_empty()).map(PathBuf::from));
    // The folder of the project itself changes all the time, and says nothing of packages.
    watched.retain(|p| p != folder);
    let record = PythonRecord {
        command: command.to_string(),
        executable: answer.executable,
        version: answer.version,
        packages: answer.packages,
    };
    let stamps: Vec<_> = watched.into_iter().map(|p| (p.clone(), stamp(&p))).collect();
    let settled = stamps.iter().all(|(_, s)| s.is_none_or(|s| s.ctime.max(s.mtime) < observed - 2_000_000_000));
    if let (Some(path), true) = (kept_at, settled)
        && let Ok(text) = serde_json::to_vec(&Kept { record: record.clone(), stamps })
    {
        let _ = fsio::write_derived(&path, &text);
    }
    Ok(record)
}

/// Whether a program is a file of the project, by its name or by where that leads.
fn lies_in(executable: &Path, project: &Path) -> bool {
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    let real = |path: &Path| fs::canonicalize(path).unwrap_or_else(|_| whole(path));
    let by_name = executable.parent().map(real).unwrap_or_default();
    let project = real(project);
    by_name.starts_with(&project) || real(executable).starts_with(&project)
}

/// The folders of `PYTHONPATH`, relative ones seen from the project; without those of the project itself where
/// nothing of it may be started.
fn module_path(value: &str, project: &Path, may: MayStart) -> String {
    let folders = value.split(':').filter(|p| !p.is_empty()).map(|p| project.join(p));
    let kept = folders.filter(|p| may == MayStart::Anything || !lies_in(&p.join("x"), project));
    kept.map(|p| p.display().to_string()).collect::<Vec<_>>().join(":")
}

fn recall(path: &Path) -> Option<PythonRecord> {
    let kept: Kept = serde_json::from_slice(&fs::read(path).ok()?).ok()?;
    kept.stamps.iter().all(|(path, then)| stamp(path) == *then).then_some(kept.record)
}

fn ask(
    command: &str,
    executable: &Path,
    folder: &Path,
    variables: &[(String, String)],
    may: MayStart,
) -> Result<Answer, PythonError> {
    let no_answer = |what: String| PythonError::NoAnswer { command: command.to_string(), what };
    let executable = &std::path::absolute(executable).unwrap_or_else(|_| executable.to_path_buf());
    let value = |name: &str, value: &str| if name == "PYTHONPATH" { module_path(value, folder, may) } else { value.to_string() };
    let output = Command::new(executable)
        .args(["-c", ASK])
        // Not in the project: modules of its own, named like those that are asked with, would be executed.
        .current_dir("/")
        .env_clear()
        .envs(variables.iter().map(|(k, v)| (k, value(k, v))))
        .stdin(Stdio::null())
        .output()
        .map_err(|e| no_answer(IoError::of("start", executable)(e).to_string()))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        return Err(no_answer(said.lines().last().unwrap_or("it exited with an error").to_string()));
    }
    serde_json::from_slice(&output.stdout).map_err(|e| no_answer(e.to_string()))
}
