//! Stages on a cluster: a real one where there is one (`scripts/cluster`), else an engine that misbehaves.

use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use textum_testkit::{Ran, Tiny};

use crate::{TEXTUM, textum};

const PLACE: &str = "[place.cluster]\nkind = \"slurm\"\n\n";

/// The cluster, for one test at a time: it has few processors, and some tests silence it.
struct Cluster {
    folder: String,
    conf: String,
    _alone: MutexGuard<'static, ()>,
}

fn cluster() -> Option<Cluster> {
    static ONE: Mutex<()> = Mutex::new(());
    let Ok(folder) = std::env::var("TEXTUM_CLUSTER") else {
        eprintln!("no cluster is there: this was not tested (scripts/cluster start DIR)");
        return None;
    };
    let conf = std::env::var("SLURM_CONF").unwrap();
    Some(Cluster { folder, conf, _alone: ONE.lock().unwrap_or_else(PoisonError::into_inner) })
}

impl Cluster {
    fn textum(&self, tiny: &Tiny, words: &[&str]) -> Ran {
        tiny.textum_with(TEXTUM, words, &[("SLURM_CONF", &self.conf)])
    }

    fn control(&self, order: &str) {
        let script = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../scripts/cluster");
        assert!(Command::new(script).args([order, &self.folder]).stdout(std::process::Stdio::null()).status().unwrap().success());
    }

    /// What the engine lists of our jobs that have not ended.
    fn jobs(&self) -> String {
        let output = Command::new("squeue").args(["-h", "-o", "%i %j %T"]).env("SLURM_CONF", &self.conf).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    fn until_no_jobs(&self) {
        let begun = Instant::now();
        while !self.jobs().is_empty() {
            assert!(begun.elapsed() < Duration::from_secs(60), "jobs are left: {}", self.jobs());
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn start(&self, tiny: &Tiny, words: &[&str]) -> std::process::Child {
        let mut command = Command::new(TEXTUM);
        command.args(words).current_dir(tiny.root()).env_clear().envs(tiny.variables()).env("SLURM_CONF", &self.conf);
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap()
    }
}

fn until(tiny: &Tiny, file: &str) {
    let begun = Instant::now();
    while std::fs::metadata(tiny.path(file)).map_or(0, |m| m.len()) == 0 {
        assert!(begun.elapsed() < Duration::from_secs(60), "{file} did not come");
        std::thread::sleep(Duration::from_millis(10));
    }
}

fn digests(ran: &Ran) -> Vec<String> {
    let run = ran.json();
    let writes = run["stages"].as_array().unwrap().iter().flat_map(|s| s["writes"].as_array().unwrap().clone());
    writes.map(|w| w["digest"].as_str().unwrap().to_string()).collect()
}

#[test]
fn a_result_is_the_same_wherever_it_is_made() {
    let Some(cluster) = cluster() else { return };
    let stages = "[params]\nfit = { rate = 3 }\n\n[stage.cut]\neach = { fold = \"0..2\" }\nrun = \"grep ,{each.fold} d.csv > b/{each.fold}.csv; env | cut -d= -f1 | sort | tr '\\\\n' ' '\"\nreads = [\"d.csv\"]\nwrites = [\"b/{each.fold}.csv\"]\nplace = \"cluster\"\n\n[stage.sum]\nrun = [\"sh\", \"-c\", \"cat b/*.csv > all; echo '{\\\"rows\\\": 3}' > m.json; echo {fit.rate}\"]\nreads = [\"b/{each.fold}.csv\"]\nparams = [\"fit\"]\nwrites = [\"all\"]\nmetrics = [\"m.json\"]\nneeds = { cpus = 2, memory = \"300MiB\", time = \"2m\" }\n";
    let tiny = Tiny::with(&format!("{PLACE}{stages}"));
    tiny.write("d.csv", "a,0\nb,1\nc,2\n");
    let there = cluster.textum(&tiny, &["run", "--place", "sum=cluster", "--format", "json"]).expect(0);
    let shown = cluster.textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    for stage in shown["stages"].as_array().unwrap() {
        let place = &stage["place"];
        assert_eq!((place["kind"].as_str(), place["name"].as_str()), (Some("slurm"), Some("cluster")), "{stage}");
        assert!(
            place["job"].as_str().is_some_and(|n| n.parse::<u64>().is_ok()) && place["host"].as_str().unwrap().starts_with('n')
        );
    }
    // Its environment is that of any stage, and nothing of the engine's.
    let log = cluster.textum(&tiny, &["show", "last", "--log", "cut:1"]).expect(0).out;
    assert!(log.contains("TEXTUM_STAGE") && !log.contains("SLURM"), "{log}");
    // Where it was made counts for nothing.
    let again = textum(&tiny, &["run", "--place", "local", "--format", "json"]).expect(0);
    assert_eq!(again.json()["recorded"], false);
    let here = Tiny::with(&format!("{PLACE}{stages}"));
    here.write("d.csv", "a,0\nb,1\nc,2\n");
    let local = textum(&here, &["run", "--place", "local", "--format", "json"]).expect(0);
    assert_eq!(digests(&there), digests(&local));
    cluster.textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    cluster.textum(&tiny, &["verify"]).expect(0);
    cluster.textum(&tiny, &["show", "last"]).expect(0).says("on cluster");
    cluster.until_no_jobs();
}

#[test]
fn each_end_that_a_cluster_can_make_has_its_own_words() {
    let Some(cluster) = cluster() else { return };
    let one = |run: &str, needs: &str| {
        let tiny =
            Tiny::with(&format!("{PLACE}[stage.x]\nrun = {run:?}\nwrites = [\"o\"]\nplace = \"cluster\"\nneeds = {needs}\n"));
        let ran = cluster.textum(&tiny, &["run"]).expect(1);
        ran.err
    };
    let hog = "python3 -c 'import time; b = b\"x\" * 400000000; time.sleep(60)'; echo x > o";
    assert!(one(hog, "{ memory = \"50MiB\" }").contains("wanted more memory than its `needs` say"));
    assert!(one("exit 4", "{ cpus = 1 }").contains("its command ended with exit status 4"));
    assert!(one("textum-no-such-program", "{ cpus = 1 }").contains("its command was not found"));
    let refused = one("echo x > o", "{ cpus = 400 }");
    assert!(refused.contains("[place.cluster]") && refused.contains("nothing there can meet its `needs`"), "{refused}");
    // Cancelled by somebody in the cluster.
    let tiny = Tiny::with(&format!(
        "{PLACE}[stage.x]\nrun = \"echo > begun; sleep 100; echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\n"
    ));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    let job = cluster.jobs().split(' ').next().unwrap().to_string();
    assert!(Command::new("scancel").arg(&job).env("SLURM_CONF", &cluster.conf).status().unwrap().success());
    assert_eq!(child.wait().unwrap().code(), Some(1));
    textum(&tiny, &["show", "last"]).expect(0).says("it was cancelled in the cluster");
    cluster.until_no_jobs();
}

#[test]
fn a_textum_that_is_gone_leaves_no_job_and_nothing_is_executed_twice() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!(
        "{PLACE}[stage.x]\nrun = \"echo $$ >> times; echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\n"
    ));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    child.kill().unwrap();
    child.wait().unwrap();
    // Whoever comes next ends what was left at work before anything else is done.
    std::fs::remove_file(tiny.path("begun")).unwrap();
    tiny.write("go", "x");
    cluster.control("silence");
    let looked = cluster.textum(&tiny, &["runs"]);
    let silent = cluster.textum(&tiny, &["run"]);
    cluster.control("speak");
    // To look is possible all the same.
    looked.expect(0).warns("could not be recorded as that yet");
    assert!(silent.err.contains("may still be at work"), "{}", silent.err);
    cluster.textum(&tiny, &["run"]).expect(0).warns("recorded as interrupted");
    cluster.until_no_jobs();
    assert_eq!(tiny.read("times").lines().count(), 2, "once before it was lost, once after");
    assert_eq!(tiny.read("o"), "x\n");
    // Stopped from another terminal, and by hand.
    std::fs::remove_file(tiny.path("go")).unwrap();
    std::fs::remove_file(tiny.path("begun")).unwrap();
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x > o", "echo y > o"));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    cluster.textum(&tiny, &["stop"]).expect(0);
    assert_eq!(child.wait().unwrap().code(), Some(1));
    cluster.until_no_jobs();
}

#[test]
fn a_controller_that_is_lost_loses_no_result() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!(
        "{PLACE}[stage.x]\nrun = \"echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\n"
    ));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    cluster.control("lose");
    tiny.write("go", "x");
    until(&tiny, "o");
    assert!(child.try_wait().unwrap().is_none(), "that nobody answers is not the end");
    cluster.control("start");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    textum(&tiny, &["plan", "--check"]).expect(0);
    // Silent when it is asked to take a job on: it is asked again.
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x > o", "echo y > o"));
    cluster.control("silence");
    let mut child = cluster.start(&tiny, &["run"]);
    std::thread::sleep(Duration::from_millis(300));
    cluster.control("speak");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(tiny.read("o"), "y\n");
    // The engine itself may think that the first is still at work: its node told nobody of the end.
    Command::new("scancel").args(["-p", "main"]).env("SLURM_CONF", &cluster.conf).status().unwrap();
    cluster.until_no_jobs();
}

#[test]
fn a_place_is_checked_by_a_job() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}[stage.x]\nrun = \"echo > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\n"));
    cluster.textum(&tiny, &["place", "check"]).expect(0).says("can be used").says("main").says("as here");
    let json = cluster.textum(&tiny, &["place", "check", "cluster", "--format", "json"]).expect(0).json();
    assert_eq!((&json[0]["place"], &json[0]["fine"]), (&"cluster".into(), &true.into()));
    tiny.write(
        "textum.toml",
        tiny.read("textum.toml").replace("kind = \"slurm\"\n", "kind = \"slurm\"\noptions = { partition = \"night\" }\n"),
    );
    cluster.textum(&tiny, &["place", "check"]).expect(1).says("invalid partition");
}

/// An engine whose commands do what a test wants.
fn engine(tiny: &Tiny, commands: &[(&str, &str)]) -> String {
    for (name, text) in commands {
        let path = format!("bin/{name}");
        tiny.write(&path, format!("#!/bin/sh\n{text}\n"));
        std::fs::set_permissions(tiny.path(&path), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    format!("{}:/usr/bin:/bin", tiny.path("bin").display())
}

#[test]
fn an_engine_that_talks_nonsense_is_told_of() {
    let tiny =
        Tiny::with(&format!("{PLACE}[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\n"));
    let with = |commands: &[(&str, &str)]| {
        let path = engine(&tiny, commands);
        tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)])
    };
    // Whether needs can be met is asked first.
    let tested = |text: &str| format!("case \"$*\" in *--test-only*) exit 0;; esac; {text}");
    with(&[("sbatch", &tested("echo gibberish"))]).expect(1).warns("sbatch answered \"gibberish\", which is no number of a job");
    with(&[("sbatch", "echo 'sbatch: error: no such account' >&2; exit 1")]).expect(1).warns("no such account");
    // One that forgets a job at once: what it left says how it ended; of one that left nothing that cannot be told.
    let submit = &tested("cat > job.sh; setsid sh job.sh; echo 7");
    with(&[("sbatch", submit), ("squeue", "echo 'slurm_load_jobs error: Invalid job id specified' >&2; exit 1")]).expect(0);
    assert_eq!(tiny.read("o"), "x\n");
    // Lines that are none, and states that nobody knows, do not end a wait.
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x", "echo z"));
    let squeue =
        "if [ -e asked ]; then echo '7|COMPLETED|None'; else : > asked; echo 'what?'; echo '|||'; echo '7|DREAMING|None'; fi";
    with(&[("sbatch", submit), ("squeue", squeue)]).expect(0);
    let missing = tiny.textum_with(TEXTUM, &["place", "check"], &[("PATH", "/nowhere")]).expect(1);
    assert!(missing.out.contains("its engine cannot be asked: sinfo cannot be started"), "{}", missing.out);
}

#[test]
fn mistakes_about_places_are_told_before_anything_is_submitted() {
    let stage = "[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\n";
    let cases = [
        (format!("{PLACE}{stage}place = \"claster\"\n"), "there is no place `claster`", "did you mean `cluster`"),
        (format!("[place.local]\nkind = \"slurm\"\n\n{stage}"), "`local` is this machine", "[place.cluster]"),
        (format!("[place.c]\nkind = \"slurm\"\noptions = {{ mem = \"4G\" }}\n\n{stage}"), "`mem` is said by Textum", "needs"),
        (format!("[place.c]\nkind = \"slurm\"\noptions = {{ \"-p\" = \"main\" }}\n\n{stage}"), "`-p` is no option", "long name"),
        (format!("[place.c]\nkind = \"slurm\"\njobs = 0\n\n{stage}"), "executes nothing", "1 or more"),
        (format!("[place.c]\nkind = \"grid\"\n\n{stage}"), "`kind` cannot be \"grid\"", "slurm"),
        (
            format!(
                "{PLACE}[stage.x]\nevaluate = {{ predictions = \"p.csv\", truth = \"y\", label = \"l\" }}\nmetrics = [\"m.json\"]\nplace = \"cluster\"\n"
            ),
            "has no command to be executed elsewhere",
            "leave `place` out",
        ),
    ];
    for (manifest, title, help) in cases {
        let ran = textum(&Tiny::with(&manifest), &["plan"]).expect(2);
        assert!(ran.err.contains(title) && ran.err.contains(help), "{}", ran.err);
    }
    let tiny = Tiny::with(&format!("{PLACE}{stage}"));
    textum(&tiny, &["run", "--place", "claster"]).expect(3).warns("did you mean `cluster`?");
    textum(&tiny, &["run", "--place", "y=cluster"]).expect(3).warns("there is no stage `y`");
    textum(&tiny, &["place", "list"]).expect(0).says("cluster  slurm").says("no stage says so");
    textum(&tiny, &["place", "list", "--format", "json"]).expect(0).says("\"jobs\": 50");
    textum(&Tiny::with(stage), &["place", "check"]).expect(0).says("all stages execute on this machine");
}

#[test]
fn what_an_engine_says_of_an_end_is_said_in_our_words() {
    let tiny =
        Tiny::with(&format!("{PLACE}[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\n"));
    // Whether needs can be met is asked first; the job itself is taken on and never executed.
    let submit = "case \"$*\" in *--test-only*) exit 0;; esac; cat > job.sh; echo \"$@\" > words; echo 11";
    let ends = [
        ("TIMEOUT|TimeLimit", "the cluster ended it at its time limit"),
        ("DEADLINE|None", "the cluster ended it at its time limit"),
        ("OUT_OF_MEMORY|OutOfMemory", "it wanted more memory than its `needs` say"),
        ("NODE_FAIL|NodeDown", "the cluster lost the node that it was on"),
        ("BOOT_FAIL|None", "the cluster lost the node that it was on"),
        ("PREEMPTED|None", "gave its place to a job of higher priority"),
        ("CANCELLED|None", "it was cancelled in the cluster"),
    ];
    for (state, says) in ends {
        let path = engine(&tiny, &[("sbatch", submit), ("squeue", &format!("echo '11|{state}'"))]);
        let ran = tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(1);
        assert!(ran.err.contains(says), "{state}: {}", ran.err);
        assert!(!tiny.has("o"));
    }
    // What a stage needs is told in the engine's words, and options as they are written.
    let manifest = "[place.cluster]\nkind = \"slurm\"\noptions = { partition = \"night shift\", exclusive = true, nice = 5, hold = false }\n\n[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\nneeds = { cpus = 3, memory = \"1500KiB\", gpus = 2, time = \"61s\" }\n";
    tiny.manifest(manifest);
    let path = engine(&tiny, &[("sbatch", submit), ("squeue", "echo '11|CANCELLED|None'")]);
    tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(1);
    let words = tiny.read("words");
    for word in [
        "--no-requeue",
        "--export=NIL",
        "--cpus-per-task=3",
        "--mem=2M",
        "--gpus=2",
        "--time=2",
        "--partition=night shift",
        "--exclusive",
        "--nice=5",
    ] {
        assert!(words.contains(word), "{word} is not in {words}");
    }
    assert!(!words.contains("hold"), "{words}");
    // The script is one that a shell reads; what is secret does not stand in it, since the engine keeps it.
    let script = tiny.read("job.sh");
    assert!(script.starts_with("#!/bin/sh\n") && !script.contains("TEXTUM_STAGE"), "{script}");
    assert!(Command::new("sh").args(["-n", "job.sh"]).current_dir(tiny.root()).status().unwrap().success());
}

#[test]
fn words_with_quotes_and_blanks_reach_a_command_as_they_are() {
    let stage = r#"[stage.x]
run = ["sh", "-c", "printf '%s|' \"$@\" > o", "sh", "a b", "it's", "$HOME `x` \\ \"q\"", "{fit.name}", ""]
params = ["fit"]
writes = ["o"]
place = "cluster"
observe = false
"#;
    let tiny = Tiny::with(&format!("{PLACE}[params]\nfit = {{ name = \"Weberei 'Nord' $X\" }}\n\n{stage}"));
    let submit = "case \"$*\" in *--test-only*) exit 0;; esac; cat > job.sh; setsid sh job.sh; echo 12";
    let path = engine(&tiny, &[("sbatch", submit), ("squeue", "echo '12|COMPLETED|None'")]);
    tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(0);
    assert_eq!(tiny.read("o"), "a b|it's|$HOME `x` \\ \"q\"|Weberei 'Nord' $X||");
}
