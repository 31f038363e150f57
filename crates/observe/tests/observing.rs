//! The tracer on its own: what it tells of real commands.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, missing_docs)]

use std::path::{Path, PathBuf};
use std::process::Command;

use textum_observe::{End, Observation, Refused, Seal, Try};

/// The example of this crate, which is a program that observes.
fn program() -> PathBuf {
    let mut folder = std::env::current_exe().unwrap();
    folder.pop();
    if folder.ends_with("deps") {
        folder.pop();
    }
    folder.join("examples/observe")
}

fn folder() -> tempfile::TempDir {
    tempfile::Builder::new().prefix("textum-observe-").tempdir().unwrap()
}

fn observe(folder: &Path, command: &str) -> Observation {
    let record = folder.join("record.json");
    let status = Command::new(program())
        .arg(&record)
        .args(["/bin/sh", "-c", command])
        .current_dir(folder)
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .status()
        .unwrap();
    let observation: Observation = serde_json::from_slice(&std::fs::read(record).unwrap()).unwrap();
    if let Some(End::Code(code)) = observation.end {
        assert_eq!(status.code(), Some(code), "{command}");
    }
    observation
}

/// Names below the folder, of paths that are told whole.
fn below<'o>(folder: &Path, paths: impl Iterator<Item = &'o str>) -> Vec<String> {
    let root = std::fs::canonicalize(folder).unwrap();
    paths.filter_map(|p| Some(textum_observe::from_text(p).strip_prefix(&root).ok()?.display().to_string())).collect()
}

fn opened(folder: &Path, seen: &Observation) -> Vec<String> {
    below(folder, seen.opened.iter().map(|o| o.path.as_str()))
}

#[test]
fn what_is_read_written_looked_at_and_missed_is_told_apart() {
    let folder = folder();
    let at = folder.path();
    for (name, text) in [("a", "1"), ("b", "2"), ("kept", "x"), ("gone", "x"), ("deep/c", "3")] {
        std::fs::create_dir_all(at.join(name).parent().unwrap()).unwrap();
        std::fs::write(at.join(name), text).unwrap();
    }
    let seen = observe(
        at,
        "cat a > out; test -e b; cat none; test -e nowhere; cat out > second; echo y >> kept; rm gone; ls deep; cat ./deep/../deep//c; mkdir own; echo z > own/f; cat own/f; mv own moved; cat moved/f",
    );
    assert_eq!(seen.end, Some(End::Code(0)));
    assert_eq!(opened(at, &seen), ["a", "deep/c"], "own files do not count, however they are called now");
    // A folder that is opened is looked at; the first is where it works.
    assert_eq!(below(at, seen.looked_at.iter().map(|l| l.path.as_str())), ["", "b", "deep"]);
    assert_eq!(below(at, seen.listed.iter().map(|l| l.path.as_str())), ["deep"]);
    let absent: Vec<(String, bool)> =
        seen.absent.iter().filter_map(|a| Some((below(at, std::iter::once(a.path.as_str())).pop()?, a.looked_for))).collect();
    assert_eq!(absent, [("none".to_string(), false), ("nowhere".to_string(), true)]);
    let changed = below(at, seen.changed.iter().map(|c| c.path.as_str()));
    for name in ["gone", "kept", "own/f", "out", "second"] {
        assert!(changed.contains(&name.to_string()), "{name}: {changed:?}");
    }
    // What it held is in what it is now.
    let kept = below(at, seen.changed.iter().filter(|c| c.existed && c.seen).map(|c| c.path.as_str()));
    assert_eq!(kept, ["gone", "kept"]);
}

#[test]
fn threads_children_and_programs_named_by_scripts_are_followed() {
    let folder = folder();
    let at = folder.path();
    (0..40).for_each(|i| std::fs::write(at.join(format!("in{i}")), "x").unwrap());
    std::fs::write(at.join("script"), "#!/bin/cat\n").unwrap();
    Command::new("chmod").args(["+x", "script"]).current_dir(at).status().unwrap();
    let seen = observe(
        at,
        // Children whose parents are gone are waited for by what they leave: the command ends with the last of them.
        "for i in $(seq 0 39); do (sh -c \"cat in$i > out$i\" &) ; done; setsid -w cat in0; env -i /bin/cat in1; ./script; \
         for i in $(seq 0 39); do while ! test -s out$i; do :; done; done",
    );
    let found = opened(at, &seen);
    assert!((0..40).all(|i| found.contains(&format!("in{i}"))) && found.contains(&"script".to_string()), "{found:?}");
    let executed: Vec<&str> = seen.opened.iter().filter(|o| o.executed).map(|o| o.path.as_str()).collect();
    assert!(executed.iter().any(|p| p.ends_with("/script")) && executed.iter().any(|p| p.ends_with("/cat")), "{executed:?}");
}

#[test]
fn a_file_that_was_changed_is_told_by_how_it_stood_when_it_was_opened() {
    let folder = folder();
    let at = folder.path();
    std::fs::write(at.join("a"), "1").unwrap();
    let before = std::fs::metadata(at.join("a")).unwrap();
    let seen = observe(at, "cat a; cat a");
    let stamp = seen.opened.iter().find(|o| o.path.ends_with("/a")).unwrap().stamp;
    assert_eq!(stamp.size, 1);
    assert_eq!(stamp.inode, std::os::unix::fs::MetadataExt::ino(&before));
    // A link that the command itself makes moves the time of change; that is told.
    let seen = observe(at, "ln a b; cat b; rm b");
    assert!(seen.opened.iter().any(|o| o.path.ends_with("/a") && o.linked));
}

#[test]
fn how_a_command_ends_is_its_own_and_what_it_leaves_running_ends_with_it() {
    let folder = folder();
    let at = folder.path();
    assert_eq!(observe(at, "exit 7").end, Some(End::Code(7)));
    assert_eq!(observe(at, "kill -TERM $$").end, Some(End::Signal(15)));
    assert_eq!(observe(at, "kill -ABRT $$").end, Some(End::Signal(6)));
    let seen = observe(at, "setsid sh -c 'echo $$ > pid; exec sleep 1000' & while ! test -s pid; do :; done; exit 3");
    assert_eq!(seen.end, Some(End::Code(3)));
    let pid = std::fs::read_to_string(at.join("pid")).unwrap();
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    assert!(stat.is_empty() || stat.contains(") Z "), "{stat}");
}

#[test]
fn connections_are_told_but_for_what_asks_nobody() {
    let folder = folder();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let script = format!(
        "import socket; socket.create_connection(('127.0.0.1', {port})); s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.connect(('127.0.0.1', 53))"
    );
    let seen = observe(folder.path(), &format!("python3 -c \"{script}\""));
    assert_eq!(seen.network, [format!("127.0.0.1:{port}")]);
    // A server that the command itself has, in another process that is tried until it answers; and one that it had not.
    let serve = "import os, socket, time\nr, w = os.pipe()\nif os.fork() == 0:\n  s = socket.create_server(('127.0.0.1', 0))\n  os.write(w, str(s.getsockname()[1]).encode()); s.accept(); os._exit(0)\nport = int(os.read(r, 9))\nsocket.create_connection(('127.0.0.1', port))\n";
    std::fs::write(folder.path().join("serve.py"), serve).unwrap();
    assert_eq!(observe(folder.path(), "python3 serve.py").network, [""; 0]);
    std::fs::write(folder.path().join("ask.py"), script).unwrap();
    assert_eq!(observe(folder.path(), "python3 serve.py; python3 ask.py").network, [format!("127.0.0.1:{port}")]);
}

/// Who waits for a server tries until it is there, and may have done without it in the end.
#[test]
fn who_answers_is_told_by_address_and_protocol_and_a_server_may_come_late() {
    let folder = folder();
    // Somebody else's UDP stands at the number of the command's own TCP, and another's TCP at another address with it.
    // A number that the system gives to nobody by itself.
    let first = 10_000 + (std::process::id() % 10_000) as u16;
    let (port, udp, beside) = (first..)
        .find_map(|port| {
            std::net::TcpListener::bind(("127.0.0.1", port)).ok()?;
            let udp = std::net::UdpSocket::bind(("127.0.0.1", port)).ok()?;
            Some((port, udp, std::net::TcpListener::bind(("127.0.0.2", port)).ok()?))
        })
        .unwrap();
    let serve = format!("import socket\ns = socket.create_server(('127.0.0.1', {port}))\n");
    let ask = format!("import socket\nc = socket.socket()\nc.connect_ex(('127.0.0.1', {port}))\n");
    let udp_too = format!("u = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\nu.connect(('127.0.0.1', {port}))\n");
    let seen_of = |script: &str| {
        std::fs::write(folder.path().join("s.py"), script).unwrap();
        let seen = observe(folder.path(), "python3 s.py");
        assert_eq!(seen.end, Some(End::Code(0)), "{script}");
        (seen.network, seen.own_network)
    };
    let there = vec![format!("127.0.0.1:{port}")];
    assert_eq!(seen_of(&format!("{serve}{ask}")), (vec![], true), "its own");
    assert_eq!(seen_of(&format!("{ask}{serve}")), (vec![], true), "its own, which came too late to answer");
    assert_eq!(seen_of(&format!("{ask}{serve}{ask}")), (vec![], true), "tried until it was there");
    assert_eq!(seen_of(&ask), (there.clone(), false), "nobody, but somebody may be there another time");
    assert_eq!(seen_of(&format!("{serve}{udp_too}")), (there.clone(), false), "somebody else's UDP");
    assert_eq!(seen_of(&format!("{serve}{ask}{udp_too}")), (there.clone(), true), "both");
    drop(udp);
    let binds = format!("import socket\nb = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\nb.bind(('127.0.0.1', {port}))\n");
    assert_eq!(seen_of(&format!("{ask}{binds}")), (there.clone(), false), "UDP of its own answers no TCP");
    let foreign = std::net::TcpListener::bind(("127.0.0.1", port)).unwrap();
    let tries = "try:\n  socket.create_server(('127.0.0.1', PORT))\nexcept OSError: pass\n".replace("PORT", &port.to_string());
    assert_eq!(seen_of(&format!("{ask}{tries}")), (there, false), "who wanted to answer, where somebody else did");
    drop((foreign, beside));
}

#[test]
fn python_looks_through_folders_for_modules_and_that_is_told_from_listing_them() {
    let folder = folder();
    let at = folder.path();
    std::fs::write(at.join("main.py"), "import units, os\nos.listdir('data')\n").unwrap();
    std::fs::write(at.join("units.py"), "").unwrap();
    std::fs::create_dir(at.join("data")).unwrap();
    let seen = observe(at, "python3 main.py");
    let root = std::fs::canonicalize(at).unwrap().display().to_string();
    let listed: Vec<(&str, bool)> =
        seen.listed.iter().filter_map(|l| Some((l.path.strip_prefix(root.as_str())?, l.for_modules))).collect();
    assert_eq!(listed, [("", true), ("/data", false)]);
}

#[test]
fn a_sealed_command_is_refused_what_is_not_allowed() {
    let (inside, outside) = (folder(), folder());
    std::fs::write(outside.path().join("far"), "1").unwrap();
    std::fs::write(inside.path().join("near"), "1").unwrap();
    let text = |path: &Path| std::fs::canonicalize(path).unwrap().display().to_string();
    let system = ["/usr", "/lib", "/lib64", "/bin", "/etc", "/proc"].map(String::from).to_vec();
    let seal = Seal { read: system, write: vec![text(inside.path()), "/dev".into()], own: Vec::new() };
    let file = inside.path().join("seal.json");
    std::fs::write(&file, serde_json::to_vec(&seal).unwrap()).unwrap();
    let record = inside.path().join("record.json");
    let words = textum_observe::words_before(&program(), &record, Some(&file));
    let command = format!("cat near > copy; cat {0}/far; echo x > {0}/new; cat copy", text(outside.path()));
    let mut started = Command::new(&words[0]);
    started.args(&words[1..]).args(["/bin/sh", "-c", &command]).current_dir(inside.path());
    assert_eq!(started.output().unwrap().stdout, b"1", "what it may read it reads, and nothing else");
    let seen: Observation = serde_json::from_slice(&std::fs::read(record).unwrap()).unwrap();
    let refused = [(Try::Read, "far"), (Try::Write, "new")];
    let refused = refused.map(|(tried, name)| Refused { tried, name: format!("{}/{name}", text(outside.path())) });
    assert_eq!(seen.refused, refused);
    assert!(!outside.path().join("new").exists());
}
