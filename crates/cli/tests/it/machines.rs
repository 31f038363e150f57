//! Stages on machines that are reached by SSH, each in a network of its own (`scripts/machine`), and on an engine that is
//! known by three commands (`assets/demo/shed/engine.sh`).

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use textum_testkit::{Ran, Tiny};

use crate::{TEXTUM, textum};

pub(crate) fn script(name: &str) -> String {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../scripts").join(name).canonicalize().unwrap().display().to_string()
}

/// A folder of machines, which are ended when it goes.
pub(crate) struct Machines {
    folder: tempfile::TempDir,
}

impl Machines {
    /// None where no machine can be made.
    pub(crate) fn here() -> Option<Machines> {
        let machines = Machines { folder: tempfile::Builder::new().prefix("mm").tempdir().unwrap() };
        if !machines.order("begin", "probe").is_some_and(|o| o.status.success()) {
            eprintln!("no machine can be made here: this was not tested (scripts/machine needs root and OpenSSH)");
            return None;
        }
        machines.order("end", "probe");
        Some(machines)
    }

    pub(crate) fn path(&self, name: &str) -> String {
        self.folder.path().join(name).display().to_string()
    }

    pub(crate) fn order(&self, what: &str, name: &str) -> Option<std::process::Output> {
        Command::new(script("machine")).arg(what).arg(self.folder.path()).arg(name).output().ok()
    }

    pub(crate) fn names(&self) -> Vec<String> {
        let list = Command::new(script("machine")).arg("list").arg(self.folder.path()).output().unwrap();
        String::from_utf8_lossy(&list.stdout).lines().map(str::to_string).collect()
    }

    /// A place that rents a machine.
    pub(crate) fn rented(&self, more: &str) -> String {
        let (own, folder) = (script("machine"), self.path(""));
        format!(
            "[place.box]\nkind = \"ssh\"\nbegin = \"{own} begin {folder} {{hold}}\"\nend = \"{own} end {folder} {{hold}}\"\nfolder = \"{}\"\noptions = {{ IdentityFile = \"{}\" }}\n{more}\n",
            self.path("far"),
            self.path("key"),
        )
    }

    /// A place whose machine stands there.
    fn standing(&self, name: &str) -> String {
        let told = self.order("begin", name).unwrap();
        let told = String::from_utf8(told.stdout).unwrap();
        let mut lines = told.lines();
        let address = lines.next().unwrap();
        std::fs::write(self.path("hosts"), format!("* {}\n", lines.next().unwrap())).unwrap();
        format!(
            "[place.box]\nkind = \"ssh\"\naddress = \"{address}\"\nfolder = \"{}\"\noptions = {{ IdentityFile = \"{}\", UserKnownHostsFile = \"{}\" }}\n",
            self.path("far"),
            self.path("key"),
            self.path("hosts"),
        )
    }

    /// Keys of a place whose machine is one where people log in, on this machine: `what` is its kind and what that needs.
    pub(crate) fn behind_login(&self, what: &str) -> String {
        let told = self.order("login", "login").unwrap();
        assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
        let told = String::from_utf8(told.stdout).unwrap();
        let (address, key) = told.trim().split_once('\n').unwrap();
        std::fs::write(self.path("hosts"), format!("* {key}\n")).unwrap();
        format!(
            "[place.box]\n{what}\naddress = \"{address}\"\nfolder = \"{}\"\nssh = {{ IdentityFile = \"{}\", UserKnownHostsFile = \"{}\" }}\n",
            self.path("far"),
            self.path("key"),
            self.path("hosts"),
        )
    }

    /// A file in the folder in which a job works there.
    pub(crate) fn at_work(&self, file: &str) -> Option<PathBuf> {
        let jobs = std::fs::read_dir(self.path("far")).into_iter().flatten().flatten();
        jobs.map(|job| job.path().join("work").join(file)).find(|path| path.exists())
    }

    pub(crate) fn until(&self, file: &str) -> PathBuf {
        let begun = Instant::now();
        loop {
            if let Some(path) = self.at_work(file) {
                return path;
            }
            assert!(begun.elapsed() < Duration::from_secs(60), "{file} did not come");
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Machines {
    fn drop(&mut self) {
        for name in self.names() {
            self.order("end", &name);
        }
    }
}

pub(crate) fn start(tiny: &Tiny, words: &[&str]) -> Child {
    let mut command = Command::new(TEXTUM);
    command.args(words).current_dir(tiny.root()).env_clear().envs(tiny.variables());
    command.stdout(Stdio::null()).stderr(std::fs::File::create(tiny.path("said")).unwrap()).spawn().unwrap()
}

pub(crate) fn digests(ran: &Ran) -> Vec<String> {
    let run = ran.json();
    let writes = run["stages"].as_array().unwrap().iter().flat_map(|s| s["writes"].as_array().unwrap().clone());
    writes.map(|w| w["digest"].as_str().unwrap().to_string()).collect()
}

/// Waits for a word beside its work, and counts how often it is executed.
const WAITS: &str = "[stage.x]\nrun = \"echo $$ >> TIMES; echo > begun; while [ ! -e go ]; do sleep 0.05; done; cat d > o; mkdir -p more/deep; echo x > more/deep/y\"\nreads = [\"d\"]\nwrites = [\"o\", \"more/\"]\nplace = \"box\"\n";

fn waiting(machines: &Machines, place: &str) -> Tiny {
    let tiny = Tiny::with(&format!("{place}\n{}", WAITS.replace("TIMES", &machines.path("times"))));
    tiny.write("d", "yarn\n");
    tiny
}

#[test]
fn a_machine_is_rented_for_what_a_stage_needs_and_given_back() {
    let Some(machines) = Machines::here() else { return };
    let stages = "[params]\nfit = { rate = 3 }\n\n[stage.cut]\nrun = \"cut -d, -f1 d.csv > c.csv\"\nreads = [\"d.csv\"]\nwrites = [\"c.csv\"]\n\n[stage.fit]\nrun = [\"sh\", \"-c\", \"ls; sort -r c.csv > o; echo $RACK; echo '{\\\"rows\\\": 2}' > m.json; echo '{\\\"step\\\": 1, \\\"metric\\\": {\\\"loss\\\": 0.5}}' >> $TEXTUM_SIGNALS; $TEXTUM_PROGRAM emit --note woven; echo 1 > c; $TEXTUM_PROGRAM emit --step 1 --checkpoint; echo 2 > c; $TEXTUM_PROGRAM emit --step 2 --checkpoint && echo stored; cat $TEXTUM_PARAMS\"]\nreads = [\"c.csv\"]\nwrites = [\"o\"]\nmetrics = [\"m.json\"]\nparams = [\"fit\"]\ncheckpoints = \"c\"\nenvironment = [\"RACK\"]\nplace = \"box\"\n\n[stage.sum]\nrun = \"wc -l < o > n\"\nreads = [\"o\"]\nwrites = [\"n\"]\n";
    let stages = stages.replace("environment = [\"RACK\"]\n", "");
    let tiny = Tiny::with(&format!("{}{stages}", machines.rented("")));
    tiny.write("d.csv", "a,0\nb,1\n");
    tiny.write("not-declared", "x");
    let there = textum(&tiny, &["run", "--format", "json"]).expect(0);
    assert!(machines.names().is_empty(), "it is given back: {:?}", machines.names());
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let place = &shown["stages"].as_array().unwrap().iter().find(|s| s["place"]["name"] == "box").unwrap()["place"];
    assert_eq!((&place["kind"], &place["name"]), (&"ssh".into(), &"box".into()));
    assert!(place["held_ms"].as_u64().is_some_and(|ms| ms > 0), "{place}");
    textum(&tiny, &["show", "last"]).expect(0).says("on box, ").says("held for").says("woven");
    let log = textum(&tiny, &["show", "last", "--log", "fit"]).expect(0).out;
    assert!(log.starts_with("c.csv\n") && log.contains("\"rate\": 3"), "only what it declares is there: {log}");
    // Whoever waits there for a checkpoint to be stored goes on when it is: none was overwritten before.
    assert!(log.contains("stored\n"), "{log}");
    for n in ["1", "2"] {
        textum(&tiny, &["restore", &format!("last#{n}"), "--output", n]).expect(0);
        assert_eq!(tiny.read(&format!("{n}/c")), format!("{n}\n"));
    }
    // Where it was made counts for nothing, nor do the files that it was seen to read there.
    assert_eq!(textum(&tiny, &["run", "--place", "local", "--format", "json"]).expect(0).json()["recorded"], false);
    let here = Tiny::with(&format!("{}{stages}", machines.rented("")));
    here.write("d.csv", "a,0\nb,1\n");
    assert_eq!(digests(&textum(&here, &["run", "--place", "local", "--format", "json"]).expect(0)), digests(&there));
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["verify"]).expect(0);
    textum(&tiny, &["place", "check"]).expect(0).says("can be used").says("processors");
    // A sweep has one machine for all.
    let sweep = textum(&tiny, &["run", "--vary", "fit.rate=1..3", "--format", "json"]).expect(0).json();
    assert_eq!(sweep["variants"].as_array().unwrap().len(), 3);
    assert!(machines.names().is_empty());
    textum(&tiny, &["place", "release"]).expect(0).says("no machine is held");
}

#[test]
fn what_cannot_be_had_there_is_refused_and_an_end_that_fails_is_said_until_it_is_done() {
    let Some(machines) = Machines::here() else { return };
    let stage = "[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\n";
    let sealed = Tiny::with(&format!("{}{stage}sealed = true\n", machines.rented("")));
    textum(&sealed, &["run"]).expect(0);
    textum(&sealed, &["trace", "o"]).expect(0).says("sealed: nothing else could be read");
    // An `end` that fails: the machine is held, and everybody who looks is told.
    let tiny = Tiny::with(&format!("{}{stage}", machines.rented("").replace("end = \"", "end = \"[ -e may-end ] && ")));
    textum(&tiny, &["run"]).expect(0).warns("still held");
    assert_eq!(machines.names().len(), 1);
    textum(&tiny, &["runs"]).expect(0).warns("the machine of box is held");
    textum(&tiny, &["place"]).expect(0).says("held box: ");
    textum(&tiny, &["place", "release"]).expect(1).says("is still held").says("`end` did not succeed");
    // The next run uses it instead of renting another.
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x > o", "echo y > o"));
    textum(&tiny, &["run"]).expect(0).warns("still held");
    assert_eq!(machines.names().len(), 1);
    tiny.write("may-end", "");
    textum(&tiny, &["place", "release"]).expect(0).says("is given back");
    assert!(machines.names().is_empty());
    // One that cannot be rented, or says no address.
    for (begin, says) in
        [("false", "`begin` ended with"), ("true", "`begin` printed no address"), ("echo a b", "printed no address")]
    {
        let manifest = format!("[place.box]\nkind = \"ssh\"\nbegin = \"{begin}\"\nend = \"echo {{hold}} >> ended\"\n{stage}");
        let tiny = Tiny::with(&manifest);
        textum(&tiny, &["run"]).expect(1).warns(says);
        assert_eq!(tiny.read("ended").lines().count(), 1, "whatever it had rented is given back");
        assert!(textum(&tiny, &["place", "list", "--format", "json"]).expect(0).json()[0]["held"].is_null());
    }
}

#[test]
fn a_rented_machine_is_given_back_though_it_was_never_reached_and_not_under_a_job_of_another_run() {
    let Some(machines) = Machines::here() else { return };
    let stage = "[stage.y]\nrun = \"echo y > p\"\nwrites = [\"p\"]\nplace = \"box\"\n";
    let other = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKAxN4vG5bSOjbn4DmO2jhkJrHLtMqLwF7Xqgr2J4uCz";
    let wrong = machines.rented("").replace("{hold}\"\nend", &format!("{{hold}} | head -n 1; echo {other}\"\nend"));
    textum(&Tiny::with(&format!("{wrong}{stage}")), &["run"]).expect(1).warns("its host key is not the one");
    assert!(machines.names().is_empty(), "it is given back: {:?}", machines.names());
    let tiny = waiting(&machines, &machines.rented(""));
    tiny.write("textum.toml", format!("{}\n{stage}", tiny.read("textum.toml")));
    let mut child = start(&tiny, &["run", "x"]);
    let begun = machines.until("begun");
    child.kill().unwrap();
    child.wait().unwrap();
    textum(&tiny, &["run", "--sandbox", "y"]).expect(0);
    assert_eq!(machines.names().len(), 1, "a job of the run that was cut off is at work there");
    std::fs::write(begun.with_file_name("go"), "").unwrap();
    textum(&tiny, &["resume"]).expect(0).warns("takes up the job");
    assert_eq!(std::fs::read_to_string(machines.path("times")).unwrap().lines().count(), 1);
    assert!(machines.names().is_empty());
}

#[test]
fn a_host_key_that_is_not_the_known_one_is_refused() {
    let Some(machines) = Machines::here() else { return };
    let place = machines.standing("loom");
    let tiny = waiting(&machines, &place);
    std::fs::write(machines.path("hosts"), "* ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKAxN4vG5bSOjbn4DmO2jhkJrHLtMqLwF7Xqgr2J4uCz\n")
        .unwrap();
    textum(&tiny, &["run"]).expect(1).warns("its host key is not the one that is known of it");
    assert!(machines.at_work("d").is_none(), "nothing was sent");
    std::fs::write(machines.path("hosts"), "").unwrap();
    textum(&tiny, &["run"]).expect(1).warns("host key");
    textum(&tiny, &["place", "check"]).expect(1).says("cannot be used");
}

#[test]
fn a_job_there_is_taken_up_and_a_way_that_is_cut_is_waited_for() {
    let Some(machines) = Machines::here() else { return };
    let tiny = waiting(&machines, &machines.standing("loom"));
    let mut child = start(&tiny, &["run"]);
    let begun = machines.until("begun");
    child.kill().unwrap();
    child.wait().unwrap();
    textum(&tiny, &["runs"]).expect(0).warns("was cut off and left x at box");
    let mut child = start(&tiny, &["resume"]);
    crate::cluster::until_taken_up(&tiny);
    // The way is cut in the middle of its work, which goes on.
    machines.order("cut", "loom").unwrap();
    std::thread::sleep(Duration::from_millis(700));
    std::fs::write(begun.with_file_name("go"), "").unwrap();
    assert!(child.try_wait().unwrap().is_none(), "that nobody answers is not the end");
    machines.order("mend", "loom").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0), "{}", tiny.read("said"));
    assert_eq!((tiny.read("o"), tiny.read("more/deep/y")), ("yarn\n".into(), "x\n".into()));
    assert_eq!(std::fs::read_to_string(machines.path("times")).unwrap().lines().count(), 1, "executed once");
    assert!(machines.at_work("d").is_none(), "nothing is left there");
    textum(&tiny, &["verify"]).expect(0);
    // Stopped by word.
    tiny.write("d", "wool\n");
    let mut child = start(&tiny, &["run"]);
    machines.until("begun");
    textum(&tiny, &["stop"]).expect(0);
    assert_eq!(child.wait().unwrap().code(), Some(1));
}

#[test]
fn a_way_that_is_cut_while_files_are_sent_or_brought_costs_nothing_but_time() {
    let Some(machines) = Machines::here() else { return };
    let place = machines.standing("loom");
    // Eight megabytes are four seconds.
    let tiny = Tiny::with(&format!(
        "{place}\n[stage.x]\nrun = \"echo x >> {}; cat d d > o\"\nreads = [\"d\"]\nwrites = [\"o\"]\nplace = \"box\"\n",
        machines.path("times")
    ));
    let mut state = 7_u64;
    let bytes: Vec<u8> = std::iter::repeat_with(|| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 56) as u8
    })
    .take(8 << 20)
    .collect();
    std::fs::write(tiny.path("d"), &bytes).unwrap();
    // A connection that is cut is known to be lost after two seconds here, not after fifteen.
    let text = tiny
        .read("textum.toml")
        .replace("options = { ", "options = { ServerAliveInterval = 1, ServerAliveCountMax = 2, ConnectTimeout = 2, ");
    tiny.write("textum.toml", text);
    // The program is there before the way is slow.
    textum(&tiny, &["place", "check"]).expect(0);
    if !machines.order("slow", "loom").unwrap().status.success() {
        eprintln!("no way can be made slow here (tc): this was not tested");
        return;
    }
    let mut child = start(&tiny, &["run"]);
    let sent = machines.until("d");
    let begun = Instant::now();
    while std::fs::metadata(&sent).map_or(0, |m| m.len()) < 1 << 20 {
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing is sent");
        std::thread::sleep(Duration::from_millis(10));
    }
    machines.order("cut", "loom").unwrap();
    std::thread::sleep(Duration::from_secs(4));
    assert!(child.try_wait().unwrap().is_none(), "it is tried again: {}", tiny.read("said"));
    machines.order("mend", "loom").unwrap();
    machines.order("slow", "loom").unwrap();
    machines.until("o");
    machines.order("cut", "loom").unwrap();
    std::thread::sleep(Duration::from_secs(3));
    machines.order("mend", "loom").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0), "{}", tiny.read("said"));
    assert!(std::fs::read(tiny.path("o")).unwrap() == [bytes.as_slice(), &bytes].concat());
    assert_eq!(std::fs::read_to_string(machines.path("times")).unwrap(), "x\n", "executed once");
    textum(&tiny, &["verify"]).expect(0);
}

#[test]
fn a_rented_machine_that_nobody_asks_for_ends_itself() {
    let Some(machines) = Machines::here() else { return };
    let lapse = format!("lease = \"9s\"\nlapse = \"touch {}\"", machines.path("lapsed"));
    let tiny = waiting(&machines, &machines.rented(&lapse));
    let mut child = start(&tiny, &["run"]);
    let begun = machines.until("begun");
    child.kill().unwrap();
    child.wait().unwrap();
    let job = begun.parent().unwrap().parent().unwrap().join("run");
    let pid = std::fs::read_dir(job).unwrap().flatten().find(|e| e.file_name().to_string_lossy().ends_with(".pid")).unwrap();
    let pid = std::fs::read_to_string(pid.path()).unwrap();
    let waited = Instant::now();
    while !PathBuf::from(machines.path("lapsed")).exists() {
        assert!(waited.elapsed() < Duration::from_secs(60), "the lease did not end");
        std::thread::sleep(Duration::from_millis(50));
    }
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    assert!(stat.is_empty() || stat.contains(") Z "), "its job has ended with it: {stat}");
    // It is still held as far as anybody here knows; whoever resumes finds its job lost.
    textum(&tiny, &["runs"]).expect(0).warns("the machine of box is held");
    let mut child = start(&tiny, &["resume"]);
    std::fs::write(machines.until("begun").with_file_name("go"), "").unwrap();
    std::thread::sleep(Duration::from_millis(10));
    // The first job's folder may be found first: the word is for whichever waits.
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() {
        for job in std::fs::read_dir(machines.path("far")).unwrap().flatten() {
            if job.path().join("work/begun").exists() {
                let _ = std::fs::write(job.path().join("work/go"), "");
            }
        }
        assert!(begun.elapsed() < Duration::from_secs(60));
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(tiny.has("o"), "{}", tiny.read("said"));
    assert_eq!(tiny.read("o"), "yarn\n");
    assert!(machines.names().is_empty(), "it is given back at last: {:?}: {}", machines.names(), tiny.read("said"));
}

pub(crate) fn engine() -> String {
    format!("sh {}/assets/demo/shed/engine.sh", env!("CARGO_MANIFEST_DIR"))
}

/// A place by three commands, with more of them before what an order does.
fn grid(folder: &str, before: &str) -> String {
    let own = engine();
    format!(
        "[place.box]\nkind = \"command\"\nsubmit = \"{own} {folder} submit {{script}}\"\nstate = \"{before}{own} {folder} state {{jobs}}\"\ncancel = \"{own} {folder} cancel {{job}} {{signal}}\"\nwords = {{ Q = \"waiting\", R = \"running\", C = \"over\", X = \"cancelled\", P = \"preempted\", L = \"lost\" }}\n"
    )
}

#[test]
fn an_engine_that_is_known_by_its_commands_carries_stages_out() {
    let folder = tempfile::tempdir().unwrap();
    let engine = folder.path().join("engine").display().to_string();
    let stage = "[stage.x]\nrun = \"echo $$ >> times; echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\nobserve = false\n";
    let tiny = Tiny::with(&format!("{}{stage}", grid(&engine, "")));
    textum(&tiny, &["place", "check"]).expect(0).says("can be used");
    let until = |file: &str| {
        let begun = Instant::now();
        while std::fs::metadata(tiny.path(file)).map_or(0, |m| m.len()) == 0 {
            assert!(begun.elapsed() < Duration::from_secs(60), "{file} did not come");
            std::thread::sleep(Duration::from_millis(10));
        }
    };
    let mut child = start(&tiny, &["run"]);
    until("begun");
    child.kill().unwrap();
    child.wait().unwrap();
    tiny.write("go", "");
    textum(&tiny, &["resume"]).expect(0).warns("takes up the job");
    assert_eq!(tiny.read("times").lines().count(), 1);
    std::fs::remove_file(tiny.path("go")).unwrap();
    std::fs::remove_file(tiny.path("begun")).unwrap();
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x > o", "echo y > o"));
    let mut child = start(&tiny, &["run"]);
    until("begun");
    textum(&tiny, &["stop"]).expect(0);
    assert_eq!(child.wait().unwrap().code(), Some(1));
    // Refusals and nonsense.
    let with = |from: &str, to: &str| {
        let text = grid(&engine, "").replace(from, to);
        let tiny =
            Tiny::with(&format!("{text}[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\nobserve = false\n"));
        textum(&tiny, &["run"])
    };
    let submit = format!("sh {}/assets/demo/shed/engine.sh {engine} submit {{script}}", env!("CARGO_MANIFEST_DIR"));
    with(&submit, "echo 'no such queue' >&2; exit 3 # {script}").expect(1).warns("`submit` did not succeed: no such queue");
    with(&submit, "true {script}").expect(1).warns("which is no name of a job");
    // A folder that is not shared, as far as the engine's side sees it: nothing of it is there.
    let hidden = "unshare -m sh -c 'mount -t tmpfs none .textum && sh {script}' > shown 2>&1; echo j1";
    let text = grid(&engine, "").replace(&submit, hidden).replace("state = \"", "state = \"echo j1 over; true ");
    let elsewhere = Tiny::with(&text);
    textum(&elsewhere, &["place", "check"]).expect(1).says("cannot be used").says("is not the same folder there");
    // Lines that are none, and words that nobody knows, do not end a wait; nor does a command that fails now and then.
    with("state = \"", "state = \"echo; echo x; echo 'a DREAMING b c'; [ -e seen ] || { : > seen; exit 1; }; ").expect(0);
}

/// What a Textum that was killed has left is read by whoever comes next: whatever stands there, nothing worse than an
/// execution anew comes of it, and to look executes nothing.
#[test]
fn what_a_lost_textum_has_left_is_not_believed_blindly() {
    let folder = tempfile::tempdir().unwrap();
    let state = folder.path().join("engine").display().to_string();
    let stage = "[stage.x]\nrun = \"echo $$ >> times; echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\nobserve = false\n";
    let asked = folder.path().join("asked").display().to_string();
    let hostile: [(&str, &[u8]); 9] = [
        ("submitted", b"textum-../../../../x"),
        ("submitted", b"\xff\xfe"),
        ("task.json", b"{\"root\": \"/\", \"standing\": {}}"),
        ("task.json", b"{"),
        ("begun.json", b"{}"),
        ("begun.json", b""),
        ("called", b"; touch owned\n"),
        ("called", b"--version"),
        ("end", b"0"),
    ];
    for (name, bytes) in hostile {
        let tiny = Tiny::with(&format!("{}{stage}", grid(&state, &format!("echo x >> {asked}; "))));
        let mut child = start(&tiny, &["run"]);
        let begun = Instant::now();
        while !tiny.has("begun") {
            assert!(begun.elapsed() < Duration::from_secs(60));
            std::thread::sleep(Duration::from_millis(5));
        }
        child.kill().unwrap();
        child.wait().unwrap();
        let run = std::fs::read_dir(tiny.path(".textum/runs")).unwrap().flatten().next().unwrap().path();
        let files: Vec<_> = std::fs::read_dir(run.join("x")).unwrap().flatten().map(|e| e.path()).collect();
        let ends_so = |p: &&PathBuf| p.file_name().unwrap().to_str().unwrap().rsplit('.').next() == Some(name) || p.ends_with(name);
        let path = files.iter().find(ends_so).cloned().unwrap_or_else(|| {
            let script = files.iter().find(|p| p.extension().is_some_and(|e| e == "script")).unwrap();
            script.with_extension(name)
        });
        std::fs::write(&path, bytes).unwrap();
        let before = std::fs::read_to_string(&asked).unwrap_or_default().len();
        textum(&tiny, &["runs"]).expect(0);
        assert_eq!(std::fs::read_to_string(&asked).unwrap_or_default().len(), before, "{name}: to look executes nothing");
        tiny.write("go", "");
        let ran = textum(&tiny, &["run"]);
        assert!(matches!(ran.status, 0 | 1 | 4), "{name} {bytes:?}: {}", ran.err);
        assert!(!ran.err.contains("panicked") && !tiny.has("owned") && !run.join("x/owned").exists(), "{name}: {}", ran.err);
        textum(&tiny, &["verify"]).expect(0);
    }
}

#[test]
fn a_stage_that_had_to_make_room_goes_on_from_its_last_checkpoint_by_itself() {
    let folder = tempfile::tempdir().unwrap();
    let engine = folder.path().join("engine").display().to_string();
    // The engine says of the first job that it was preempted as soon as that waits; it ends when the project is gone.
    let before =
        "if [ -e waits ] && [ ! -e over ]; then : > over; for j in {jobs}; do echo $j P by a job of the dyers; done; exit; fi; ";
    let step = "echo $i >> c; echo \\\"{\\\\\\\"step\\\\\\\": $i, \\\\\\\"metric\\\\\\\": {\\\\\\\"loss\\\\\\\": $i}, \\\\\\\"checkpoint\\\\\\\": true}\\\" >> $TEXTUM_SIGNALS";
    let run = format!(
        "echo from ${{TEXTUM_FROM_STEP:-none}}; for i in 1 2 3 4; do [ $i -gt ${{TEXTUM_FROM_STEP:-0}} ] || continue; {step}; if [ $i = 2 ] && [ ! -e over ]; then while [ -e textum.toml ]; do [ -e recorded ] && : > waits; sleep 0.05; done; fi; done; cp c o"
    );
    let manifest = format!(
        "{}retries = 2\n[stage.x]\nrun = \"{run}\"\nwrites = [\"o\"]\ncheckpoints = \"c\"\nplace = \"box\"\nobserve = false\n",
        grid(&engine, before)
    );
    let tiny = Tiny::with(&manifest);
    let mut child = start(&tiny, &["run"]);
    let begun = Instant::now();
    let told = || {
        let runs = std::fs::read_dir(tiny.path(".textum/runs")).into_iter().flatten().flatten();
        runs.filter_map(|run| std::fs::read_to_string(run.path().join("events")).ok())
            .any(|e| e.contains("\"checkpoint\"") && e.contains("\"step\":2"))
    };
    while !told() {
        assert!(begun.elapsed() < Duration::from_secs(60) && child.try_wait().unwrap().is_none(), "no checkpoint of step 2");
        std::thread::sleep(Duration::from_millis(10));
    }
    tiny.write("recorded", "");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(tiny.read("o"), "1\n2\n3\n4\n");
    let shown = textum(&tiny, &["show", "last"]).expect(0).out;
    assert!(
        shown.contains("gave its place to a job of higher priority") && shown.contains("attempt 2 went on from step 2"),
        "{shown}"
    );
    let log = textum(&tiny, &["show", "last", "--log", "x"]).expect(0).out;
    assert_eq!(log, "from none\nfrom 2\n");
    for n in 1..=4 {
        textum(&tiny, &["restore", &format!("last#{n}"), "--output", &format!("out{n}")]).expect(0);
        assert!(tiny.read(&format!("out{n}/c")).lines().count() >= n, "checkpoint {n}");
    }
    // It is one execution of the same inputs: up to date, and rebuilt from its beginning.
    textum(&tiny, &["plan", "--check"]).expect(0);
    // Without more tries, or where nobody has a checkpoint, the words of the place are the reason.
    let tiny = Tiny::with(&manifest.replace("retries = 2", "retries = 0"));
    tiny.write("recorded", "");
    textum(&tiny, &["run"]).expect(1).warns("gave its place to a job of higher priority");
}

#[test]
fn mistakes_about_machines_and_engines_are_told() {
    let stage = "[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\n";
    let cases = [
        ("kind = \"ssh\"", "has no `address`", "`begin` and `end`"),
        ("kind = \"ssh\"\nbegin = \"x\"", "has no `end`", "none is forgotten"),
        ("kind = \"ssh\"\naddress = \"a\"\nbegin = \"x\"\nend = \"y\"", "has no one meaning", "stands there"),
        ("kind = \"ssh\"\naddress = \"-oProxyCommand=x\"", "cannot be the address", "not with a dash first"),
        ("kind = \"ssh\"\naddress = \"a b\"", "cannot be the address", "without blanks"),
        ("kind = \"ssh\"\naddress = \"a\"\nlease = \"soon\"", "`soon` is no time", "15m"),
        ("kind = \"ssh\"\nbegin = \"x {cpus}\"\nend = \"y\"", "{cpus} stands for nothing", "{hold}"),
        ("kind = \"ssh\"\naddress = \"a\"\noptions = { BatchMode = false }", "`BatchMode` is said by Textum", ""),
        ("kind = \"slurm\"\nsubmit = \"x\"", "`submit` is for places of kind \"command\"", "leave it out"),
        ("kind = \"slurm\"\naddress = \"x\"\nlease = \"1m\"", "`lease` is for places of kind \"ssh\"", "leave it out"),
        ("kind = \"command\"\nsubmit = \"x {script}\"", "has no `state`", "docs/places.md"),
        (
            "kind = \"command\"\nsubmit = \"x\"\nstate = \"y {jobs}\"\ncancel = \"z {job}\"",
            "does not say {script}",
            "docs/places.md",
        ),
        (
            "kind = \"command\"\nsubmit = \"x {script} {disk}\"\nstate = \"y {jobs}\"\ncancel = \"z {job}\"",
            "{disk} stands for nothing",
            "{minutes}",
        ),
        (
            "kind = \"command\"\nsubmit = \"x {script}\"\nstate = \"y {jobs}\"\ncancel = \"z {job}\"\nwords = { R = \"runs\" }",
            "`runs` is no meaning",
            "running",
        ),
    ];
    for (place, title, help) in cases {
        let ran = textum(&Tiny::with(&format!("[place.box]\n{place}\n\n{stage}")), &["plan"]).expect(2);
        assert!(ran.err.contains(title) && ran.err.contains(help), "{place}: {}", ran.err);
    }
}
