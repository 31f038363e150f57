//! Machines that are rented: each stands in a file from before it is begun until it is given back, so that none is forgotten.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::engine::{Fault, ask_for, words};
use crate::config::manifest::{MachineDecl, shell_word};
use crate::fsio::{self, FileLock, IoError, TryLock};

/// In Textum's folder: a file for each machine that is held.
const HELD: &str = "held";

/// So often it is looked whether renting was given up.
const LOOK_AGAIN: Duration = Duration::from_millis(50);
/// So long giving a machine back may take.
const LONGEST_END: Duration = Duration::from_secs(600);

/// A machine that is held.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldMachine {
    /// The place.
    pub place: String,
    /// What it was rented as, which no other is.
    pub hold: String,
    /// Its address; none as long as it is not known.
    pub address: Option<String>,
    /// Its host keys, as they were told.
    pub keys: Vec<String>,
    /// Since when, RFC 3339 in UTC.
    pub since: String,
    /// What gives it back, as the manifest said when it was rented.
    pub end: String,
    /// The process that rents it, as long as it does.
    pub process: Option<u32>,
}

impl HeldMachine {
    /// How long it has been held.
    pub fn held_for(&self) -> Duration {
        let since = self.since.parse::<jiff::Timestamp>().ok();
        let held = since.map(|since| textum_base::clock::now().duration_since(since));
        held.and_then(|d| Duration::try_from(d).ok()).unwrap_or_default()
    }
}

fn folder(state: &Path) -> PathBuf {
    state.join(HELD)
}

fn file(state: &Path, place: &str) -> PathBuf {
    folder(state).join(format!("{place}.json"))
}

/// All machines that are held, by a project's own files.
pub fn held_machines(state: &Path) -> Vec<HeldMachine> {
    let entries = std::fs::read_dir(folder(state)).into_iter().flatten().flatten();
    let files = entries.map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "json"));
    let mut found: Vec<HeldMachine> = files.filter_map(|p| serde_json::from_slice(&std::fs::read(p).ok()?).ok()).collect();
    found.sort_by(|a, b| a.place.cmp(&b.place));
    found
}

fn save(state: &Path, held: &HeldMachine) -> Result<(), IoError> {
    let path = file(state, &held.place);
    let text = serde_json::to_vec_pretty(held).map_err(|e| IoError::of("write", &path)(e.into()))?;
    fsio::write_atomic(&path, &text)
}

/// Says that this process uses a machine, as long as it is held.
pub fn use_of(state: &Path, place: &str) -> Result<Option<FileLock>, IoError> {
    fsio::create_folder(&folder(state))?;
    let path = folder(state).join(format!("{place}.used"));
    drop(fsio::append(&path)?);
    FileLock::shared(&path)
}

/// The machine of a place: the one that is held, or one that is rented now, unless that is given up.
pub fn hold(state: &Path, place: &str, decl: &MachineDecl, given_up: &AtomicBool) -> Result<HeldMachine, Fault> {
    let refused = |e: IoError| Fault::Refused(e.to_string());
    fsio::create_folder(&folder(state)).map_err(refused)?;
    let _one = FileLock::exclusive(&folder(state).join(format!("{place}.lock"))).map_err(refused)?;
    if let Some(held) = held_machines(state).into_iter().find(|h| h.place == place) {
        if held.address.is_some() {
            return Ok(held);
        }
        // It was being rented when Textum was lost: what came of that nobody knows.
        give_back(state, &held)?;
    }
    let (Some(begin), Some(end)) = (&decl.begin, &decl.end) else {
        return Err(Fault::Refused("it has no address, and nothing that rents one".into()));
    };
    let since = textum_base::clock::now().to_string();
    let hold = format!("textum-{:012x}", rand::random::<u64>() >> 16);
    let mut held = HeldMachine {
        place: place.to_string(),
        hold: hold.clone(),
        address: None,
        keys: Vec::new(),
        since,
        end: end.clone(),
        process: None,
    };
    save(state, &held).map_err(refused)?;
    let mut command = Command::new("/bin/sh");
    command.args(["-c", &begin.replace("{hold}", &shell_word(&hold)), &hold]);
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    std::os::unix::process::CommandExt::process_group(&mut command, 0);
    let child = command.spawn().map_err(|e| Fault::Refused(format!("/bin/sh cannot be started: {e}")))?;
    held.process = Some(child.id());
    save(state, &held).map_err(refused)?;
    given_up.store(false, Ordering::SeqCst);
    let (done, over) = std::sync::mpsc::channel();
    std::thread::spawn(move || done.send(child.wait_with_output()));
    let output = loop {
        match over.recv_timeout(LOOK_AGAIN) {
            Ok(output) => break output.map_err(|e| Fault::Refused(e.to_string()))?,
            Err(_) if !given_up.swap(false, Ordering::SeqCst) => {}
            Err(_) => {
                // What it had rented by then is given back by its name.
                let after = give_back(state, &held).err().map(|e| format!("; and it may be held: {}", e.words()));
                return Err(Fault::Silent(format!("its renting was given up{}", after.unwrap_or_default())));
            }
        }
    };
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let mut lines = said.lines().map(str::trim).filter(|l| !l.is_empty());
    let address = lines.next().filter(|a| !a.starts_with('-') && !a.contains(char::is_whitespace)).map(str::to_string);
    let Some(address) = address.filter(|_| output.status.success()) else {
        let why = String::from_utf8_lossy(&output.stderr);
        let why: Vec<&str> = why.lines().map(str::trim).filter(|l| !l.is_empty()).take(10).collect();
        let what = if output.status.success() { "printed no address".to_string() } else { format!("ended with {}", output.status) };
        // Whatever it has rented all the same is given back.
        let after = give_back(state, &held).err().map(|e| format!("; and it is still held: {}", e.words())).unwrap_or_default();
        return Err(Fault::Refused(format!("`begin` {what}: {}{after}", why.join("; "))));
    };
    held.address = Some(address);
    held.keys = lines.filter(|l| l.len() < 10_000).map(str::to_string).collect();
    held.process = None;
    save(state, &held).map_err(refused)?;
    Ok(held)
}

/// A file of the keys that a held machine must have, as ssh reads it; none where `begin` told none.
pub fn known_hosts(state: &Path, held: &HeldMachine) -> Result<Option<PathBuf>, IoError> {
    if held.keys.is_empty() {
        return Ok(None);
    }
    let path = folder(state).join(format!("{}.hosts", held.place));
    let text: String = held.keys.iter().map(|key| format!("* {key}\n")).collect();
    fsio::write_derived(&path, text.as_bytes())?;
    Ok(Some(path))
}

/// Gives a machine back; it stands in its file until that has succeeded.
fn give_back(state: &Path, held: &HeldMachine) -> Result<(), Fault> {
    if let Some(process) = held.process.and_then(|p| i32::try_from(p).ok()).and_then(rustix::process::Pid::from_raw) {
        // What still rents it would have it after it was given back. Another process may bear its number by now.
        let line = std::fs::read(format!("/proc/{}/cmdline", process.as_raw_nonzero())).unwrap_or_default();
        if String::from_utf8_lossy(&line).contains(&held.hold) {
            let _ = rustix::process::kill_process_group(process, rustix::process::Signal::KILL);
        }
    }
    let order = held.end.replace("{hold}", &shell_word(&held.hold));
    let order = order.replace("{address}", &shell_word(held.address.as_deref().unwrap_or_default()));
    let mut all = words(&["/bin/sh", "-c"]);
    all.push(order);
    ask_for(&all, None, LONGEST_END, &|_| true).map_err(|e| Fault::Refused(format!("`end` did not succeed: {}", e.words())))?;
    let place = &held.place;
    for name in [format!("{place}.hosts"), format!("{place}.json")] {
        fsio::remove_any(&folder(state).join(name)).map_err(|e| Fault::Refused(e.to_string()))?;
    }
    Ok(())
}

/// What became of a machine that was to be given back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Released {
    /// None was held.
    Nothing,
    /// A run uses it.
    InUse(HeldMachine),
    /// It is given back.
    GivenBack(HeldMachine),
}

/// Gives the machine of a place back unless a run uses it. An error says why it is still held.
pub fn release_machine(state: &Path, place: &str) -> Result<Released, String> {
    release(state, place).map_err(|e| e.words().to_string())
}

/// See [`release_machine`].
pub fn release(state: &Path, place: &str) -> Result<Released, Fault> {
    let Some(held) = held_machines(state).into_iter().find(|h| h.place == place) else { return Ok(Released::Nothing) };
    let refused = |e: IoError| Fault::Refused(e.to_string());
    let used = folder(state).join(format!("{place}.used"));
    let _alone = match FileLock::try_exclusive(&used).map_err(refused)? {
        TryLock::Taken(lock) => lock,
        TryLock::Held | TryLock::Absent => return Ok(Released::InUse(held)),
    };
    give_back(state, &held)?;
    Ok(Released::GivenBack(held))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods)]

    use super::*;

    fn decl(folder: &Path, begin: &str) -> MachineDecl {
        MachineDecl {
            options: Vec::new(),
            depot: None,
            address: None,
            folder: "x".into(),
            begin: Some(begin.replace("DIR", &folder.display().to_string())),
            end: Some(format!("echo {{hold}} {{address}} >> {}/ended", folder.display())),
            lease: None,
            lapse: None,
        }
    }

    fn ended(folder: &Path) -> Vec<String> {
        let text = std::fs::read_to_string(folder.join("ended")).unwrap_or_default();
        text.lines().map(str::to_string).collect()
    }

    const RENTS: &str = "echo {hold} >> DIR/begun; echo loom@10.0.0.7; echo 'ssh-ed25519 AAAA'";

    #[test]
    fn a_machine_is_held_once_and_given_back_when_nobody_uses_it() {
        let folder = tempfile::tempdir().unwrap();
        let (state, decl) = (folder.path().join("state"), decl(folder.path(), RENTS));
        let first = hold(&state, "box", &decl, &AtomicBool::new(false)).unwrap();
        assert_eq!((first.address.as_deref(), first.keys.len()), (Some("loom@10.0.0.7"), 1));
        // Who comes next has the same.
        assert_eq!(hold(&state, "box", &decl, &AtomicBool::new(false)).unwrap(), first);
        assert_eq!(std::fs::read_to_string(folder.path().join("begun")).unwrap().lines().count(), 1);
        let hosts = known_hosts(&state, &first).unwrap().unwrap();
        assert_eq!(std::fs::read_to_string(hosts).unwrap(), "* ssh-ed25519 AAAA\n");
        let used = use_of(&state, "box").unwrap();
        assert!(matches!(release(&state, "box"), Ok(Released::InUse(_))));
        drop(used);
        assert!(matches!(release(&state, "box"), Ok(Released::GivenBack(_))));
        assert_eq!(ended(folder.path()), [format!("{} loom@10.0.0.7", first.hold)]);
        assert!(matches!(release(&state, "box"), Ok(Released::Nothing)) && held_machines(&state).is_empty());
    }

    #[test]
    fn one_whose_renting_was_cut_off_is_given_back_by_its_name() {
        let folder = tempfile::tempdir().unwrap();
        let (state, decl) = (folder.path().join("state"), decl(folder.path(), RENTS));
        // As it stands when Textum was killed while `begin` was at work.
        let cut = HeldMachine {
            place: "box".into(),
            hold: "textum-000000000001".into(),
            address: None,
            keys: Vec::new(),
            since: "2026-11-27T12:00:00Z".into(),
            end: decl.end.clone().unwrap(),
            process: Some(std::process::id()),
        };
        fsio::create_folder(&super::folder(&state)).unwrap();
        save(&state, &cut).unwrap();
        let held = hold(&state, "box", &decl, &AtomicBool::new(false)).unwrap();
        assert_ne!(held.hold, cut.hold);
        // This process has the number that stood there, and is none that rents: it lives.
        assert_eq!(ended(folder.path()), ["textum-000000000001 "], "and it was given back before another was rented");
    }

    #[test]
    fn what_stands_in_its_file_is_checked_and_an_end_that_fails_keeps_it() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join("state");
        let mut decl = decl(folder.path(), RENTS);
        decl.end = Some(format!("[ -e {}/may-end ]", folder.path().display()));
        hold(&state, "box", &decl, &AtomicBool::new(false)).unwrap();
        assert!(release(&state, "box").unwrap_err().words().contains("`end` did not succeed"));
        assert_eq!(held_machines(&state).len(), 1);
        std::fs::write(folder.path().join("may-end"), "").unwrap();
        assert!(matches!(release(&state, "box"), Ok(Released::GivenBack(_))));
        for text in ["", "{", "[1]", "{\"place\": 1}", "\u{0}\u{1}"] {
            std::fs::write(file(&state, "box"), text).unwrap();
            assert!(held_machines(&state).is_empty(), "{text:?}");
        }
    }
}
