//! A depot on a server that fails in every way that networks and servers have: nothing wrong is taken in, nothing is lost,
//! and what is said names the depot.

use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use textum_testkit::{Dav, Ran, Request, Tiny, Upset, many, noise};

use crate::TEXTUM;

/// Two machines and a server between them.
struct Shed {
    tiny: Tiny,
    dav: Dav,
}

impl Shed {
    fn new() -> Shed {
        let tiny = Tiny::new();
        let dav = Dav::new(&tiny.path("served"));
        let manifest = format!(
            "[project]\nname = \"looms\"\n[depot.team]\nurl = \"{}\"\noptions = {{ patience = \"1\" }}\n[data.yarn]\npath = \"yarn\"\n\
             [stage.weave]\nrun = \"cat yarn > cloth; echo woven\"\nreads = [\"yarn\"]\nwrites = [\"cloth\"]\n",
            dav.url()
        );
        for machine in ["ada", "bo"] {
            tiny.write(&format!("{machine}/textum.toml"), &manifest);
        }
        tiny.write("ada/yarn", noise(3, 300_000));
        tiny.write("setup/textum.toml", "[project]\nname = \"setup\"\n");
        let shed = Shed { tiny, dav };
        shed.on("setup", &["depot", "add", "team", &shed.dav.url()]).expect(0).says("made");
        shed.on("ada", &["run"]).expect(0);
        shed.dav.take_requests();
        shed
    }

    fn on(&self, machine: &str, words: &[&str]) -> Ran {
        let home = self.tiny.path(&format!("home-{machine}")).display().to_string();
        let own = [("USER", machine), ("TEXTUM_HOST", machine), ("HOME", home.as_str())];
        self.tiny.textum_with(TEXTUM, &[&["-C", machine], words].concat(), &own)
    }

    /// Begins something on Ada's machine that hangs, and ends it with Ctrl-C.
    fn interrupted(&self, words: &[&str]) {
        let child = Command::new(TEXTUM)
            .args(["-C", "ada"])
            .args(words)
            .current_dir(self.tiny.root())
            .env_clear()
            .envs(self.tiny.variables())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        self.dav.wait_until_one_hangs();
        let interrupt = Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
        assert!(interrupt.success());
        let out = child.wait_with_output().unwrap();
        let said = String::from_utf8_lossy(&out.stderr);
        assert_eq!(out.status.code(), Some(130), "{words:?}: {said}");
        assert!(said.contains("interrupted"), "{words:?}: {said}");
    }

    /// What is there is whole, and another machine has all of it.
    fn is_whole(&self, what: &str) {
        self.dav.upset(|_| Upset::None);
        self.on("ada", &["sync"]).expect(0);
        self.on("ada", &["verify", "--depot", "team", "--deep"]).expect(0);
        self.on("bo", &["sync"]).expect(0);
        self.on("bo", &["restore", "last"]).expect(0);
        self.on("bo", &["verify", "--deep"]).expect(0);
        assert!(self.tiny.path("bo/cloth").exists(), "{what}");
        assert_eq!(std::fs::read(self.tiny.path("bo/cloth")).unwrap(), noise(3, 300_000), "{what}");
    }
}

/// What a request meets, so often: the first ones of those that are meant.
fn at_first(times: usize, meant: impl Fn(&Request) -> bool + Send + Sync + 'static, upset: Upset) -> impl Fn(&Request) -> Upset {
    let left = Arc::new(AtomicUsize::new(times));
    move |request: &Request| {
        let is_met = meant(request) && left.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| n.checked_sub(1)).is_ok();
        if is_met { upset.clone() } else { Upset::None }
    }
}

#[test]
fn what_passes_is_tried_again_without_a_word() {
    for upset in [Upset::Status(503), Upset::Status(429), Upset::Closed, Upset::Unsaid, Upset::Cut, Upset::Wrong, Upset::Hang] {
        let shed = Shed::new();
        // What comes wrongly is asked for once more, what does not come at all more often.
        let times = if upset == Upset::Wrong { 1 } else { 2 };
        shed.dav.upset(at_first(times, |_| true, upset.clone()));
        shed.on("ada", &["sync"]).expect(0).says("synced with team");
        shed.dav.upset(at_first(times, |r| r.method != "PROPFIND", upset.clone()));
        shed.on("bo", &["sync", "--content", "all"]).expect(0);
        shed.is_whole(&format!("{upset:?}"));
    }
}

#[test]
fn what_lasts_is_said_and_leaves_all_as_it_was() {
    let cases = [
        (Upset::Status(403), "allow"),
        (Upset::Status(401), "allow"),
        (Upset::Status(503), "tried 6 times"),
        (Upset::Closed, "tried 6 times"),
    ];
    for (upset, said) in cases {
        let shed = Shed::new();
        let lasting = upset.clone();
        shed.dav.upset(move |_| lasting.clone());
        let ran = shed.on("ada", &["sync"]).expect(4).warns(said);
        assert!(ran.err.contains(&shed.dav.url()), "{}", ran.err);
        // Work goes on without it.
        shed.tiny.write("ada/yarn", "silk\n");
        shed.on("ada", &["run"]).expect(0).says("weave");
        shed.tiny.write("ada/yarn", noise(3, 300_000));
        shed.on("ada", &["run"]).expect(0);
        shed.is_whole(said);
    }
}

/// Each request in its turn, in each way, both when it is sent and when it is fetched.
#[test]
fn each_request_may_fail_once_in_each_way() {
    let every = many("TEXTUM_EVERY", 7) as usize;
    let shed = Shed::new();
    shed.on("ada", &["sync"]).expect(0);
    let up = shed.dav.take_requests().len();
    shed.on("bo", &["sync", "--content", "all"]).expect(0);
    let down = shed.dav.take_requests().len();
    assert!(up > 8 && down > 4, "{up} requests up, {down} down");
    for upset in [Upset::Closed, Upset::Unsaid, Upset::Cut, Upset::Wrong, Upset::Status(500)] {
        for number in (1..=up.max(down)).step_by(every) {
            let shed = Shed::new();
            let what = format!("{upset:?} at {number}");
            for (machine, words) in [("ada", &["sync"][..]), ("bo", &["sync", "--content", "all"])] {
                shed.dav.take_requests();
                let met = upset.clone();
                shed.dav.upset(move |r| if r.number == number { met.clone() } else { Upset::None });
                let ran = shed.on(machine, words);
                assert_eq!(ran.status, 0, "{what} of {machine}: {} {}", ran.out, ran.err);
            }
            shed.is_whole(&what);
        }
    }
}

/// At random and often, as on a train.
#[test]
fn a_bad_line_loses_nothing() {
    for seed in 0..many("TEXTUM_RACE", 4) {
        let shed = Shed::new();
        let ways = [Upset::Closed, Upset::Unsaid, Upset::Cut, Upset::Wrong, Upset::Status(502), Upset::Status(504)];
        shed.dav.upset(move |r| {
            let chance = noise(u64::from(seed) * 1_000 + r.number as u64, 2);
            if chance[0] < 70 { ways[chance[1] as usize % ways.len()].clone() } else { Upset::None }
        });
        for (machine, words) in [("ada", &["sync"][..]), ("bo", &["sync"]), ("bo", &["restore", "last"]), ("ada", &["sync"])] {
            let ran = shed.on(machine, words);
            assert!([0, 3, 4].contains(&ran.status) && !ran.err.contains("panicked"), "{seed}: {} {}", ran.out, ran.err);
            if ran.status == 0 && words[0] == "restore" {
                assert_eq!(std::fs::read(shed.tiny.path("bo/cloth")).unwrap(), noise(3, 300_000), "{seed}");
            }
        }
        shed.is_whole(&format!("seed {seed}"));
    }
}

/// Content that a server always gives wrongly is never taken in, whatever it is needed for.
#[test]
fn wrong_bytes_are_told_and_never_taken_in() {
    let shed = Shed::new();
    shed.on("ada", &["sync"]).expect(0);
    shed.on("bo", &["sync"]).expect(0);
    shed.dav.upset(|r| if r.method == "GET" && r.path.starts_with("content/") { Upset::Wrong } else { Upset::None });
    let ran = shed.on("bo", &["restore", "last"]).expect(4);
    assert!(ran.err.contains("damaged") && ran.err.contains("content/"), "{}", ran.err);
    assert!(!shed.tiny.has("bo/cloth"));
    shed.on("bo", &["verify", "--deep"]).expect(0);
    shed.is_whole("after wrong bytes");
}

#[test]
fn a_request_that_hangs_ends_at_once_with_ctrl_c() {
    let shed = Shed::new();
    // The patience of a minute would be felt.
    let manifest = shed.tiny.read("ada/textum.toml").replace("\"1\"", "\"600\"");
    shed.tiny.write("ada/textum.toml", manifest);
    for method in ["GET", "PUT", "PROPFIND"] {
        shed.dav.upset(move |r| if r.method == method { Upset::Hang } else { Upset::None });
        shed.interrupted(&["sync"]);
    }
    shed.is_whole("after Ctrl-C");
}

/// What has arrived before Ctrl-C is told of, and does not travel again.
#[test]
fn what_has_travelled_before_ctrl_c_is_kept() {
    let shed = Shed::new();
    let manifest = shed.tiny.read("ada/textum.toml").replace("\"1\"", "\"600\"");
    shed.tiny.write("ada/textum.toml", manifest);
    shed.tiny.write("ada/yarn", noise(8, 110_000_000));
    shed.on("ada", &["data", "record"]).expect(0);
    let is_pack = |r: &Request| r.method == "PUT" && r.path.starts_with("content/");
    let packs = Arc::new(AtomicUsize::new(0));
    let sent = packs.clone();
    shed.dav.upset(move |r| match is_pack(r) && sent.fetch_add(1, Ordering::SeqCst) == 2 {
        true => Upset::Hang,
        false => Upset::None,
    });
    shed.interrupted(&["sync", "-j", "1"]);
    assert_eq!(packs.load(Ordering::SeqCst), 3);
    shed.dav.take_requests();
    shed.dav.upset(|_| Upset::None);
    shed.on("ada", &["sync", "-j", "1"]).expect(0);
    let again = shed.dav.take_requests().iter().filter(|r| is_pack(r)).count();
    assert!((1..=2).contains(&again), "{again} packs travelled of four, though two were there");
    shed.on("ada", &["verify", "--depot", "team", "--deep"]).expect(0);
}

#[test]
fn how_long_one_waits_is_an_option_that_is_checked() {
    let shed = Shed::new();
    for wrong in ["0", "soon", "1.5", "99999"] {
        let manifest = shed.tiny.read("bo/textum.toml").replace("\"1\"", &format!("\"{wrong}\""));
        shed.tiny.write("cy/textum.toml", manifest);
        shed.on("cy", &["depot", "list"]).expect(2).warns("`patience`").warns("whole seconds from 1 to 3600");
    }
}
