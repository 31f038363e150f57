//! Stages on a cluster, or any engine, that is reached through a login machine: no folder is shared.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use textum_testkit::{Ran, Tiny, noise};

use crate::machines::{Machines, digests, engine, start};
use crate::{TEXTUM, textum};

/// An engine that is known by its commands; on the login machine.
fn grid(machines: &Machines) -> String {
    let (own, folder) = (engine(), machines.path("engine"));
    machines.behind_login(&format!(
        "kind = \"command\"\nsubmit = \"{own} {folder} submit {{script}}\"\nstate = \"{own} {folder} state {{jobs}}\"\ncancel = \"{own} {folder} cancel {{job}} {{signal}}\"\nwords = {{ Q = \"waiting\", R = \"running\", C = \"over\", X = \"cancelled\" }}"
    ))
}

/// The places that can be tried here: their kind, and the part of a manifest that declares one.
fn on_each(test: impl Fn(&Machines, &str, &str)) {
    match Machines::here() {
        Some(machines) => test(&machines, "command", &grid(&machines)),
        None => return,
    }
    // Nobody else stops its controller meanwhile.
    if let Some(_alone) = crate::cluster::cluster() {
        let machines = Machines::here().unwrap();
        test(&machines, "slurm", &machines.behind_login("kind = \"slurm\""));
    }
}

/// What is left of jobs in the folder there.
fn left(machines: &Machines) -> Vec<String> {
    let all = std::fs::read_dir(machines.path("far")).into_iter().flatten().flatten();
    all.filter_map(|e| e.file_name().into_string().ok()).filter(|name| name.starts_with("textum-")).collect()
}

fn lines(path: &str) -> usize {
    std::fs::read_to_string(path).unwrap_or_default().lines().count()
}

const STAGES: &str = "[params]\nfit = { rate = 3 }\n\n[stage.cut]\neach = { fold = \"0..2\" }\nrun = \"grep ,{each.fold} d.csv > b/{each.fold}.csv\"\nreads = [\"d.csv\"]\nwrites = [\"b/{each.fold}.csv\"]\nplace = \"box\"\n\n[stage.fit]\nrun = [\"sh\", \"-c\", \"ls; env; cat b/*.csv > all; echo '{\\\"rows\\\": 3}' > m.json; echo 1 > c; $TEXTUM_PROGRAM emit --step 1 loss=0.5 --checkpoint; echo 2 > c; $TEXTUM_PROGRAM emit --step 2 loss=0.25 --checkpoint && echo stored; cat $TEXTUM_PARAMS\"]\nreads = [\"b/{each.fold}.csv\"]\nparams = [\"fit\"]\nwrites = [\"all\"]\nmetrics = [\"m.json\"]\ncheckpoints = \"c\"\nplace = \"box\"\nneeds = { cpus = 1, memory = \"100MiB\", time = \"2m\" }\n";

#[test]
fn a_result_is_the_same_where_nothing_is_shared() {
    on_each(|machines, kind, place| {
        let of = |place: &str| {
            let tiny = Tiny::with(&format!("{place}{STAGES}"));
            tiny.write("d.csv", "a,0\nb,1\nc,2\n");
            tiny.write("not-declared", "x");
            tiny
        };
        let tiny = of(place);
        textum(&tiny, &["place", "check"]).expect(0).says("can be used").says("are observed, and sealed where they are to be");
        let there = textum(&tiny, &["run", "--format", "json"]).expect(0);
        assert_eq!(left(machines), Vec::<String>::new(), "nothing of them is left there");
        let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
        for stage in shown["stages"].as_array().unwrap() {
            let place = &stage["place"];
            assert_eq!((place["kind"].as_str(), place["name"].as_str()), (Some(kind), Some("box")), "{stage}");
            assert!(place["waited_ms"].is_u64(), "by the clock there alone: {place}");
        }
        let log = textum(&tiny, &["show", "last", "--log", "fit"]).expect(0).out;
        assert!(log.contains("stored") && log.contains("\"rate\": 3"), "{log}");
        assert!(!log.contains("not-declared") && !log.contains("SLURM"), "{log}");
        textum(&tiny, &["show", "last"]).expect(0).says("fit told loss to step 2").says("checkpoint");
        let again = textum(&tiny, &["run", "--place", "local", "--format", "json"]).expect(0);
        assert_eq!(again.json()["recorded"], false, "where it was made counts for nothing");
        let here = of(place);
        let local = textum(&here, &["run", "--place", "local", "--format", "json"]).expect(0);
        assert_eq!(digests(&there), digests(&local));
        textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
        textum(&tiny, &["verify"]).expect(0);
    });
}

/// Nothing there is this machine's: what was read is told, what nobody allowed is refused, and neither is held against files here.
#[test]
fn what_is_executed_where_nothing_is_shared_is_observed_and_sealed_there() {
    on_each(|machines, _, place| {
        let secret = machines.path("secret");
        std::fs::write(&secret, "x").unwrap();
        let tiny = Tiny::new();
        let of = |run: &str, more: &str| {
            let stage = format!("[stage.x]\nrun = {run:?}\nreads = [\"d\"]\nwrites = [\"o\"]\nplace = \"box\"\n{more}\n");
            tiny.manifest(&format!("{place}{stage}"));
            textum(&tiny, &["run"])
        };
        let seen = || textum(&tiny, &["trace", "o", "--all", "--format", "json"]).expect(0).json()["observed"][0].clone();
        tiny.write("d", "yarn\n");
        tiny.write("units", "m\n");
        let (sealed, good) = ("sealed = true", "cat d > o; echo y > ~/own; echo z > $TMPDIR/own");
        assert!(!of(good, sealed).expect(0).err.contains("not observed"));
        let told = seen();
        assert_eq!((told["how"].as_str(), told["sealed"].as_bool()), (Some("away"), Some(true)), "{told}");
        let groups = told["groups"].as_array().unwrap();
        assert!(groups.iter().all(|group| group["counts"] == false), "nothing there is held against files here");
        let programs = groups.iter().find(|group| group["kind"] == "program").unwrap()["members"].as_array().unwrap();
        let cat = std::fs::canonicalize("/bin/cat").unwrap();
        let of_cat = programs.iter().find(|p| p["path"] == cat.to_str().unwrap()).unwrap_or_else(|| panic!("{programs:?}"));
        let digest = textum_core::store::Digest::of(&std::fs::read(&cat).unwrap());
        assert_eq!(of_cat["digest"], digest.to_string(), "it was hashed there");
        textum(&tiny, &["trace", "o"]).expect(0).says("seen where it was executed").says("sealed: nothing else could be read");
        assert_eq!(textum(&tiny, &["run", "--format", "json"]).expect(0).json()["recorded"], false);
        textum(&tiny, &["rebuild", "last"]).expect(0).says("identical").says("sealed: nothing but what was recorded");
        textum(&tiny, &["verify"]).expect(0);
        // What it tries in vain fails it, whether or not it minds.
        of(&format!("cat {secret}; cat d > o"), sealed).expect(1).warns(&format!("in vain {secret} on the machine there"));
        of("cat units; cat d > o", sealed).expect(1).warns("in vain units (to allow it: reads = [\"units\"]");
        of("bash -c 'echo > /dev/tcp/127.0.0.1/9'; cat d > o", sealed).expect(1).warns("127.0.0.1:9 (no connection is allowed)");
        of(&format!("echo x > {secret}-2; cat d > o"), sealed).expect(1).warns("-2 on the machine there");
        assert!(!Path::new(&format!("{secret}-2")).exists());
        // Where it is not sealed that is told of.
        of(&format!("cat {secret} d > o"), "").expect(0);
        let told = seen();
        assert_eq!((told["how"].as_str(), told["sealed"].as_bool()), (Some("away"), Some(false)), "{told}");
        assert!(told["groups"].to_string().contains(&secret), "{told}");
        of("cat units; exit 3", "").expect(1).warns("exit status 3; it seems to need units");
        of("cat d d > o", "observe = false").expect(0);
        assert_eq!(seen()["how"], "off");
        assert_eq!(left(machines), Vec::<String>::new());
    });
}

#[test]
fn what_was_handed_over_is_executed_once_whatever_becomes_of_who_did() {
    on_each(|machines, _, place| {
        let times = machines.path("times");
        let waits = format!(
            "[stage.x]\nrun = \"echo $$ >> {times}; echo > begun; while [ ! -e go ]; do sleep 0.05; done; cat d > o\"\nreads = [\"d\"]\nwrites = [\"o\"]\nplace = \"box\"\n"
        );
        let tiny = Tiny::with(&format!("{place}{waits}"));
        tiny.write("d", "yarn\n");
        let mut child = start(&tiny, &["run"]);
        let begun = machines.until("begun");
        child.kill().unwrap();
        child.wait().unwrap();
        textum(&tiny, &["runs"]).expect(0).warns("was cut off and left x at box");
        let mut child = start(&tiny, &["resume"]);
        crate::cluster::until_taken_up(&tiny);
        std::fs::write(begun.with_file_name("go"), "").unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(0), "{}", tiny.read("said"));
        assert_eq!((tiny.read("o").as_str(), lines(&times)), ("yarn\n", 1));
        assert_eq!(left(machines), Vec::<String>::new());
        // What is no longer wanted is ended there before anything is done.
        tiny.write("d", "wool\n");
        let mut child = start(&tiny, &["run"]);
        let begun = machines.until("begun");
        child.kill().unwrap();
        child.wait().unwrap();
        tiny.write("d", "silk\n");
        let mut child = start(&tiny, &["run"]);
        let second = || {
            let jobs = std::fs::read_dir(machines.path("far")).unwrap().flatten();
            let mut begun_there = jobs.map(|job| job.path().join("work/begun")).filter(|path| path.exists());
            begun_there.find(|path| *path != begun)
        };
        let since = Instant::now();
        let second = loop {
            if let Some(second) = second() {
                break second;
            }
            assert!(since.elapsed() < Duration::from_secs(60), "{}", tiny.read("said"));
            std::thread::sleep(Duration::from_millis(10));
        };
        let pid = std::fs::read_to_string(&times).unwrap().lines().nth(1).unwrap().to_string();
        let stat = std::fs::read_to_string(Path::new("/proc").join(pid).join("stat")).unwrap_or_default();
        assert!(stat.is_empty() || stat.contains(") Z "), "the one before has ended: {stat}");
        std::fs::write(second.with_file_name("go"), "").unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(0), "{}", tiny.read("said"));
        assert_eq!(tiny.read("o"), "silk\n");
        // Stopped by word, from elsewhere.
        tiny.write("d", "hemp\n");
        std::fs::remove_dir_all(machines.path("far")).unwrap();
        let mut child = start(&tiny, &["run"]);
        machines.until("begun");
        textum(&tiny, &["stop"]).expect(0);
        assert_eq!(child.wait().unwrap().code(), Some(1));
        textum(&tiny, &["verify"]).expect(0);
    });
}

#[test]
fn each_end_that_comes_through_a_login_machine_has_its_own_words() {
    on_each(|_, kind, place| {
        let one = |run: &str, needs: &str| {
            let stage = format!("[stage.x]\nrun = {run:?}\nwrites = [\"o\"]\nplace = \"box\"\nneeds = {needs}\n");
            textum(&Tiny::with(&format!("{place}{stage}")), &["run"]).expect(1).err
        };
        assert!(one("echo near; exit 4", "{ cpus = 1 }").contains("its command ended with exit status 4"));
        let said = one("textum-no-such-program", "{ cpus = 1 }");
        assert!(said.contains("its command was not found"), "{said}");
        if kind == "slurm" {
            let hog = "python3 -c 'import time; b = b\"x\" * 400000000; time.sleep(60)'; echo x > o";
            let said = one(hog, "{ memory = \"50MiB\" }");
            assert!(said.contains("wanted more memory than its `needs` say"), "{said}");
            let said = one("echo x > o", "{ cpus = 400 }");
            assert!(said.contains("nothing there can meet its `needs`"), "{said}");
        }
    });
}

/// A minute and a half, since a minute is the least that Slurm gives: with `TEXTUM_CLUSTER_SLOW` only.
#[test]
fn a_job_that_comes_to_its_time_limit_goes_on_from_its_last_checkpoint() {
    if std::env::var_os("TEXTUM_CLUSTER_SLOW").is_none() {
        eprintln!("TEXTUM_CLUSTER_SLOW is not set: a real time limit was not tested");
        return;
    }
    on_each(|_, kind, place| {
        if kind != "slurm" {
            return;
        }
        let step =
            "echo $i >> c; $TEXTUM_PROGRAM emit --step $i --checkpoint; [ $i = 2 ] && [ ${TEXTUM_FROM_STEP:-0} = 0 ] && sleep 1000";
        let run = format!("for i in 1 2 3; do [ $i -gt ${{TEXTUM_FROM_STEP:-0}} ] || continue; {step}; done; cp c o");
        let stage = format!(
            "[stage.x]\nrun = \"{run}\"\nwrites = [\"o\"]\ncheckpoints = \"c\"\nplace = \"box\"\nneeds = {{ time = \"1m\" }}\n"
        );
        let tiny = Tiny::with(&format!("{}{stage}", place.replace("kind = \"slurm\"\n", "kind = \"slurm\"\nretries = 1\n")));
        textum(&tiny, &["run"]).expect(0).warns("is tried again from its checkpoint of step 2");
        assert_eq!(tiny.read("o"), "1\n2\n3\n");
        textum(&tiny, &["show", "last"]).expect(0).says("time limit").says("attempt 2 went on from step 2");
    });
}

/// Somebody tidies up there while jobs are at work: the one whose folder is gone fails with words, the other goes on.
#[test]
fn a_job_whose_folder_was_removed_there_keeps_no_other_one_waiting() {
    let Some(machines) = Machines::here() else { return };
    let stage = |name: &str| {
        format!(
            "[stage.{name}]\nrun = \"echo > begun-{name}; while [ ! -e {} ]; do sleep 0.05; done; echo {name} > {name}\"\nwrites = [\"{name}\"]\nplace = \"box\"\n\n",
            machines.path("go")
        )
    };
    let tiny = Tiny::with(&format!("{}{}{}", grid(&machines), stage("x"), stage("y")));
    let mut child = start(&tiny, &["run", "--keep-going"]);
    let gone = machines.until("begun-x");
    machines.until("begun-y");
    std::fs::remove_dir_all(gone.parent().unwrap().parent().unwrap()).unwrap();
    std::fs::write(machines.path("go"), "").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(1));
    let said = tiny.read("said");
    assert!(said.contains("x failed: it ended without leaving its exit status"), "{said}");
    assert_eq!(tiny.read("y"), "y\n", "{said}");
}

fn packs(machines: &Machines) -> Vec<PathBuf> {
    let folder = PathBuf::from(machines.path("far")).join("fetched/store/packs");
    let mut all: Vec<PathBuf> = std::fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path()).collect();
    all.retain(|path| path.extension().is_some_and(|e| e == "pack"));
    all.sort();
    all
}

#[test]
fn what_stages_read_goes_there_once_by_way_of_a_depot() {
    let Some(machines) = Machines::here() else { return };
    let place = grid(&machines).replace("[place.box]\n", "[place.box]\ndepot = \"team\"\n");
    let stage = "[data.yarn]\npath = \"yarn\"\n\n[params]\nfit = { rate = 1 }\n\n[stage.fit]\nrun = \"find fit.sh yarn | sort > l; cat yarn/*.bin > o; sh fit.sh {fit.rate} >> o; yarn/deep/tool >> o; cat yarn/link >> o\"\nreads = [\"yarn/deep\", \"yarn\", \"fit.sh\", \"yarn/b.bin\"]\nwrites = [\"o\", \"l\"]\nparams = [\"fit\"]\nplace = \"box\"\n";
    let tiny = Tiny::with(&format!("{place}{stage}"));
    tiny.write("yarn/a [1].bin", noise(1, 3_000_000));
    tiny.write("yarn/b.bin", noise(2, 300_000));
    tiny.write("yarn/deep/tool", "#!/bin/sh\necho tool\n");
    std::os::unix::fs::symlink("b.bin", tiny.path("yarn/link")).unwrap();
    std::fs::set_permissions(tiny.path("yarn/deep/tool"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    tiny.write("fit.sh", "echo rate $1\n");
    let run = |rate: u32| textum(&tiny, &["run", "--set", &format!("fit.rate={rate}"), "--format", "json"]);
    let depot = machines.path("depot");
    let said = run(1).expect(1).err;
    assert!(said.contains("the project has no depot"), "{said}");
    textum(&tiny, &["depot", "add", "team", &depot]).expect(0);
    textum(&tiny, &["place", "check"]).expect(0).says("can be used");
    let first = run(1).expect(0);
    assert!(!first.err.contains("not observed"), "{}", first.err);
    let fetched = packs(&machines);
    assert!(!fetched.is_empty());
    let all = "fit.sh\nyarn\nyarn/a [1].bin\nyarn/b.bin\nyarn/deep\nyarn/deep/tool\nyarn/link\n";
    assert_eq!(tiny.read("l"), all);
    let local = Tiny::with(stage.replace("place = \"box\"\n", "").as_str());
    for name in ["yarn/a [1].bin", "yarn/b.bin", "yarn/deep/tool", "fit.sh"] {
        std::fs::create_dir_all(local.path("yarn/deep")).unwrap();
        std::fs::copy(tiny.path(name), local.path(name)).unwrap();
    }
    std::os::unix::fs::symlink("b.bin", local.path("yarn/link")).unwrap();
    let here =
        |rate: u32| textum(&local, &["run", "--sandbox", "--set", &format!("fit.rate={rate}"), "--format", "json"]).expect(0);
    assert_eq!(of_o(&first), of_o(&here(1)));
    // The same again travels no more.
    assert_eq!(of_o(&run(2).expect(0)), of_o(&here(2)));
    assert_eq!(packs(&machines), fetched);
    // What was damaged there meanwhile is never what a stage reads.
    for pack in &fetched {
        let mut bytes = std::fs::read(pack).unwrap();
        (200..bytes.len()).step_by(1000).for_each(|at| bytes[at] ^= 0x55);
        std::fs::write(pack, bytes).unwrap();
    }
    assert_eq!(of_o(&run(3).expect(0)), of_o(&here(3)));
    // A depot that is not there: nothing is executed on less than all.
    std::fs::rename(&depot, format!("{depot}-away")).unwrap();
    let said = run(4).expect(1).err;
    assert!(said.contains("there is no depot at") && said.contains("textum depot check team"), "{said}");
    textum(&tiny, &["place", "check"]).expect(1).says("cannot be used");
    std::fs::rename(format!("{depot}-away"), &depot).unwrap();
    assert_eq!(of_o(&run(4).expect(0)), of_o(&here(4)));
    textum(&tiny, &["verify"]).expect(0);
}

fn of_o(ran: &Ran) -> String {
    let run = ran.json();
    let writes = run["stages"].as_array().unwrap().iter().flat_map(|s| s["writes"].as_array().unwrap().clone());
    writes.into_iter().find(|w| w["path"] == "o").unwrap()["digest"].as_str().unwrap().to_string()
}

/// Whoever stops a run does not wait until a machine is rented, and none is left held.
#[test]
fn renting_ends_when_nobody_waits_for_it_any_more() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let begin = format!("echo {{hold}} > {0}/asked.part; mv {0}/asked.part {0}/asked; sleep 1000", folder.path().display());
    let place = format!(
        "[place.box]\nkind = \"ssh\"\nbegin = \"{begin}\"\nend = \"echo {{hold}} >> {}\"\nfolder = \"{}\"\n",
        path("ended"),
        path("far")
    );
    let tiny = Tiny::with(&format!("{place}[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\n"));
    let mut child = start(&tiny, &["run"]);
    let since = Instant::now();
    while !Path::new(&path("asked")).exists() {
        assert!(since.elapsed() < Duration::from_secs(60), "no machine was asked for: {}", tiny.read("said"));
        std::thread::sleep(Duration::from_millis(10));
    }
    let pid = i32::try_from(child.id()).unwrap();
    rustix::process::kill_process(rustix::process::Pid::from_raw(pid).unwrap(), rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130), "{}", tiny.read("said"));
    assert_eq!(std::fs::read_to_string(path("ended")).unwrap(), std::fs::read_to_string(path("asked")).unwrap());
    let runs = textum(&tiny, &["runs"]).expect(0);
    assert!(!runs.err.contains("held") && !runs.err.contains("cut off"), "{}", runs.err);
    assert!(!tiny.has("o"));
}

/// Each job at a place is some files that are open here: more than the system allows are not begun at once, and what is executed
/// has the limit that was.
#[test]
fn few_files_that_may_be_open_are_enough_for_many_jobs() {
    let folder = tempfile::tempdir().unwrap();
    let (own, state) = (engine(), folder.path().join("engine").display().to_string());
    let place = format!(
        "[place.box]\nkind = \"command\"\njobs = 500\nsubmit = \"{own} {state} submit {{script}}\"\nstate = \"{own} {state} state {{jobs}}\"\ncancel = \"{own} {state} cancel {{job}} {{signal}}\"\nwords = {{ Q = \"waiting\", R = \"running\", C = \"over\", X = \"cancelled\" }}\n"
    );
    let stages = "[params]\nfit = { n = 0 }\n\n[stage.fit]\nrun = \"echo {fit.n} > o\"\nparams = [\"fit\"]\nwrites = [\"o\"]\nplace = \"box\"\nobserve = false\n\n[stage.here]\nrun = \"ulimit -Sn > p\"\nreads = [\"o\"]\nwrites = [\"p\"]\n\n[stage.seen]\nrun = \"ulimit -Sn > q\"\nwrites = [\"q\"]\nobserve = false\n";
    let tiny = Tiny::with(&format!("{place}\n{stages}"));
    let limited = |limit: &str, words: &str| {
        let mut command = std::process::Command::new("sh");
        command.args(["-c", &format!("ulimit {limit} && exec {} {words}", crate::TEXTUM)]).current_dir(tiny.root());
        let out = command.env_clear().envs(tiny.variables()).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    };
    limited("-n 190", "run --vary fit.n=1..50 --yes");
    assert_eq!(textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json().as_array().unwrap().len(), 50);
    limited("-Sn 200", "run --force here --force seen");
    assert_eq!((tiny.read("p").trim(), tiny.read("q").trim()), ("200", "200"));
}

/// Of two runs that were cut off the first never handed its job over, the second did: whoever comes next takes that one up.
#[test]
fn of_several_that_were_cut_off_the_one_whose_job_began_is_taken_up() {
    let folder = tempfile::tempdir().unwrap();
    let (own, state) = (engine(), folder.path().join("engine").display().to_string());
    let hold = folder.path().join("hold");
    let blocks = format!("if [ -e {0} ]; then echo $$ > {0}; exec sleep 1000; fi; ", hold.display());
    let place = format!(
        "[place.box]\nkind = \"command\"\nsubmit = \"{blocks}{own} {state} submit {{script}}\"\nstate = \"{own} {state} state {{jobs}}\"\ncancel = \"{own} {state} cancel {{job}} {{signal}}\"\nwords = {{ Q = \"waiting\", R = \"running\", C = \"over\", X = \"cancelled\" }}\n"
    );
    let stage = "[stage.x]\nrun = \"echo $$ >> times; echo > begun; while [ ! -e go ]; do sleep 0.05; done; echo x > o\"\nwrites = [\"o\"]\nplace = \"box\"\nobserve = false\n";
    let tiny = Tiny::with(&format!("{place}\n{stage}"));
    let until = |path: &Path| {
        let begun = Instant::now();
        while std::fs::metadata(path).map_or(0, |m| m.len()) == 0 {
            assert!(begun.elapsed() < Duration::from_secs(60), "{} did not come: {}", path.display(), tiny.read("said"));
            std::thread::sleep(Duration::from_millis(10));
        }
    };
    std::fs::write(&hold, "").unwrap();
    let mut child = start(&tiny, &["run"]);
    until(&hold);
    child.kill().unwrap();
    child.wait().unwrap();
    let pid: i32 = std::fs::read_to_string(&hold).unwrap().trim().parse().unwrap();
    rustix::process::kill_process(rustix::process::Pid::from_raw(pid).unwrap(), rustix::process::Signal::KILL).unwrap();
    std::fs::remove_file(&hold).unwrap();
    let mut child = start(&tiny, &["run"]);
    until(&tiny.path("begun"));
    child.kill().unwrap();
    child.wait().unwrap();
    tiny.write("go", "x");
    textum(&tiny, &["run"]).expect(0).warns("takes up the job");
    assert_eq!((tiny.read("o").as_str(), tiny.read("times").lines().count()), ("x\n", 1), "executed once");
    textum(&tiny, &["verify"]).expect(0);
}

/// The environment that a stage had on another machine is the one that is recorded; a result of another environment says nothing
/// of whether the stage comes out the same.
#[test]
fn the_environment_of_a_place_that_shares_nothing_is_recorded_as_it_is_there() {
    on_each(|_, _, place| {
        let around = tempfile::Builder::new().prefix("textum-there-").tempdir().unwrap();
        let venv = around.path().join("venv");
        assert!(Command::new("/usr/bin/python3").args(["-m", "venv", "--without-pip"]).arg(&venv).status().unwrap().success());
        let lib = std::fs::read_dir(venv.join("lib")).unwrap().flatten().next().unwrap().path();
        let info = lib.join("site-packages/loomkit-1.0.dist-info");
        std::fs::create_dir_all(&info).unwrap();
        std::fs::write(info.join("METADATA"), "Metadata-Version: 2.1\nName: loomkit\nVersion: 1.0\n").unwrap();
        let path = format!("{}:/usr/bin:/bin:/usr/sbin:/sbin:{}", venv.join("bin").display(), std::env::var("PATH").unwrap());
        let tiny = Tiny::with(&format!(
            "{place}[environment]\npython = \"python3\"\n[stage.x]\nrun = \"python3 -c 'import importlib.metadata as m; print(len(list(m.distributions(name=\\\"loomkit\\\"))))' > o\"\n\
             writes = [\"o\"]\nplace = \"box\"\n"
        ));
        let textum = |words: &[&str]| tiny.textum_with(TEXTUM, words, &[("PATH", &path)]);
        textum(&["run"]).expect(0).warns("executed in another environment: x:").warns("loomkit 1.0 → not there");
        assert_eq!(tiny.read("o"), "0\n");
        textum(&["plan"]).expect(0).says("nothing to do");
        // Here it is another stage's work: with what is installed here it may come out otherwise.
        let here = textum(&["run", "--place", "local"]).expect(0);
        assert!(!here.err.contains("not deterministic"), "{}", here.err);
        assert_eq!(tiny.read("o"), "1\n");
        textum(&["compare", "last~1", "last", "--all"]).expect(0).says("loomkit");
        let again = textum(&["run", "--force", "x"]).expect(0);
        assert!(!again.err.contains("not deterministic"), "{}", again.err);
        assert_eq!(tiny.read("o"), "0\n");
        let rebuilt = textum(&["rebuild", "o", "--format", "json"]).json();
        assert_eq!(rebuilt["environment"]["same"], false);
        assert!(rebuilt["environment"]["differences"].to_string().contains("loomkit"), "{rebuilt:#}");
    });
}
