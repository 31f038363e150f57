//! What every place where commands are executed must do, held against this machine; by its own waiting and by that
//! which the trait gives to a place that only answers how jobs stand.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use textum_core::config::manifest::{EngineCommands, MachineDecl, Needs, PlaceDecl, PlaceKind};
use textum_core::fsio::IoError;
use textum_core::pipeline::executor::{
    BatchExecutor, Cancel, Capacity, Executor, Job, JobCommand, JobId, JobState, LocalExecutor, TooMuchMemory,
};
use textum_core::record::receipt::{Exit, PlaceRecord};

/// A place that waits as the trait does for it.
#[derive(Default)]
struct ByAsking(LocalExecutor);

impl Executor for ByAsking {
    fn record(&self) -> PlaceRecord {
        self.0.record()
    }
    fn capacity(&self, most: Option<usize>) -> Capacity {
        self.0.capacity(most)
    }
    fn submit(&self, job: &Job) -> Result<JobId, IoError> {
        self.0.submit(job)
    }
    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError> {
        self.0.poll(ids)
    }
    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError> {
        self.0.cancel(id, how)
    }
    fn attach(&self, id: &JobId) -> Result<bool, IoError> {
        self.0.attach(id)
    }
}

const NEEDS: Needs = Needs { cpus: 1, memory: 0, gpus: 0, time: None };

/// Where a job works and where its log stands are two folders, as for stages: what comes back beside a log must not change
/// what is being sent.
struct Bench {
    folder: tempfile::TempDir,
    place: Box<dyn Executor>,
    /// Where jobs work, if that is not the folder.
    far: Option<PathBuf>,
}

impl Bench {
    fn of(folder: tempfile::TempDir, place: Box<dyn Executor>, far: Option<PathBuf>) -> Bench {
        for own in ["work", "run"] {
            fs::create_dir(folder.path().join(own)).unwrap();
        }
        Bench { folder, place, far }
    }

    fn work(&self) -> PathBuf {
        self.folder.path().join("work")
    }

    fn path(&self, name: &str) -> PathBuf {
        let here = self.work().join(name);
        let jobs = self.far.iter().flat_map(|far| fs::read_dir(far).into_iter().flatten().flatten());
        let mut there = jobs.map(|job| job.path().join("work").join(name)).filter(|path| path.exists());
        if here.exists() { here } else { there.next().unwrap_or(here) }
    }

    fn job(&self, command: JobCommand) -> Job {
        let variables = [("PATH", "/usr/bin:/bin"), ("YARN", "wool \"and\" silk"), ("EMPTY", "")];
        let variables = variables.map(|(k, v)| (k.to_string(), v.to_string())).to_vec();
        Job {
            command,
            folder: self.work(),
            variables,
            log: self.log_file(),
            needs: NEEDS,
            place: None,
            declared: vec!["YARN".into(), "EMPTY".into()],
            inputs: Vec::new(),
            outputs: OUTPUTS.map(String::from).to_vec(),
            checkpoints: None,
            away: None,
        }
    }

    fn shell(&self, text: &str) -> JobId {
        self.place.submit(&self.job(JobCommand::Shell(text.to_string()))).unwrap()
    }

    fn log_file(&self) -> PathBuf {
        self.folder.path().join("run/log")
    }

    fn log(&self) -> String {
        fs::read_to_string(self.log_file()).unwrap()
    }

    fn state(&self, id: &JobId) -> JobState {
        self.place.poll(std::slice::from_ref(id)).unwrap()[0]
    }

    /// Waits for a file that a job writes when it has come so far.
    fn until(&self, name: &str) {
        let begun = Instant::now();
        while fs::metadata(self.path(name)).map_or(0, |m| m.len()) == 0 {
            assert!(begun.elapsed() < Duration::from_secs(60), "{name} was not written");
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

/// Whether a process is there and has not ended. Of one that was ended just now the kernel may need a moment.
fn ends(pid: &str) -> bool {
    let runs = || {
        let stat = fs::read_to_string(Path::new("/proc").join(pid.trim()).join("stat")).unwrap_or_default();
        stat.rsplit_once(')').is_some_and(|(_, rest)| !rest.trim_start().starts_with(['Z', 'X']))
    };
    let begun = Instant::now();
    while runs() && begun.elapsed() < Duration::from_secs(20) {
        std::thread::sleep(Duration::from_millis(10));
    }
    !runs()
}

/// At all places at once: most of the time goes by in waiting.
fn on_each(test: impl Fn(&Bench) + Sync) {
    let mut places: Vec<Box<dyn Executor>> = vec![Box::new(LocalExecutor::default()), Box::new(ByAsking::default())];
    match std::env::var_os("TEXTUM_CLUSTER") {
        Some(_) => places.push(Box::new(cluster())),
        None => eprintln!("no cluster is there (scripts/cluster): it was not held to what every place must do"),
    }
    let mut benches: Vec<Bench> = places.into_iter().map(|place| Bench::of(tempfile::tempdir().unwrap(), place, None)).collect();
    let beside = tempfile::tempdir().unwrap();
    benches.push(Bench::of(tempfile::tempdir().unwrap(), Box::new(engine(beside.path())), None));
    let mut logins = Vec::new();
    let far = |place: BatchExecutor, folder: &str| {
        Bench::of(tempfile::tempdir_in(beside.path()).unwrap(), Box::new(place), Some(beside.path().join(folder)))
    };
    for what in ["grid", "cluster"] {
        let Some((login, place)) = logged_in(beside.path(), what) else { continue };
        logins.push(login);
        benches.push(far(place, &format!("there-{what}")));
    }
    let rented = machine(beside.path());
    let is_rented = rented.is_some();
    benches.extend(rented.map(|place| far(place, "far")));
    std::thread::scope(|scope| {
        let test = &test;
        let at_work: Vec<_> = benches.iter().map(|bench| scope.spawn(move || test(bench))).collect();
        at_work.into_iter().for_each(|one| one.join().unwrap_or_else(|failed| std::panic::resume_unwind(failed)));
    });
    // A machine is given back when its place goes.
    drop(benches);
    if is_rented {
        let left: Vec<_> = fs::read_dir(beside.path().join("state/held")).unwrap().flatten().map(|e| e.file_name()).collect();
        assert!(left.iter().all(|name| !name.to_string_lossy().ends_with(".json")), "a machine is still held: {left:?}");
    }
}

fn cluster() -> BatchExecutor {
    BatchExecutor::of(&decl("cluster", PlaceKind::Slurm), None)
}

fn decl(name: &str, kind: PlaceKind) -> PlaceDecl {
    PlaceDecl { name: name.into(), kind, options: Vec::new(), jobs: 50, retries: 0, commands: None, machine: None }
}

fn script(name: &str) -> String {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts").join(name).display().to_string()
}

/// Any other engine, by its commands.
fn engine(folder: &Path) -> BatchExecutor {
    BatchExecutor::of(&PlaceDecl { commands: Some(commands(folder)), ..decl("grid", PlaceKind::Command) }, None)
}

fn commands(folder: &Path) -> EngineCommands {
    let own = Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/assets/demo/shed/engine.sh");
    let (own, state) = (format!("sh {}", own.display()), folder.display());
    EngineCommands {
        submit: format!("{own} {state} submit {{script}}"),
        state: format!("{own} {state} state {{jobs}}"),
        cancel: format!("{own} {state} cancel {{job}} {{signal}}"),
        words: [("Q", "waiting"), ("R", "running"), ("C", "over"), ("X", "cancelled")].map(|(a, b)| (a.into(), b.into())).to_vec(),
    }
}

/// A login machine, ended when it goes.
struct Login(PathBuf);

impl Drop for Login {
    fn drop(&mut self) {
        let _ = std::process::Command::new(script("machine")).arg("end").arg(&self.0).arg("login").output();
    }
}

/// An engine, or the cluster that is here, reached through a login machine. None where there is none.
fn logged_in(folder: &Path, what: &str) -> Option<(Login, BatchExecutor)> {
    if what == "cluster" && std::env::var_os("TEXTUM_CLUSTER").is_none() {
        return None;
    }
    let machines = folder.join(format!("login-{what}"));
    let told = std::process::Command::new(script("machine")).arg("login").arg(&machines).arg("login").output().unwrap();
    let told = String::from_utf8(told.stdout).unwrap();
    let Some((address, key)) = told.trim().split_once('\n') else {
        eprintln!("no login machine can be made here (scripts/machine): it was not held to what every place must do");
        return None;
    };
    fs::write(machines.join("hosts"), format!("* {key}\n")).unwrap();
    let options = [("IdentityFile", "key"), ("UserKnownHostsFile", "hosts")];
    let machine = MachineDecl {
        options: options.map(|(option, file)| format!("-o{option}={}", machines.join(file).display())).to_vec(),
        address: Some(address.to_string()),
        folder: folder.join(format!("there-{what}")).display().to_string(),
        depot: None,
        begin: None,
        end: None,
        lease: None,
        lapse: None,
    };
    let (kind, commands) = match what {
        "grid" => (PlaceKind::Command, Some(commands(&folder.join("grid")))),
        _ => (PlaceKind::Slurm, None),
    };
    let decl = PlaceDecl { commands, machine: Some(machine), ..decl(what, kind) };
    Some((Login(machines), BatchExecutor::of(&decl, Some(&folder.join("state")))))
}

/// A machine that is rented: in a network of its own, with an SSH server. None where none can be made.
fn machine(folder: &Path) -> Option<BatchExecutor> {
    let (own, machines) = (script("machine"), folder.join("machines"));
    let try_it = |what: &str| std::process::Command::new(&own).arg(what).arg(&machines).arg("probe").output().ok();
    let works = try_it("begin").is_some_and(|o| o.status.success());
    let _ = try_it("end");
    if !works {
        eprintln!("no machine can be made here (scripts/machine): it was not held to what every place must do");
        return None;
    }
    let machine = MachineDecl {
        options: vec![format!("-oIdentityFile={}", machines.join("key").display())],
        address: None,
        depot: None,
        folder: folder.join("far").display().to_string(),
        begin: Some(format!("{own} begin {} {{hold}}", machines.display())),
        end: Some(format!("{own} end {} {{hold}}", machines.display())),
        lease: Some(60),
        lapse: None,
    };
    let decl = PlaceDecl { machine: Some(machine), ..decl("box", PlaceKind::Ssh) };
    Some(BatchExecutor::of(&decl, Some(&folder.join("state"))))
}

/// What the jobs of these tests write.
const OUTPUTS: [&str; 5] = ["begun", "tidied", "left", "deeper", "third"];

/// Whether the place only takes a job's words, so that a program that is not there is found out when it is at work.
fn takes_words_only(place: &dyn Executor) -> bool {
    place.record().kind != "local"
}

#[test]
fn a_job_has_its_folder_its_variables_and_nothing_else() {
    on_each(|b| {
        let id = b.shell("pwd; env | sort; cat; echo to err >&2");
        assert_eq!(b.place.wait(&id).unwrap(), Exit::Code(0));
        let folder = fs::canonicalize(b.work()).unwrap();
        let said = b.log();
        let lines: Vec<&str> =
            said.lines().filter(|l| !l.starts_with("_=") && !l.starts_with("PWD=") && !l.starts_with("OLDPWD=")).collect();
        if b.far.is_some() {
            // The machine's own variables, and what the stage declares.
            assert!(lines[0].ends_with("/work") && !lines.contains(&"PATH=/usr/bin:/bin"), "{said}");
            assert!(!lines.iter().any(|line| line.starts_with("SLURM_JOB")), "{said}");
            assert!(["EMPTY=", "YARN=wool \"and\" silk", "to err"].iter().all(|line| lines.contains(line)), "{said}");
        } else {
            assert_eq!(
                lines,
                [folder.to_str().unwrap(), "EMPTY=", "PATH=/usr/bin:/bin", "YARN=wool \"and\" silk", "to err"],
                "{said}"
            );
        }
        // What it prints is added to what stands in the log.
        let id =
            b.place.submit(&b.job(JobCommand::Argv(["printf", "%s|", "a b", "$YARN", ""].map(String::from).to_vec()))).unwrap();
        assert_eq!(b.place.wait(&id).unwrap(), Exit::Code(0));
        assert_eq!(b.log().strip_prefix(&said), Some("a b|$YARN||"));
    });
}

#[test]
fn an_end_is_told_as_it_was_and_again() {
    on_each(|b| {
        for (text, exit) in [
            ("exit 0", Exit::Code(0)),
            ("exit 7", Exit::Code(7)),
            ("kill -9 $$", Exit::Signal(9)),
            ("kill -15 $$", Exit::Signal(15)),
        ] {
            let id = b.shell(text);
            assert_eq!(b.place.wait(&id).unwrap(), exit, "{text}");
            assert_eq!(b.place.wait(&id).unwrap(), exit, "{text}");
            assert_eq!(b.state(&id), JobState::Ended(exit), "{text}");
            // Cancelling what has ended changes nothing, and hits nobody else.
            b.place.cancel(&id, Cancel::AtOnce).unwrap();
            assert_eq!(b.state(&id), JobState::Ended(exit), "{text}");
        }
        let missing = b.place.submit(&b.job(JobCommand::Argv(vec!["textum-no-such-program".into()])));
        match takes_words_only(&*b.place) {
            true => assert_eq!(b.place.wait(&missing.unwrap()).unwrap(), Exit::Code(127)),
            false => assert!(missing.unwrap_err().to_string().contains("textum-no-such-program")),
        }
    });
}

#[test]
fn many_are_asked_for_in_one_call_and_ids_are_one_line_each() {
    on_each(|b| {
        // Each is a handful of connections to a machine.
        let many = if b.far.is_some() { 4 } else { 24 };
        let ids: Vec<JobId> = (0..many).map(|n| b.shell(&format!("exit {n}"))).collect();
        let mut distinct = ids.clone();
        distinct.sort();
        distinct.dedup();
        assert_eq!(distinct.len(), ids.len());
        assert!(ids.iter().all(|id| !id.0.is_empty() && !id.0.contains(char::is_whitespace)));
        for (n, id) in ids.iter().enumerate() {
            assert_eq!(b.place.wait(id).unwrap(), Exit::Code(n as i32));
        }
        let mut asked = ids.clone();
        asked.reverse();
        asked.push(JobId("999999.1.nowhere".into()));
        let states = b.place.poll(&asked).unwrap();
        let expected = (0..many).rev().map(|n| JobState::Ended(Exit::Code(n))).chain([JobState::Lost]);
        assert_eq!(states, expected.collect::<Vec<_>>());
    });
}

#[test]
fn one_at_work_is_asked_to_end_or_ended() {
    on_each(|b| {
        let id = b.shell("trap 'echo tidied > tidied; exit 3' INT; echo $$ > begun; while :; do sleep 0.1; done");
        b.until("begun");
        assert_eq!(b.state(&id), JobState::Running);
        b.place.cancel(&id, Cancel::Ask).unwrap();
        assert_eq!(b.place.wait(&id).unwrap(), Exit::Code(3));
        assert_eq!(fs::read_to_string(b.path("tidied")).unwrap(), "tidied\n");
        fs::remove_file(b.path("begun")).unwrap();
        // One that does not listen.
        let id = b.shell("trap '' INT TERM HUP; echo $$ > begun; while :; do sleep 0.1; done");
        b.until("begun");
        b.place.cancel(&id, Cancel::Ask).unwrap();
        assert_eq!(b.state(&id), JobState::Running);
        b.place.cancel(&id, Cancel::AtOnce).unwrap();
        assert_eq!(b.place.wait(&id).unwrap(), Exit::Signal(9));
        assert!(ends(&fs::read_to_string(b.path("begun")).unwrap()));
    });
}

#[test]
fn what_a_command_leaves_running_ends_with_it() {
    on_each(|b| {
        let id =
            b.shell("sleep 1000 & echo $! > left; (sleep 1000 & echo $! > deeper); sh -c 'sleep 1000' & echo $! > third; exit 0");
        assert_eq!(b.place.wait(&id).unwrap(), Exit::Code(0));
        for name in ["left", "deeper", "third"] {
            assert!(ends(&fs::read_to_string(b.path(name)).unwrap()), "{name} still runs");
        }
    });
}

#[test]
fn another_process_may_take_a_job_up_by_its_id() {
    let b = Bench::of(tempfile::tempdir().unwrap(), Box::new(LocalExecutor::default()), None);
    let id = b.shell("echo $$ > begun; while :; do sleep 0.1; done");
    b.until("begun");
    // As another process knows it: by what was written down.
    let later = LocalExecutor::default();
    assert_eq!(later.poll(std::slice::from_ref(&id)).unwrap(), [JobState::Lost]);
    later.cancel(&id, Cancel::AtOnce).unwrap();
    assert_eq!(b.state(&id), JobState::Running, "whoever has not attached ends nothing");
    assert!(later.attach(&id).unwrap());
    assert_eq!(later.poll(std::slice::from_ref(&id)).unwrap(), [JobState::Running]);
    later.cancel(&id, Cancel::AtOnce).unwrap();
    assert_eq!(b.place.wait(&id).unwrap(), Exit::Signal(9));
    assert_eq!(later.poll(std::slice::from_ref(&id)).unwrap(), [JobState::Lost], "how it ended only its parent knows");
    assert!(later.wait(&id).unwrap_err().to_string().contains("cannot be told"));
    assert!(!LocalExecutor::default().attach(&id).unwrap(), "it has ended");
}

#[test]
fn a_number_that_now_is_anothers_is_not_attached_to() {
    let own = std::process::id();
    let place = LocalExecutor::default();
    let ids = [
        format!("{own}.1.deadbeef"),
        format!("{own}"),
        "1.0.x".into(),
        "0.0.0".into(),
        "-1.0.0".into(),
        String::new(),
        "\u{0}".into(),
    ];
    for id in ids.map(JobId) {
        assert!(!place.attach(&id).unwrap(), "{id:?}");
        place.cancel(&id, Cancel::AtOnce).unwrap();
    }
}

#[test]
fn a_job_that_holds_more_than_it_needs_is_told_of() {
    let b = Bench::of(tempfile::tempdir().unwrap(), Box::new(LocalExecutor::default()), None);
    let text = "x=$(head -c 60000000 /dev/zero | tr '\\0' x); echo $$ > begun; while :; do sleep 0.1; done";
    let job = |memory| Job { needs: Needs { memory, ..NEEDS }, ..b.job(JobCommand::Shell(text.into())) };
    let id = b.place.submit(&job(20 << 20)).unwrap();
    let begun = Instant::now();
    let found = loop {
        if let Some(found) = b.place.too_much_memory(&id) {
            break found;
        }
        assert!(begun.elapsed() < Duration::from_secs(60), "nothing was told");
        std::thread::sleep(Duration::from_millis(5));
    };
    assert!(matches!(found, TooMuchMemory::Refused) || matches!(found, TooMuchMemory::Held(held) if held > 20 << 20), "{found:?}");
    b.place.cancel(&id, Cancel::AtOnce).unwrap();
    b.place.wait(&id).unwrap();
    let _ = fs::remove_file(b.path("begun"));
    let id = b.place.submit(&job(2 << 30)).unwrap();
    b.until("begun");
    assert_eq!(b.place.too_much_memory(&id), None);
    b.place.cancel(&id, Cancel::AtOnce).unwrap();
    b.place.wait(&id).unwrap();
}
