//! Sealing by Landlock: what is not allowed cannot be opened, made or connected to.
//!
//! Source: the kernel's `userspace-api/landlock`.

use std::path::Path;

use landlock::{
    ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, PathBeneath, PathFd, Ruleset, RulesetAttr, RulesetCreatedAttr,
    RulesetStatus,
};

use super::names::from_text;
use super::record::Seal;

/// The oldest version of Landlock that can refuse connections (Linux 6.7); an older one refuses less.
const NEWEST: ABI = ABI::V4;

/// What a file says of what may be done.
pub fn read(file: &Path) -> Result<Seal, String> {
    let text = std::fs::read(file).map_err(|e| format!("{}: {e}", file.display()))?;
    serde_json::from_slice(&text).map_err(|e| format!("{}: {e}", file.display()))
}

/// Whether this kernel can seal at all.
pub fn is_possible() -> bool {
    let rules = Ruleset::default().set_compatibility(CompatLevel::HardRequirement).handle_access(AccessFs::from_all(ABI::V1));
    rules.and_then(|r| r.create()).is_ok()
}

/// Seals this process by what a file says. An error where the kernel cannot: never half a seal in silence.
pub fn apply(file: &Path) -> Result<(), String> {
    let seal = read(file)?;
    let status = restrict(&seal).map_err(|e| format!("it cannot be sealed: {e}"))?;
    match status {
        RulesetStatus::FullyEnforced | RulesetStatus::PartiallyEnforced => Ok(()),
        RulesetStatus::NotEnforced => Err("it cannot be sealed: this kernel has no Landlock".to_string()),
    }
}

fn restrict(seal: &Seal) -> Result<RulesetStatus, landlock::RulesetError> {
    let all = AccessFs::from_all(NEWEST);
    let read = AccessFs::from_read(NEWEST);
    let mut rules = Ruleset::default()
        .set_compatibility(CompatLevel::BestEffort)
        .handle_access(all)?
        .handle_access(AccessNet::ConnectTcp)?
        .create()?;
    for (paths, access) in [(&seal.read, read), (&seal.write, all)] {
        for path in paths {
            // What is not there cannot be read either way.
            let path = from_text(path);
            let Ok(fd) = PathFd::new(&path) else { continue };
            let access = if path.is_dir() { access } else { access & AccessFs::from_file(NEWEST) };
            rules = rules.add_rule(PathBeneath::new(fd, access))?;
        }
    }
    Ok(rules.restrict_self()?.ruleset)
}
