//! Stages on a cluster: a real one where there is one (`scripts/cluster`), else an engine that misbehaves.

use std::path::PathBuf;
use std::process::Command;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use textum_testkit::{Ran, Tiny};

use crate::{TEXTUM, textum};

const PLACE: &str = "[place.cluster]\nkind = \"slurm\"\n\n";

/// The cluster, for one test at a time: it has few processors, and some tests silence it.
pub(crate) struct Cluster {
    folder: String,
    conf: String,
    _alone: MutexGuard<'static, ()>,
}

pub(crate) fn cluster() -> Option<Cluster> {
    static ONE: Mutex<()> = Mutex::new(());
    let Ok(folder) = std::env::var("TEXTUM_CLUSTER") else {
        eprintln!("no cluster is there: this was not tested (scripts/cluster start DIR)");
        return None;
    };
    let conf = std::env::var("SLURM_CONF").unwrap();
    let cluster = Cluster { folder, conf, _alone: ONE.lock().unwrap_or_else(PoisonError::into_inner) };
    cluster.until_nodes_take_jobs();
    cluster.clear();
    Some(cluster)
}

impl Cluster {
    fn textum(&self, tiny: &Tiny, words: &[&str]) -> Ran {
        tiny.textum_with(TEXTUM, words, &[("SLURM_CONF", &self.conf)])
    }

    fn control(&self, order: &str) {
        let script = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../scripts/cluster");
        assert!(Command::new(script).args([order, &self.folder]).stdout(std::process::Stdio::null()).status().unwrap().success());
    }

    /// A controller that was killed may begin a job twice when it comes back, and drains the node for it ("Duplicate jobid").
    fn until_nodes_take_jobs(&self) {
        let begun = Instant::now();
        let slurm =
            |program: &str, words: &[&str]| Command::new(program).args(words).env("SLURM_CONF", &self.conf).output().unwrap();
        loop {
            let nodes = String::from_utf8_lossy(&slurm("sinfo", &["-h", "-N", "-o", "%n %T"]).stdout).into_owned();
            let out: Vec<&str> = nodes.lines().filter(|l| l.contains("drain") || l.contains("down")).collect();
            if out.is_empty() && !nodes.is_empty() {
                return;
            }
            for node in out.iter().filter_map(|l| l.split_once(' ')) {
                slurm("scontrol", &["update", &format!("nodename={}", node.0), "state=resume"]);
            }
            assert!(begun.elapsed() < Duration::from_secs(60), "nodes take no jobs: {nodes}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// What the engine lists of our jobs that have not ended.
    fn jobs(&self) -> String {
        let output = Command::new("squeue").args(["-h", "-o", "%i %j %T"]).env("SLURM_CONF", &self.conf).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Ends what a test that failed has left, and waits until what others had is cleared away.
    fn clear(&self) {
        if !self.jobs().is_empty() {
            Command::new("scancel").arg("--me").env("SLURM_CONF", &self.conf).status().unwrap();
            self.until_no_jobs();
        }
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
            place["job"].as_str().is_some_and(|n| n.split('_').all(|part| part.parse::<u64>().is_ok()))
                && place["host"].as_str().unwrap().starts_with('n')
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
    // Cancelled by somebody in the cluster, where the jobs from before are not being cleared away any more.
    cluster.until_no_jobs();
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
fn a_job_whose_textum_is_gone_is_taken_up_and_nothing_is_executed_twice() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    cluster.leave(&tiny, &["run"]);
    cluster.control("silence");
    let looked = cluster.textum(&tiny, &["runs"]);
    let silent = cluster.textum(&tiny, &["run"]);
    cluster.control("speak");
    // To look is possible all the same; to do anything is not, as long as nobody says how the job stands.
    looked.expect(0).warns("was cut off and left x at cluster");
    assert!(silent.err.contains("may still be at work"), "{}", silent.err);
    // Nobody else writes where it writes.
    cluster.textum(&tiny, &["restore", "last"]).expect(3);
    let mut child = cluster.start(&tiny, &["run"]);
    until_taken_up(&tiny);
    // The second is lost too, while the job goes on and ends.
    child.kill().unwrap();
    child.wait().unwrap();
    tiny.write("go", "x");
    cluster.until_no_jobs();
    let resumed = cluster.textum(&tiny, &["resume", "--format", "json"]).expect(0);
    resumed.warns("takes up the job submitted by");
    assert_eq!(tiny.read("times").lines().count(), 1, "executed once");
    assert_eq!(tiny.read("o"), "x\n");
    let runs = cluster.textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    let states: Vec<&str> = runs.as_array().unwrap().iter().map(|r| r["state"].as_str().unwrap()).collect();
    assert_eq!(states[0], "done", "{states:?}");
    assert!(states[1..].iter().all(|s| *s == "interrupted"), "{states:?}");
    cluster.textum(&tiny, &["plan", "--check"]).expect(0);
    cluster.textum(&tiny, &["verify"]).expect(0);
}

/// A stage that waits for a word, and says how often it was executed.
const WAITS: &str = "[stage.x]\nrun = \"echo $$ >> times; echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nobserve = false\n";

impl Cluster {
    /// Kills a Textum whose job has begun.
    fn leave(&self, tiny: &Tiny, words: &[&str]) {
        let mut child = self.start(tiny, words);
        until(tiny, "begun");
        child.kill().unwrap();
        child.wait().unwrap();
        std::fs::remove_file(tiny.path("begun")).unwrap();
    }
}

/// Until a run at work has said that it has taken a job up.
pub(crate) fn until_taken_up(tiny: &Tiny) {
    let begun = Instant::now();
    let said = || {
        let runs = std::fs::read_dir(tiny.path(".textum/runs")).unwrap().flatten();
        runs.filter_map(|run| std::fs::read_to_string(run.path().join("events")).ok()).any(|e| e.contains("\"takes-up\""))
    };
    while !said() {
        assert!(begun.elapsed() < Duration::from_secs(60), "no job was taken up");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn a_job_that_nobody_wants_any_more_is_ended_before_anything_is_done() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    cluster.leave(&tiny, &["run"]);
    // What it makes is no longer what is wanted.
    tiny.write("textum.toml", tiny.read("textum.toml").replace("while [ ! -e go ]; do sleep 0.05; done; echo x", "echo y"));
    cluster.textum(&tiny, &["run"]).expect(0).warns("recorded as interrupted");
    assert_eq!((tiny.read("o"), tiny.read("times").lines().count()), ("y\n".into(), 2));
    assert_eq!(cluster.jobs(), "", "it was ended first");
    // By word.
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    cluster.leave(&tiny, &["run"]);
    cluster.textum(&tiny, &["stop"]).expect(0).says("is stopped");
    assert_eq!(cluster.jobs(), "");
    assert_eq!(cluster.textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[0]["state"], "interrupted");
    // Where somebody changed what it reads meanwhile its result would not be true, although it reads as before.
    let reads = WAITS.replace("writes", "reads = [\"d\"]\nwrites");
    let tiny = Tiny::with(&format!("{PLACE}{reads}place = \"cluster\"\n"));
    tiny.write("d", "1");
    cluster.leave(&tiny, &["run"]);
    tiny.write("d", "2");
    tiny.write("d", "1");
    tiny.write("go", "x");
    cluster.textum(&tiny, &["run"]).expect(1).warns("d was touched while it ran");
}

#[test]
fn what_a_job_says_while_nobody_listens_is_heard_later_and_a_lost_checkpoint_is_none() {
    let Some(cluster) = cluster() else { return };
    let step = |n: u32| {
        format!("echo {n} > c; echo '{{\"step\": {n}, \"metric\": {{\"loss\": {n}}}, \"checkpoint\": true}}' >> $TEXTUM_SIGNALS; ")
    };
    let wait = |file: &str| format!("while [ ! -e {file} ]; do sleep 0.05; done; ");
    let text = format!("{}echo > begun; {}{}{}{}{}echo x > o", step(1), wait("on"), step(2), step(3), wait("go"), step(4));
    let tiny = Tiny::with(&format!(
        "{PLACE}[stage.x]\nrun = {text:?}\nwrites = [\"o\"]\ncheckpoints = \"c\"\nplace = \"cluster\"\nobserve = false\n"
    ));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    let begun = Instant::now();
    while !log_of_runs(&tiny).contains("\"step\":1") {
        assert!(begun.elapsed() < Duration::from_secs(30), "no first checkpoint");
        std::thread::sleep(Duration::from_millis(10));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    tiny.write("on", "x");
    let begun = Instant::now();
    while tiny.read("c") != "3\n" && begun.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(10));
    }
    let mut child = cluster.start(&tiny, &["run"]);
    until_taken_up(&tiny);
    let begun = Instant::now();
    while !log_of_runs(&tiny).contains("\"step\":3") && begun.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(10));
    }
    tiny.write("go", "x");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    let steps = cluster.textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0).out;
    let shown = cluster.textum(&tiny, &["show", "last"]).expect(0).out;
    assert!(shown.contains("no checkpoint of step 2: nobody listened"), "{shown}");
    for (name, content) in [("last#1", "1\n"), ("last#3", "3\n"), ("last#4", "4\n")] {
        textum(&tiny, &["restore", name, "--output", "out"]).expect(0);
        assert_eq!(tiny.read("out/c"), content, "{name}: {steps}");
        std::fs::remove_dir_all(tiny.path("out")).unwrap();
    }
    textum(&tiny, &["restore", "last#2", "--output", "out"]).expect(3);
}

fn log_of_runs(tiny: &Tiny) -> String {
    let runs = std::fs::read_dir(tiny.path(".textum/runs")).into_iter().flatten().flatten();
    runs.filter_map(|run| std::fs::read_to_string(run.path().join("events")).ok()).collect()
}

#[test]
fn a_run_in_the_background_goes_on_without_its_terminal() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    let run = cluster.textum(&tiny, &["run", "--detach", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    until(&tiny, "begun");
    cluster.textum(&tiny, &["runs"]).expect(0).warns(&format!("{run} is at work now"));
    tiny.write("go", "x");
    cluster.textum(&tiny, &["follow", "--plain"]).expect(0);
    assert_eq!(tiny.read("o"), "x\n");
    assert_eq!(std::fs::read_dir(tiny.path(".textum/background")).unwrap().count(), 0, "nothing is left of it");
    // Stopped from another terminal, and by hand.
    std::fs::remove_file(tiny.path("go")).unwrap();
    std::fs::remove_file(tiny.path("begun")).unwrap();
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x > o", "echo y > o"));
    cluster.textum(&tiny, &["run", "--detach"]).expect(0).says("is at work in the background");
    until(&tiny, "begun");
    cluster.textum(&tiny, &["stop"]).expect(0);
    cluster.until_no_jobs();
    assert_eq!(cluster.textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[0]["state"], "stopped");
    // One that cannot begin says why, and ends so.
    cluster.textum(&tiny, &["run", "--detach", "nothing"]).expect(3).warns("there is no stage `nothing`");
}

/// A pipeline of five stages, each of which says that it was executed.
const FIVE: &str = "[stage.a]\nrun = \"echo a >> times; sleep 0.3; echo 1 > a\"\nwrites = [\"a\"]\nplace = \"cluster\"\nobserve = false\n\n[stage.b]\nrun = \"echo b >> times; sleep 0.2; echo 2 > b\"\nwrites = [\"b\"]\nplace = \"cluster\"\nobserve = false\n\n[stage.c]\nrun = \"echo c >> times; cat a > c\"\nreads = [\"a\"]\nwrites = [\"c\"]\nplace = \"cluster\"\nobserve = false\n\n[stage.d]\nrun = \"echo d >> times; sleep 0.2; cat b > d\"\nreads = [\"b\"]\nwrites = [\"d\"]\nobserve = false\n\n[stage.e]\nrun = \"echo e >> times; sleep 0.1; cat c d > e\"\nreads = [\"c\", \"d\"]\nwrites = [\"e\"]\nplace = \"cluster\"\nobserve = false\n";

#[test]
fn textum_may_be_killed_at_any_moment_and_no_job_is_executed_twice() {
    let Some(cluster) = cluster() else { return };
    let kills: u32 = std::env::var("TEXTUM_CLUSTER_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(5);
    let mut left = kills;
    let mut seed = std::process::id();
    let mut random = |below: u64| {
        seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        u64::from(seed >> 8) % below
    };
    while left > 0 {
        let tiny = Tiny::with(&format!("{PLACE}{FIVE}"));
        let mut moments = Vec::new();
        let code = loop {
            let mut child = cluster.start(&tiny, &["run"]);
            let moment = random(2200);
            let begun = Instant::now();
            let ended = loop {
                match child.try_wait().unwrap() {
                    Some(status) => break Some(status),
                    None if left > 0 && begun.elapsed() >= Duration::from_millis(moment) => break None,
                    None => std::thread::sleep(Duration::from_millis(2)),
                }
            };
            match ended {
                Some(status) => break status.code(),
                None => {
                    child.kill().unwrap();
                    child.wait().unwrap();
                    moments.push(moment);
                    left -= 1;
                }
            }
        };
        assert_eq!(code, Some(0), "killed after {moments:?} ms");
        let mut times: Vec<String> = tiny.read("times").lines().map(str::to_string).collect();
        times.sort();
        // The one that executes here ends with its Textum.
        times.retain(|name| name != "d");
        assert_eq!(times, ["a", "b", "c", "e"], "killed after {moments:?} ms");
        assert_eq!(tiny.read("e"), "1\n2\n");
        cluster.textum(&tiny, &["plan", "--check"]).expect(0);
        textum(&tiny, &["verify"]).expect(0);
        cluster.until_no_jobs();
    }
}

#[test]
fn a_node_that_is_lost_costs_a_stage_no_more_than_what_came_after_its_last_checkpoint() {
    let Some(cluster) = cluster() else { return };
    let node = |name: &str, state: &str| {
        let mut order = Command::new("scontrol");
        order.args(["update", &format!("nodename={name}"), &format!("state={state}"), "reason=test"]);
        assert!(order.env("SLURM_CONF", &cluster.conf).status().unwrap().success(), "{name} {state}");
    };
    let place = PLACE.replace("kind = \"slurm\"\n", "kind = \"slurm\"\nretries = 1\n");
    let step = "echo $i >> c; echo \\\"{\\\\\\\"step\\\\\\\": $i, \\\\\\\"checkpoint\\\\\\\": true}\\\" >> $TEXTUM_SIGNALS";
    let run = format!(
        "echo from ${{TEXTUM_FROM_STEP:-none}}; for i in 1 2 3; do [ $i -gt ${{TEXTUM_FROM_STEP:-0}} ] || continue; {step}; while [ $i = 2 ] && [ ! -e go ]; do sleep 0.05; done; done; cp c o"
    );
    let stage =
        format!("[stage.x]\nrun = \"{run}\"\nwrites = [\"o\"]\ncheckpoints = \"c\"\nplace = \"cluster\"\nobserve = false\n");
    let tiny = Tiny::with(&format!("{place}{stage}"));
    let mut child = cluster.start(&tiny, &["run"]);
    let begun = Instant::now();
    while !(log_of_runs(&tiny).contains("\"step\":2")) {
        assert!(begun.elapsed() < Duration::from_secs(60), "no second checkpoint");
        std::thread::sleep(Duration::from_millis(10));
    }
    let output = Command::new("squeue").args(["-h", "-o", "%N"]).env("SLURM_CONF", &cluster.conf).output().unwrap();
    let lost = String::from_utf8_lossy(&output.stdout).trim().to_string();
    // Drained it goes on; lost it does not.
    node(&lost, "drain");
    assert!(child.try_wait().unwrap().is_none());
    node(&lost, "down");
    let ended = child.wait().unwrap();
    node(&lost, "resume");
    assert_eq!(ended.code(), Some(0), "{}", log_of_runs(&tiny));
    let shown = textum(&tiny, &["show", "last"]).expect(0).out;
    assert!(shown.contains("the cluster lost the node") && shown.contains("attempt 2 went on from step 2"), "{shown}");
    assert_eq!(tiny.read("o"), "1\n2\n3\n");
    textum(&tiny, &["plan", "--check"]).expect(0);
    // What the node may still have of it ends.
    tiny.write("go", "x");
    cluster.until_no_jobs();
}

#[test]
fn what_a_job_waits_for_is_told_and_it_cannot_be_made_to_run_twice() {
    let Some(cluster) = cluster() else { return };
    let place = PLACE.replace("kind = \"slurm\"\n", "kind = \"slurm\"\noptions = { hold = true }\n");
    let tiny = Tiny::with(&format!("{place}{WAITS}place = \"cluster\"\n"));
    let mut child = cluster.start(&tiny, &["run"]);
    let begun = Instant::now();
    while !log_of_runs(&tiny).contains("JobHeldUser") {
        assert!(begun.elapsed() < Duration::from_secs(60), "{}", log_of_runs(&tiny));
        std::thread::sleep(Duration::from_millis(20));
    }
    let control = |order: &str| {
        let number = cluster.jobs().split_whitespace().next().unwrap().to_string();
        Command::new("scontrol").args([order, &number]).env("SLURM_CONF", &cluster.conf).output().unwrap()
    };
    control("release");
    until(&tiny, "begun");
    assert!(!control("requeue").status.success(), "a job of ours is not begun a second time by the cluster");
    tiny.write("go", "x");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert_eq!(tiny.read("times").lines().count(), 1);
    // What it waited for stands in the run's log.
    let log = textum(&tiny, &["show", "last", "--log"]).expect(0).out;
    assert!(log.contains("waits at cluster: PENDING, JobHeldUser"), "{log}");
    textum(&tiny, &["show", "last"]).expect(0).says("waited ");
    textum(&tiny, &["runs", "--where", "place = cluster"]).expect(0).says("done");
    textum(&tiny, &["runs", "--where", "place = local"]).expect(0).warns("no run meets that");
    textum(&tiny, &["report", "last", "-o", "report.html"]).expect(0);
    assert!(tiny.read("report.html").contains("cluster, n"), "the machine of each stage");
}

#[test]
fn a_job_that_is_stopped_ends_there_too() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    // Stopped from another terminal, and by hand.
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
    let ended = child.wait().unwrap();
    assert_eq!(ended.code(), Some(0), "{}", log_of_runs(&tiny));
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

#[test]
fn who_stops_a_run_need_not_wait_for_a_cluster_that_is_silent() {
    let Some(cluster) = cluster() else { return };
    let tiny = Tiny::with(&format!("{PLACE}{WAITS}place = \"cluster\"\n"));
    let mut child = cluster.start(&tiny, &["run"]);
    until(&tiny, "begun");
    cluster.control("silence");
    let begun = Instant::now();
    while !log_of_runs(&tiny).contains("no answer: ") {
        assert!(begun.elapsed() < Duration::from_secs(200), "that nobody answers is told");
        std::thread::sleep(Duration::from_millis(50));
    }
    let interrupt = || Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    interrupt();
    std::thread::sleep(Duration::from_millis(200));
    interrupt();
    let code = child.wait().unwrap().code();
    cluster.control("speak");
    assert_eq!(code, Some(4), "its job may be at work");
    cluster.textum(&tiny, &["runs"]).expect(0).warns("was cut off and left x at cluster");
    tiny.write("go", "x");
    let again = cluster.textum(&tiny, &["run"]).warns("takes up the job");
    // The order to end the job may have waited for the cluster too, and be heard only now.
    let is_cancelled = again.err.contains("it was cancelled in the cluster");
    if is_cancelled {
        cluster.textum(&tiny, &["run"]).expect(0);
    } else {
        again.expect(0);
    }
    assert_eq!(tiny.read("times").lines().count(), 1 + usize::from(is_cancelled));
}
