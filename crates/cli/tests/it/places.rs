//! Places as manifests declare them, and an engine whose commands misbehave.

use std::os::unix::fs::PermissionsExt;
use std::process::Command;

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const PLACE: &str = "[place.cluster]\nkind = \"slurm\"\n\n";

/// An engine whose commands do what a test wants.
fn engine(tiny: &Tiny, commands: &[(&str, &str)]) -> String {
    for (name, text) in commands {
        let path = format!("bin/{name}");
        tiny.write(&path, format!("#!/bin/sh\n{text}\n"));
        std::fs::set_permissions(tiny.path(&path), std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    format!("{}:/usr/bin:/bin", tiny.path("bin").display())
}

/// What a stand-in for `sbatch` does to know the name of a job.
const NAMED: &str = "for word; do case $word in --job-name=*) echo \"${word#*=}\" > name;; esac; done";

#[test]
fn a_number_that_is_another_jobs_now_says_nothing_of_this_one() {
    let tiny =
        Tiny::with(&format!("{PLACE}[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\n"));
    let job = "setsid sh -c 'until [ -e asked ]; do sleep 0.02; done; sleep 0.3; sh job.sh'";
    let submit = format!("case \"$*\" in *--test-only*) exit 0;; esac; cat > job.sh; {job} > /dev/null 2>&1 < /dev/null & echo 7");
    // A controller that lost what it knew counts from there again, and somebody has cancelled his job 7.
    let path = engine(&tiny, &[("sbatch", &submit), ("squeue", ": > asked; echo '7|night|CANCELLED|None'")]);
    tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(0);
    assert_eq!(tiny.read("o"), "x\n");
}

#[test]
fn a_job_that_could_not_be_begun_is_handed_over_again_without_any_retries() {
    let stage = |name: &str, more: &str| {
        format!(
            "[stage.{name}]\nrun = \"echo x >> times.{name}; echo x > {name}\"\nwrites = [\"{name}\"]\nplace = \"cluster\"\nobserve = false\n{more}\n"
        )
    };
    let tiny = Tiny::with(&format!("{PLACE}{}{}", stage("never", ""), stage("third", "needs = { time = \"1h\" }")));
    // Numbers 1 are jobs of the one stage, 2 of the other.
    let submit = "case \"$*\" in *--test-only*) exit 0;; *--time=*) at=2 begins=3;; *) at=1 begins=99;; esac
        for word; do case $word in --job-name=*) echo \"${word#*=}\" > name.$at;; esac; done
        cat > job.$at; echo x >> orders.$at; [ $(wc -l < orders.$at) -lt $begins ] || setsid sh job.$at; echo $at";
    let squeue = "for at in 1 2; do
        state='FAILED|JobLaunchFailure'; [ $at = 1 ] || [ ! -e times.third ] || state='COMPLETED|None'
        [ ! -e name.$at ] || echo \"$at|$(cat name.$at)|$state\"; done";
    let path = engine(&tiny, &[("sbatch", submit), ("squeue", squeue)]);
    let ran = tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(1);
    assert!(ran.err.contains("is tried again") && ran.err.contains("the cluster could not begin it"), "{}", ran.err);
    assert_eq!((tiny.read("orders.1").lines().count(), tiny.has("times.never")), (4, false), "three times more, and no more");
    assert_eq!((tiny.read("orders.2").lines().count(), tiny.read("times.third")), (3, "x\n".to_string()));
    textum(&tiny, &["show", "last"])
        .expect(0)
        .says("third was lost (the cluster could not begin it: FAILED, JobLaunchFailure), attempt 3 began anew");
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
    let submit = &tested(&format!("{NAMED}; cat > job.sh; setsid sh job.sh; echo 7"));
    with(&[("sbatch", submit), ("squeue", "echo 'slurm_load_jobs error: Invalid job id specified' >&2; exit 1")]).expect(0);
    assert_eq!(tiny.read("o"), "x\n");
    // Lines that are none, and states that nobody knows, do not end a wait.
    tiny.write("textum.toml", tiny.read("textum.toml").replace("echo x", "echo z"));
    let squeue = "if [ -e asked ]; then echo \"7|$(cat name)|COMPLETED|None\"; else : > asked; echo 'what?'; echo '||||'; echo \"7|$(cat name)|DREAMING|None\"; fi";
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
        (
            format!("[place.c]\nkind = \"slurm\"\nfolder = \"/x\"\n\n{stage}"),
            "has no `address`",
            "its login machine as ssh takes it",
        ),
        (format!("[place.c]\nkind = \"slurm\"\ndepot = \"t\"\n\n{stage}"), "has no `address`", "`depot` is of a cluster"),
        (
            format!("[place.c]\nkind = \"slurm\"\naddress = \"-x\"\n\n{stage}"),
            "this cannot be the address of a machine",
            "not with a dash first",
        ),
        (
            format!("[place.c]\nkind = \"slurm\"\naddress = \"a\"\nssh = {{ ControlPath = \"x\" }}\n\n{stage}"),
            "`ControlPath` is said by Textum",
            "leave it out",
        ),
        (
            format!("[place.c]\nkind = \"slurm\"\naddress = \"a\"\nlapse = \"x\"\n\n{stage}"),
            "`lapse` is for places of kind \"ssh\"",
            "leave it out",
        ),
        (
            format!("[place.c]\nkind = \"ssh\"\naddress = \"a\"\nssh = {{ Port = 1 }}\n\n{stage}"),
            "`ssh` is for a cluster that is reached by SSH",
            "write them into `options`",
        ),
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
    let submit =
        "case \"$*\" in *--test-only*) exit 0;; esac; cat > job.sh; echo \"$@\" > words; NAMED; echo 11".replace("NAMED", NAMED);
    let submit = submit.as_str();
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
        let path = engine(&tiny, &[("sbatch", submit), ("squeue", &format!("echo \"11|$(cat name)|{state}\""))]);
        let ran = tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(1);
        assert!(ran.err.contains(says), "{state}: {}", ran.err);
        assert!(!tiny.has("o"));
    }
    // What a stage needs is told in the engine's words, and options as they are written.
    let manifest = "[place.cluster]\nkind = \"slurm\"\noptions = { partition = \"night shift\", exclusive = true, nice = 5, hold = false }\n\n[stage.x]\nrun = \"echo x > o\"\nwrites = [\"o\"]\nplace = \"cluster\"\nobserve = false\nneeds = { cpus = 3, memory = \"1500KiB\", gpus = 2, time = \"61s\" }\n";
    tiny.manifest(manifest);
    let path = engine(&tiny, &[("sbatch", submit), ("squeue", "echo \"11|$(cat name)|CANCELLED|None\"")]);
    tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(1);
    let words = tiny.read("words");
    for word in [
        "--no-requeue",
        "--export=ALL",
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
    let submit = "case \"$*\" in *--test-only*) exit 0;; esac; cat > job.sh; CUDA_VISIBLE_DEVICES=1 setsid sh job.sh; echo 12";
    let gpus = ("nvidia-smi", "echo 'Loom 4000, 550.54'");
    let path = engine(&tiny, &[("sbatch", submit), ("squeue", "echo '12|COMPLETED|None'"), gpus]);
    tiny.textum_with(TEXTUM, &["run"], &[("PATH", &path)]).expect(0);
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    assert_eq!(shown["stages"][0]["place"]["gpus"], "1: Loom 4000, 550.54;");
    assert_eq!(tiny.read("o"), "a b|it's|$HOME `x` \\ \"q\"|Weberei 'Nord' $X||");
}
