//! A git repository for a project that is begun here: commit and code belong to its story.

use std::path::Path;
use std::process::{Command, Stdio};

/// Runs git in a folder with nothing of the person's own settings, hooks or prompts; whether it succeeded.
fn git(folder: &Path, words: &[&str]) -> bool {
    let mut command = Command::new("git");
    command.args(["-c", "core.hooksPath=/dev/null", "-c", "commit.gpgsign=false"]).args(words).current_dir(folder);
    // A repository that surrounds this process, a hook's for example, is another one.
    for variable in ["GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE"] {
        command.env_remove(variable);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.status().is_ok_and(|status| status.success())
}

/// Whether a folder lies in a repository, its own or one around it.
pub fn is_in_one(folder: &Path) -> bool {
    folder.ancestors().any(|above| above.join(".git").symlink_metadata().is_ok())
}

/// Makes a folder a repository of its own; whether it is one now. Without git it is none.
pub fn begin(folder: &Path) -> bool {
    git(folder, &["init", "--quiet", "--template=", "--initial-branch=main"])
}

/// Commits everything that is not ignored, by this person unless the repository knows another one.
pub fn commit(folder: &Path, message: &str, name: &str, mail: &str) -> bool {
    git(folder, &["config", "user.name", name])
        && git(folder, &["config", "user.email", mail])
        && git(folder, &["add", "--all"])
        && git(folder, &["commit", "--quiet", "--message", message])
}
