//! Sealing: what is not allowed cannot be opened, made or connected to.
//!
//! Landlock refuses files; a network, and memory shared between processes, of its own keep everybody else's out. Where the
//! system gives none of these, Landlock refuses connections by TCP, and the tracer tells all other ones.
//!
//! Sources: the kernel's `userspace-api/landlock`, `namespaces(7)`, `rtnetlink(7)`.

use std::fs;
use std::path::Path;

use landlock::{
    ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, PathBeneath, PathFd, Ruleset, RulesetAttr, RulesetCreatedAttr,
    RulesetStatus,
};

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::unistd::{Pid, getegid, geteuid};
use rustix::net::{AddressFamily, SendFlags, SocketFlags, SocketType, send, socket_with};
use textum_base::fsio;

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
    let isolated = isolate().is_ok();
    let status = restrict(&seal, isolated).map_err(|e| format!("it cannot be sealed: {e}"))?;
    match status {
        RulesetStatus::FullyEnforced | RulesetStatus::PartiallyEnforced => Ok(()),
        RulesetStatus::NotEnforced => Err("it cannot be sealed: this kernel has no Landlock".to_string()),
    }
}

/// Whether a process that was sealed has a network of its own.
pub fn is_isolated(process: Pid) -> bool {
    let network = |of: &str| fs::read_link(format!("/proc/{of}/ns/net")).ok();
    let own = network("self");
    own.is_some() && network(&process.to_string()).is_some_and(|other| Some(other) != own)
}

/// Takes file systems, memory shared between processes and a network of its own for this process, in this order: who has
/// the network has all of them. Its own processes reach one another at the addresses of this machine.
fn isolate() -> Result<(), String> {
    let (user, group) = (geteuid(), getegid());
    let own = CloneFlags::CLONE_NEWNS | CloneFlags::CLONE_NEWIPC;
    if unshare(own).is_err() {
        unshare(own | CloneFlags::CLONE_NEWUSER).map_err(|e| e.to_string())?;
        // Nobody else's rights come with it: it stays who it is.
        for (file, text) in
            [("uid_map", format!("{user} {user} 1")), ("setgroups", "deny".to_string()), ("gid_map", format!("{group} {group} 1"))]
        {
            fsio::overwrite(Path::new("/proc/self").join(file).as_path(), text.as_bytes()).map_err(|e| e.to_string())?;
        }
    }
    let nothing = None::<&str>;
    mount(nothing, "/", nothing, MsFlags::MS_REC | MsFlags::MS_PRIVATE, nothing).map_err(|e| e.to_string())?;
    if Path::new("/dev/shm").is_dir() {
        let safe = MsFlags::MS_NOSUID | MsFlags::MS_NODEV;
        mount(Some("tmpfs"), "/dev/shm", Some("tmpfs"), safe, Some("mode=1777")).map_err(|e| e.to_string())?;
    }
    unshare(CloneFlags::CLONE_NEWNET).map_err(|e| e.to_string())?;
    loopback_up().map_err(|e| e.to_string())
}

/// Switches on the interface by which the processes of a machine reach one another: it is off in a new network.
fn loopback_up() -> rustix::io::Result<()> {
    const LENGTH: u32 = 32;
    const NEW_LINK: u16 = 16;
    const REQUEST: u16 = 1;
    const FIRST: u32 = 1;
    const UP: u32 = 1;
    let words = |parts: &[u32]| parts.iter().flat_map(|word| word.to_ne_bytes()).collect::<Vec<u8>>();
    // The message's header (length, type and flags, number, sender), then the interface's (family, index, flags, which flags).
    let kind = [NEW_LINK.to_ne_bytes(), REQUEST.to_ne_bytes()].concat();
    let message = [words(&[LENGTH]), kind, words(&[0, 0]), words(&[0, FIRST, UP, UP])].concat();
    let socket = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, None)?;
    send(&socket, &message, SendFlags::empty()).map(drop)
}

fn restrict(seal: &Seal, isolated: bool) -> Result<RulesetStatus, landlock::RulesetError> {
    let all = AccessFs::from_all(NEWEST);
    let read = AccessFs::from_read(NEWEST);
    let mut rules = Ruleset::default().set_compatibility(CompatLevel::BestEffort).handle_access(all)?;
    if !isolated {
        rules = rules.handle_access(AccessNet::ConnectTcp)?;
    }
    let mut rules = rules.create()?;
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
