//! Locks and whole files among several processes: this test starts itself anew as another one.
#![allow(clippy::disallowed_methods, clippy::print_stdout, clippy::unwrap_used, missing_docs)]

use std::collections::BTreeSet;
use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdout, Command, Stdio};

use textum_base::fsio::{self, FileLock, TryLock};

/// What another process is to do; it says a line when it has begun, and ends when its input does.
const ROLE: &str = "TEXTUM_TEST_ROLE";

struct Other {
    child: Child,
    out: BufReader<ChildStdout>,
}

impl Other {
    /// Starts this test once more, as that process alone.
    fn start(role: &str, path: &Path) -> Other {
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(["another_process", "--exact", "--nocapture", "--test-threads=1"])
            .env(ROLE, format!("{role} {}", path.display()))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let out = BufReader::new(child.stdout.take().unwrap());
        let mut other = Other { child, out };
        assert_eq!(other.hear(), "ready");
        other
    }

    fn hear(&mut self) -> String {
        loop {
            let mut line = String::new();
            assert!(self.out.read_line(&mut line).unwrap() > 0, "it ended without a word");
            if let Some((_, said)) = line.trim().split_once("said:") {
                return said.to_string();
            }
        }
    }

    fn end(mut self) {
        drop(self.child.stdin.take());
        assert!(self.child.wait().unwrap().success());
    }

    fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

fn say(text: &str) {
    println!("said:{text}");
    std::io::stdout().flush().unwrap();
}

fn until_told() {
    let _ = std::io::stdin().read_to_end(&mut Vec::new());
}

/// No test of its own: what the other process does.
#[test]
fn another_process() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let (role, path) = role.split_once(' ').unwrap();
    let path = PathBuf::from(path);
    match role {
        "exclusive" => {
            let mut lock = FileLock::exclusive(&path).unwrap();
            lock.describe("somebody else").unwrap();
            say("ready");
            until_told();
        }
        "shared" => {
            let _lock = FileLock::shared(&path).unwrap().unwrap();
            say("ready");
            until_told();
        }
        // Writes a whole file again and again, each time of one byte of its own.
        "write" => {
            say("ready");
            for round in 0..200u32 {
                let byte = b'a' + (std::process::id() + round) as u8 % 26;
                fsio::write_atomic(&path, &vec![byte; 20_000]).unwrap();
            }
            say("done");
            until_told();
        }
        "part" => {
            let mut part = fsio::part_file(path.parent().unwrap(), 0o600).unwrap();
            part.write_all(b"half of it").unwrap();
            say("ready");
            until_told();
        }
        other => panic!("{other}"),
    }
}

fn taken(path: &Path) -> bool {
    matches!(FileLock::try_exclusive(path).unwrap(), TryLock::Taken(_))
}

#[test]
fn a_lock_is_one_processes_until_it_ends_however_it_ends() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/lock");
    assert!(!FileLock::is_held(&path) && !path.exists(), "to look makes nothing");
    for killed in [false, true] {
        let other = Other::start("exclusive", &path);
        assert!(FileLock::is_held(&path) && !taken(&path));
        assert!(matches!(FileLock::try_existing(&path).unwrap(), TryLock::Held));
        assert_eq!(fs::read_to_string(&path).unwrap(), "somebody else");
        if killed {
            other.kill()
        } else {
            other.end()
        }
        assert!(!FileLock::is_held(&path) && taken(&path), "killed: {killed}");
    }
}

#[test]
fn shared_holders_stand_beside_one_another_and_not_beside_one_alone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lock");
    let (one, two) = (Other::start("shared", &path), Other::start("shared", &path));
    let mine = FileLock::shared(&path).unwrap().unwrap();
    assert!(!taken(&path));
    drop(mine);
    one.end();
    assert!(!taken(&path), "the other one still holds it");
    two.kill();
    let alone = FileLock::exclusive(&path).unwrap();
    assert!(alone.is_still_there());
    // One that waits gets it when it is let go.
    let waiter = std::thread::spawn({
        let path = path.clone();
        move || FileLock::shared(&path).unwrap().is_some()
    });
    drop(alone);
    assert!(waiter.join().unwrap());
}

#[test]
fn a_file_that_was_removed_or_replaced_is_not_held_by_its_old_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lock");
    assert!(matches!(FileLock::try_existing(&path).unwrap(), TryLock::Absent));
    let lock = FileLock::exclusive(&path).unwrap();
    fs::remove_file(&path).unwrap();
    assert!(!lock.is_still_there());
    assert!(matches!(FileLock::try_existing(&path).unwrap(), TryLock::Absent));
    assert!(taken(&path), "a new file is another lock");
    let lock = FileLock::exclusive(&path).unwrap();
    fs::write(folder.path().join("other"), "").unwrap();
    fs::rename(folder.path().join("other"), &path).unwrap();
    assert!(!lock.is_still_there() && taken(&path));
    // What is below a file is nowhere.
    assert!(matches!(FileLock::try_existing(&path.join("below")).unwrap(), TryLock::Absent));
}

#[test]
fn a_shorter_description_takes_the_place_of_a_longer_one() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lock");
    let mut lock = FileLock::exclusive(&path).unwrap();
    for text in ["a long description of who has it", "short", "", "ä"] {
        lock.describe(text).unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), text);
    }
}

/// Readers see one whole writing or another, never a part of one, whoever else writes.
#[test]
fn files_are_whole_among_several_writers() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("file");
    fsio::write_atomic(&path, &[b'x'; 20_000]).unwrap();
    let mut others: Vec<Other> = (0..3).map(|_| Other::start("write", &path)).collect();
    let mut seen = BTreeSet::new();
    for _ in 0..400 {
        let bytes = fs::read(&path).unwrap();
        assert_eq!(bytes.len(), 20_000);
        assert!(bytes.iter().all(|b| *b == bytes[0]), "two writings in one file");
        seen.insert(bytes[0]);
    }
    for other in &mut others {
        assert_eq!(other.hear(), "done");
    }
    others.into_iter().for_each(Other::end);
    let left: Vec<String> = fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    assert_eq!(left, ["file"], "no part is left");
    assert!(!seen.is_empty());
}

#[test]
fn old_parts_of_dead_writers_are_swept_and_those_of_living_ones_are_not() {
    let folder = tempfile::tempdir().unwrap();
    let names = || fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect::<Vec<_>>();
    let alive = Other::start("part", &folder.path().join("x"));
    let dead = Other::start("part", &folder.path().join("x"));
    assert_eq!(names().len(), 2);
    dead.kill();
    fs::write(folder.path().join("of a person"), "mine").unwrap();
    fsio::sweep_parts(folder.path());
    assert_eq!(names().len(), 3, "what is young may be that of a machine whose numbers mean nothing here");
    for name in names() {
        let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(2 * 24 * 3600);
        let file = fs::File::options().write(true).open(folder.path().join(name)).unwrap();
        file.set_times(fs::FileTimes::new().set_modified(long_ago)).unwrap();
    }
    fsio::sweep_parts(folder.path());
    assert_eq!(names().len(), 2, "{:?}", names());
    // One that ends well takes its own with it.
    alive.end();
    assert_eq!(names(), ["of a person"]);
}

#[test]
fn a_file_keeps_its_mode_when_it_is_written_anew() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("file");
    for mode in [0o600, 0o640, 0o755, 0o444] {
        fs::write(&path, "before").unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
        fsio::write_atomic(&path, b"after").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, mode);
        assert_eq!(fs::read_to_string(&path).unwrap(), "after");
        fs::remove_file(&path).unwrap();
    }
    // One that is new is as the umask says, and a link is replaced rather than followed.
    fs::write(folder.path().join("target"), "theirs").unwrap();
    std::os::unix::fs::symlink("target", &path).unwrap();
    fsio::write_atomic(&path, b"mine").unwrap();
    assert_eq!(fs::read_to_string(folder.path().join("target")).unwrap(), "theirs");
    assert!(fs::symlink_metadata(&path).unwrap().is_file());
}

#[test]
fn plain_helpers_say_what_they_could_not_do_and_to_what() {
    let folder = tempfile::tempdir().unwrap();
    let gone = folder.path().join("no/such/file");
    let file = folder.path().join("file");
    fs::write(&file, "x").unwrap();
    let below = file.join("below");
    let said = [
        fsio::create(&gone).map(drop),
        fsio::append(&gone).map(drop),
        fsio::overwrite(&gone, b"x"),
        fsio::remove_file(&gone),
        fsio::remove_empty_folder(&gone),
        fsio::set_mode(&gone, 0o600),
        fsio::create_only(&gone).map(drop),
        fsio::share_file(&gone, &below),
    ];
    for result in said {
        let error = result.unwrap_err();
        assert!(error.to_string().contains("no/such/file") && error.is_not_found(), "{error}");
    }
    assert!(fsio::create_folder(&below).unwrap_err().to_string().contains("below"));
    assert!(fsio::create_only(&file).is_err() && fsio::remove_empty_folder(folder.path()).is_err());
    fsio::append(&file).unwrap().write_all(b"y").unwrap();
    assert_eq!(fs::read_to_string(&file).unwrap(), "xy");
    fsio::share_file(&file, &folder.path().join("second")).unwrap();
    assert_eq!(fs::metadata(&file).unwrap().nlink(), 2);
    assert!(fsio::remove_any(&gone).is_ok(), "what is not there is gone");
    fsio::remove_any(folder.path()).unwrap();
    assert!(!folder.path().exists());
}
