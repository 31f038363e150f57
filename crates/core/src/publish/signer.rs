//! Whose key signs.

use std::path::{Path, PathBuf};

use textum_registry::{KeyError, Signer};

use crate::project::git::git_setting;

/// The variable with the key that signs.
pub const KEY_VARIABLE: &str = "TEXTUM_KEY";

/// The key that signs: the one named; else that of `TEXTUM_KEY`; else the one that git signs with, where that is an SSH key.
/// None: entries are unsigned.
pub fn find_signer(named: Option<&str>, folder: &Path, variables: &[(String, String)]) -> Result<Option<Signer>, KeyError> {
    let variable = |name: &str| variables.iter().find(|(n, v)| n == name && !v.trim().is_empty()).map(|(_, v)| v.clone());
    let agent = variable("SSH_AUTH_SOCK").map(PathBuf::from);
    if let Some(word) = named.map(str::to_string).or_else(|| variable(KEY_VARIABLE)) {
        return Signer::named(&word, agent.as_deref()).map(Some);
    }
    let Some(word) = git_setting(folder, "user.signingkey") else { return Ok(None) };
    let by_ssh = git_setting(folder, "gpg.format").is_some_and(|format| format == "ssh");
    let looks_like_one = word.starts_with("key::") || word.starts_with("ssh-") || word.contains('/');
    // The key of another kind of signature is nothing for us.
    if by_ssh || looks_like_one { Signer::named(&word, agent.as_deref()).map(Some) } else { Ok(None) }
}
