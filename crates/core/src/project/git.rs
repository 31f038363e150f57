//! The state of the git repository that a project lies in, through git's command line.

use std::path::Path;
use std::process::{Command, Stdio};

use crate::record::receipt::GitState;

fn git(folder: &Path, words: &[&str]) -> Option<String> {
    let output = Command::new("git")
        .args(["-c", "core.fsmonitor=false", "--no-optional-locks"])
        .args(words)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stderr(Stdio::null())
        .output()
        .ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim_end().to_string())
}

/// Commit, branch, and whether tracked files of the project differ from the commit. `None` without git,
/// in a repository that does not track the project's manifest, or before the first commit.
pub fn git_state(project: &Path) -> Option<GitState> {
    // Cheap test first: most of the cost of asking git is starting it.
    project.ancestors().find(|a| a.join(".git").exists())?;
    // A project that merely lies in somebody's repository, untracked or ignored, is not told by its commit.
    git(project, &["ls-files", "--error-unmatch", "--", crate::config::manifest::MANIFEST_NAME])?;
    let commit = git(project, &["rev-parse", "--verify", "HEAD"])?;
    let branch = git(project, &["symbolic-ref", "--quiet", "--short", "HEAD"]);
    // Textum's own receipt changes with every run: it says nothing of the code.
    let changed = git(project, &["status", "--porcelain", "--untracked-files=no", "--", ".", ":(exclude)*textum.receipt.json"]);
    Some(GitState { commit, branch, dirty: changed.is_some_and(|text| !text.is_empty()) })
}

/// A file of the project as the last commit has it.
pub fn git_show(project: &Path, file: &str) -> Option<String> {
    project.ancestors().find(|a| a.join(".git").exists())?;
    git(project, &["show", &format!("HEAD:./{file}")])
}

/// Whether a folder lies in a git repository.
pub fn in_git(folder: &Path) -> bool {
    folder.ancestors().any(|a| a.join(".git").exists())
}

/// Whether a path is in any commit of the repository that a folder lies in.
pub fn was_committed(folder: &Path, path: &str) -> bool {
    in_git(folder) && git(folder, &["log", "--all", "-1", "--format=%h", "--", path]).is_some_and(|found| !found.is_empty())
}

/// Whether git, asked in a folder, says yes.
pub fn git_says(folder: &Path, words: &[&str]) -> bool {
    git(folder, words).is_some()
}

/// A setting of git's, as it holds in a folder; `~/` in it stands for the home folder.
pub fn git_setting(folder: &Path, name: &str) -> Option<String> {
    git(folder, &["config", "--type=path", "--get", name]).filter(|value| !value.is_empty())
}
