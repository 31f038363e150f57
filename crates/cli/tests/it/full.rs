//! A cluster that takes no more jobs for now, or few in one array: what has no room there waits here, and is executed once.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use textum_testkit::Tiny;

use crate::TEXTUM;

/// `sbatch`, `squeue` and `scancel` of a cluster that has room for so many jobs of one person, and arrays of so many. A job goes
/// when it has ended, except where a file `hold` keeps all at work, or `hold-until-full` until one was refused.
const SLURM: &str = r#"#!/bin/sh
at=$(dirname "$0"); exec 9> "$at/lock"
count() { ls "$at/jobs" | grep -c . ; }
case "$(basename "$0")" in
sbatch)
    [ ! -e "$at/cancels" ] || echo "$(date +%s.%N) $*" >> "$at/late"
    text=$(cat); last=0; name=
    for word in "$@"; do case $word in
        --test-only) exit 0;;
        --array=0-*) last=${word#--array=0-};;
        --job-name=*) name=${word#--job-name=};;
        --export=*) echo "$word" >> "$at/exports";;
    esac; done
    env | cut -d= -f1 >> "$at/variables"
    flock 9
    if [ "$last" -ge MOST ]; then echo "$last" >> "$at/too-many"; echo "sbatch: error: Batch job submission failed: Invalid job array specification" >&2; exit 1; fi
    if [ $(($(count) + last + 1)) -gt ROOM ]; then
        echo "$last" >> "$at/refused"
        echo "sbatch: error: QOSMaxSubmitJobPerUserLimit" >&2; exit 1
    fi
    number=$(($(cat "$at/number" 2>/dev/null || echo 100) + 1)); echo $number > "$at/number"; echo $((last + 1)) >> "$at/arrays"
    printf '%s\n' "$text" > "$at/script.$number"
    for i in $(seq 0 "$last"); do
        job=$number; [ "$last" = 0 ] || job=${number}_$i
        echo "$name" > "$at/jobs/$job"
        (exec 9>&-; SLURM_ARRAY_TASK_ID=$i sh "$at/script.$number" > /dev/null 2>&1 < /dev/null; while [ -e "$at/hold" ] || { [ -e "$at/hold-until-full" ] && [ ! -s "$at/refused" ]; }; do sleep 0.02; done; rm -f "$at/jobs/$job") > /dev/null 2>&1 < /dev/null &
    done
    echo $number;;
squeue) for job in $(ls "$at/jobs"); do name=$(cat "$at/jobs/$job" 2>/dev/null) && echo "$job|$name|RUNNING|None|N/A"; done;;
scancel)
    echo "$(date +%s.%N) $*" >> "$at/cancels"
    for word in "$@"; do case $word in [0-9]*) rm -f "$at/jobs/$word";; esac; done;;
esac
"#;

struct Cluster {
    folder: tempfile::TempDir,
}

impl Cluster {
    fn new(room: usize, array: usize) -> Cluster {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("jobs")).unwrap();
        let text = SLURM.replace("ROOM", &room.to_string()).replace("MOST", &array.to_string());
        for name in ["sbatch", "squeue", "scancel"] {
            let path = folder.path().join(name);
            std::fs::write(&path, &text).unwrap();
            std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        }
        Cluster { folder }
    }

    fn start(&self, tiny: &Tiny, words: &[&str]) -> std::process::Child {
        let path = format!("{}:{}", self.folder.path().display(), std::env::var("PATH").unwrap());
        let mut command = Command::new(TEXTUM);
        command.args(words).current_dir(tiny.root()).env_clear().envs(tiny.variables()).env("PATH", path).env("LOOM_TOKEN", "warp");
        command.stdout(Stdio::null()).stderr(std::fs::File::create(tiny.path("said")).unwrap()).spawn().unwrap()
    }

    fn lines(&self, file: &str) -> Vec<String> {
        let text = std::fs::read_to_string(self.folder.path().join(file)).unwrap_or_default();
        text.lines().map(str::to_string).collect()
    }
}

const STAGE: &str = "[place.cluster]\nkind = \"slurm\"\njobs = 100\n\n[params]\nfit = { n = 0 }\n\n[stage.fit]\nrun = \"echo {fit.n} > o; echo {fit.n} >> TIMES\"\nparams = [\"fit\"]\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\n";

fn sweep(times: &Path) -> Tiny {
    Tiny::with(&STAGE.replace("TIMES", &times.display().to_string()))
}

#[test]
fn what_a_cluster_has_no_room_for_waits_and_is_executed_once() {
    let cluster = Cluster::new(7, 4);
    std::fs::write(cluster.folder.path().join("hold-until-full"), "").unwrap();
    let times = cluster.folder.path().join("times");
    let tiny = sweep(&times);
    let ended = cluster.start(&tiny, &["run", "--vary", "fit.n=1..40", "--yes"]).wait().unwrap();
    assert_eq!(ended.code(), Some(0), "{}", tiny.read("said"));
    let mut done: Vec<u32> = cluster.lines("times").iter().map(|n| n.parse().unwrap()).collect();
    done.sort_unstable();
    assert_eq!(done, (1..=40).collect::<Vec<u32>>(), "each once");
    assert!(!cluster.lines("refused").is_empty(), "it was full at times");
    let too_many = cluster.lines("too-many");
    assert!((1..=4).contains(&too_many.len()), "what it never takes it is not asked for again and again: {too_many:?}");
    assert!(cluster.lines("arrays").iter().any(|n| n != "1"), "some came together");
    let said = tiny.read("said");
    assert_eq!(said.matches("takes no more jobs for now: sbatch: error: QOSMaxSubmitJobPerUserLimit").count(), 1, "{said}");
    // What a person has set does not come there, and nothing makes the node read a person's login files.
    assert!(!cluster.lines("variables").contains(&"LOOM_TOKEN".to_string()));
    assert!(cluster.lines("exports").iter().all(|word| word == "--export=ALL"));
}

/// Whoever stops does not wait for room, nothing is handed over any more, and jobs end by few orders.
#[test]
fn whoever_stops_while_there_is_no_room_waits_for_none() {
    let cluster = Cluster::new(6, 100);
    std::fs::write(cluster.folder.path().join("hold"), "").unwrap();
    let tiny = sweep(&cluster.folder.path().join("times"));
    let mut child = cluster.start(&tiny, &["run", "--vary", "fit.n=1..30", "--yes"]);
    let begun = Instant::now();
    // One alone was refused while all room is taken: nothing is on its way for a while.
    while cluster.lines("times").len() < 6 || cluster.lines("refused").last().is_none_or(|last| last != "0") {
        assert!(begun.elapsed() < Duration::from_secs(60), "{}", tiny.read("said"));
        std::thread::sleep(Duration::from_millis(10));
    }
    let pid = rustix::process::Pid::from_raw(i32::try_from(child.id()).unwrap()).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130), "{}", tiny.read("said"));
    std::fs::remove_file(cluster.folder.path().join("hold")).unwrap();
    assert!(
        cluster.lines("late").len() <= 1,
        "none is handed over any more, but for what was on its way: {:?}",
        cluster.lines("late")
    );
    let cancels = cluster.lines("cancels");
    assert!(!cancels.is_empty() && cancels.len() <= 6, "in few orders: {cancels:?}");
    let ended = cluster.start(&tiny, &["run", "--vary", "fit.n=1..30", "--yes"]).wait().unwrap();
    assert_eq!(ended.code(), Some(0), "{}", tiny.read("said"));
    assert_eq!(
        crate::textum(&tiny, &["runs", "--all", "--where", "state = done", "--format", "json"])
            .expect(0)
            .json()
            .as_array()
            .map(Vec::len),
        Some(30)
    );
}
