//! What stages tell while they run: metrics by step, checkpoints, and going on from one.

use textum_testkit::Tiny;

use crate::{TEXTUM, state, textum};

/// A training that counts its steps, stores each, and can go on.
fn training(steps: &str, more: &str) -> Tiny {
    let tiny = Tiny::with(&format!(
        "[params]\nfit = {{ steps = {steps} }}\n[stage.fit]\nrun = \"sh fit.sh {{fit.steps}}\"\nreads = [\"fit.sh\"]\nparams = [\"fit\"]\n\
         writes = [\"model.txt\"]\ncheckpoints = \"ck\"\n{more}\n[metric.loss]\nbetter = \"lower\"\n"
    ));
    tiny.write(
        "fit.sh",
        "s=0; [ -n \"$TEXTUM_FROM\" ] && s=$(cat $TEXTUM_FROM/state)\nmkdir -p ck\n\
         while [ $s -lt $1 ]; do\n  s=$((s+1)); echo $s > ck/state\n\
           \"$TEXTUM_PROGRAM\" emit --step $s loss=$(awk \"BEGIN{print 1/$s}\") --progress $(awk \"BEGIN{print $s/$1}\") --checkpoint || exit 9\n\
           [ -n \"$SLOW\" ] && sleep $SLOW\ndone\ncat ck/state > model.txt\n",
    );
    tiny
}

#[test]
fn steps_and_checkpoints_are_kept_and_a_branch_stands_in_the_lineage() {
    let tiny = training("4", "");
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(first["metrics"]["loss"], 0.25);
    let run = first["run"].as_str().unwrap();
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0).json();
    let stage = &steps["stages"][0];
    assert_eq!(stage["steps"].as_array().unwrap().len(), 4);
    assert_eq!(
        (&stage["signals"]["metrics"]["loss"]["best_step"], &stage["steps"][1]["metrics"]["loss"]),
        (&4.into(), &0.5.into())
    );
    assert!(stage["steps"][2]["checkpoint"]["digest"].as_str().unwrap().starts_with("b3:"));

    textum(&tiny, &["restore", "last#2"]).expect(0);
    assert_eq!(tiny.read("ck/state"), "2\n");
    let branch = textum(&tiny, &["run", "--from", "last#2", "--set", "fit.steps=6", "--format", "json"]).expect(0).json();
    assert_eq!(tiny.read("model.txt"), "6\n");
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0).json();
    assert_eq!(steps["stages"][0]["steps"][0]["step"], 3, "the steps go on counting");
    let trace = textum(&tiny, &["trace", "model.txt", "--format", "json"]).expect(0).json();
    let node = trace["nodes"].as_array().unwrap().iter().find(|n| n["kind"] == "checkpoint").unwrap();
    assert_eq!((&node["run"], &node["step"]), (&run.into(), &2.into()));
    let edges = trace["edges"].as_array().unwrap();
    assert!(edges.iter().any(|e| e["from"] == node["id"] && e["role"] == "checkpoint"));
    assert!(edges.iter().any(|e| e["to"] == node["id"] && e["role"] == "writes"), "and what made it");
    // The checkpoint's content is in the store, and the branch is rebuilt from it.
    textum(&tiny, &["show", node["digest"].as_str().unwrap()]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["trace", "ck"]).expect(0).says("a checkpoint: step 6");

    // Without --from the next run starts clean, and says that something lay there.
    let plan = textum(&tiny, &["plan", "--set", "fit.steps=6"]).expect(0);
    plan.says("went on from a checkpoint, step 2");
    tiny.write("fit.sh", format!("{}# other\n", tiny.read("fit.sh")));
    textum(&tiny, &["run", "--set", "fit.steps=5"]).expect(0).warns("starts clean");
    assert_eq!(tiny.read("model.txt"), "5\n");
    assert_ne!(branch["run"], first["run"]);
    let again =
        textum(&tiny, &["run", "--from", "best:loss#best:loss", "--set", "fit.steps=5", "--format", "json"]).expect(0).json();
    assert_eq!(state(&again, "fit"), "ran");
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn old_checkpoints_go_when_asked_but_for_those_that_are_needed() {
    let tiny = training("5", "");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["label", "last", "keep-me"]).expect(0);
    textum(&tiny, &["run", "--set", "fit.steps=6"]).expect(0);
    textum(&tiny, &["run", "--from", "last#2", "--set", "fit.steps=7"]).expect(0);
    let branch = tiny.read("model.txt");
    let prune = ["prune", "--newest", "1", "--yes", "--format", "json"];
    assert_eq!(textum(&tiny, &prune).expect(0).json()["outputs"], serde_json::json!([]));
    let gone = textum(&tiny, &[&prune[..], &["--checkpoints"]].concat()).expect(0).json();
    let paths: Vec<&str> = gone["outputs"].as_array().unwrap().iter().map(|o| o["path"].as_str().unwrap()).collect();
    assert!(paths.is_empty(), "the same small states stand behind the checkpoints of a labelled run: {paths:?}");
    textum(&tiny, &["label", "keep-me", ""]).expect(0);
    let gone = textum(&tiny, &[&prune[..], &["--checkpoints"]].concat()).expect(0).json();
    let mut paths: Vec<&str> = gone["outputs"].as_array().unwrap().iter().map(|o| o["path"].as_str().unwrap()).collect();
    paths.sort_unstable();
    paths.dedup();
    assert_eq!(paths, ["ck#1"], "neither the last, the best, nor those gone on from or still used");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    assert_eq!(tiny.read("model.txt"), branch);
    textum(&tiny, &["restore", "last~2#1"]).expect(3).warns("dropped by a prune");
    textum(&tiny, &["restore", "last~2#5"]).expect(0);
}

#[test]
fn a_killed_textum_loses_no_checkpoint_and_resume_goes_on() {
    let tiny = training("40", "");
    let text = tiny.read("fit.sh").replace("[ -n \"$SLOW\" ] && sleep $SLOW", "sleep 0.05");
    tiny.write("fit.sh", text);
    let mut child = tiny.start(TEXTUM, &["run"]);
    let made = || {
        textum(&tiny, &["stats", "--format", "json"]).status == 0
            && tiny.has("ck/state")
            && tiny.read("ck/state").trim().parse::<u32>().unwrap_or(0) > 4
    };
    while !made() {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0).warns("interrupted").json();
    let stored = steps["stages"][0]["steps"].as_array().unwrap().iter().filter(|s| !s["checkpoint"].is_null()).count();
    assert!(stored >= 4, "each checkpoint was safe before the stage went on: {stored}");
    let resumed = textum(&tiny, &["resume", "--format", "json"]).expect(0).warns("goes on from").json();
    assert_eq!(tiny.read("model.txt"), "40\n");
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0).json();
    assert!(steps["stages"][0]["steps"][0]["step"].as_u64().unwrap() > 4);
    textum(&tiny, &["show", resumed["run"].as_str().unwrap()]).expect(0).says("resumes");
    textum(&tiny, &["resume", "last"]).expect(2).warns("is done");
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn odd_signals_are_told_with_their_line_and_end_nothing() {
    let tiny = Tiny::with(
        "[stage.fit]\nrun = \"cat lines >> $TEXTUM_SIGNALS; echo done > out\"\nreads = [\"lines\"]\nwrites = [\"out\"]\n[metric.loss]\nbetter = \"lower\"\n",
    );
    tiny.write(
        "lines",
        "{\"metric\": {\"loss\": 0.5}, \"step\": 1}\nloss 0.4\n{\"metric\": {\"loss\": NaN}, \"step\": 2}\n{\"metric\": {\"loss\": -Infinity}, \"step\": 3}\n\
         {\"metric\": {\"loss\": 0.7}, \"step\": 5}\n{\"metric\": {\"loss\": 0.6}, \"step\": 4}\n{\"metric\": {\"loss\": 0.8}, \"step\": 5}\n{\"checkpoint\": true}\n{\"note\": \"armed\"}",
    );
    let ran = textum(&tiny, &["run"]).expect(0).warns("line 2 of its signals: it is no JSON").warns("line 8").warns("armed");
    ran.says("loss 0.8000");
    let json = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let told = &json["stages"][0]["signals"];
    let loss = &told["metrics"]["loss"];
    assert_eq!(
        (&loss["best"], &loss["best_step"], &loss["last"], &loss["not_finite"]),
        (&0.5.into(), &1.into(), &0.8.into(), &2.into())
    );
    assert_eq!((&told["out_of_order"], &told["repeated"], &told["malformed"]), (&1.into(), &1.into(), &2.into()));
    textum(&tiny, &["runs", "--steps", "last"]).expect(0).says("NaN").says("-inf").says("came after a later step");
    textum(&tiny, &["plot"]).expect(0).says("best 0.5 at step 1");
}

#[test]
fn histories_give_curves_without_a_change_to_the_script() {
    let tiny = Tiny::with(
        "[stage.fit]\nrun = \"sh fit.sh\"\nreads = [\"fit.sh\"]\nwrites = [\"out\"]\nmetrics = [\"history.csv\", \"end.json\"]\n[metric.loss]\nbetter = \"lower\"\n",
    );
    tiny.write(
        "fit.sh",
        "echo epoch,loss > history.csv; for i in 1 2 3; do echo $i,0.$((9-i)) >> history.csv; sleep 0.05; done; echo '{\"auc\": 0.7}' > end.json; echo x > out\n",
    );
    let ran = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(ran["metrics"], serde_json::json!({"auc": 0.7, "loss": 0.6}));
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "csv"]).expect(0).out;
    let rows: Vec<&str> = steps.lines().map(|l| l.rsplit_once(',').unwrap().0).collect();
    assert_eq!((rows.len(), rows[0]), (4, "stage,step,seconds,loss"), "{steps}");
    assert!(rows[3].starts_with("fit,3,") && rows[3].ends_with(",0.6"), "a file that is written once is no curve");
}

#[test]
fn what_cannot_be_a_checkpoint_is_said_to_whoever_asked() {
    let tiny = Tiny::with(
        "[stage.none]\nrun = \"$TEXTUM_PROGRAM emit --checkpoint --step 1; echo status $?; echo x > a\"\nwrites = [\"a\"]\n\
         [stage.empty]\nrun = \"$TEXTUM_PROGRAM emit --checkpoint --step 1; echo status $?; echo x > b\"\nwrites = [\"b\"]\ncheckpoints = \"ck\"\n",
    );
    let ran = textum(&tiny, &["run"]).expect(0);
    assert!(ran.err.contains("declares no `checkpoints`") && ran.err.contains("nothing stands at ck"), "{}", ran.err);
    textum(&tiny, &["show", "last", "--log", "empty"]).expect(0).says("status 1").says("write the checkpoint first");
    textum(&tiny, &["run", "--from", "last#1"]).expect(3).warns("has no checkpoints");
    textum(&tiny, &["run", "--from", "last"]).expect(2).warns("names no checkpoint");
    textum(&tiny, &["emit", "loss=0.5"]).expect(0).warns("not within a stage");
    textum(&tiny, &["emit", "loss=low"]).expect(2).warns("no metric");
    let tiny = training("2", "");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--from", "last#7"]).expect(3).warns("no checkpoint of step 7: there are 1, 2");
    textum(&tiny, &["run", "--from", "last#x"]).expect(2).warns("`#x` names no checkpoint");
    tiny.write("textum.toml", tiny.read("textum.toml").replace("checkpoints = \"ck\"\n", ""));
    textum(&tiny, &["run", "--from", "last#2"]).expect(2).warns("declares no `checkpoints`");
    tiny.manifest("[stage.fit]\nrun = \"true\"\nreads = [\"ck/x\"]\nwrites = [\"o\"]\ncheckpoints = \"ck\"\n");
    textum(&tiny, &["plan"]).expect(2).warns("the checkpoints `ck` overlap");
}

#[test]
fn lines_of_many_processes_do_not_mix() {
    let tiny = Tiny::with(
        "[stage.fit]\nrun = \"for i in $(seq 1 24); do $TEXTUM_PROGRAM emit --step $i loss=$i --note loom-$i & done; wait; echo x > out\"\nwrites = [\"out\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let told = &shown["stages"][0]["signals"];
    assert_eq!((&told["count"], &told["metrics"]["loss"]["last"], told["malformed"].is_null()), (&24.into(), &24.0.into(), true));
    let notes: std::collections::BTreeSet<&str> =
        told["notes"].as_array().unwrap().iter().map(|n| n["text"].as_str().unwrap()).collect();
    assert_eq!(notes.len(), 24);
}

#[test]
fn a_checkpoint_that_cannot_be_stored_is_not_said_to_be() {
    let tiny = training("3", "");
    let text = tiny.read("fit.sh").replace("echo $s > ck/state\n", "echo $s > ck/state; cp a.bin ck/a; cp b.bin ck/b\n");
    tiny.write("fit.sh", text.replace("|| exit 9", "&& echo stored $s >> told"));
    tiny.write("textum.toml", tiny.read("textum.toml").replace("[\"fit.sh\"]", "[\"fit.sh\", \"a.bin\", \"b.bin\"]"));
    tiny.write("a.bin", textum_testkit::noise(7, 300_000));
    tiny.write("b.bin", textum_testkit::noise(8, 300_000));
    // What is read is stored; then no file may grow beyond half a megabyte, as on a full disk.
    textum(&tiny, &["run", "--set", "fit.steps=0"]).expect(1);
    for file in ["a.bin", "b.bin"] {
        tiny.write(
            "fit.sh",
            tiny.read("fit.sh").replace(&format!("cp {file} "), &format!("tac {file} | cat - {file} | head -c 400000 > ")),
        );
    }
    let failed = tiny.textum("/bin/bash", &["-c", &format!("ulimit -f 500; trap '' XFSZ; exec {TEXTUM} run")]);
    assert_ne!(failed.status, 0, "{}", failed.err);
    assert!(!tiny.has("told"), "nobody was told that it is stored: {}", failed.err);
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

/// A run with a branch from its second checkpoint, whose file of the first lesson is needed by the training alone.
fn branched(checkpoint: &str) -> Tiny {
    let tiny = Tiny::with(
        "[params]\nfit = { steps = 4 }\n[stage.prepare]\nrun = \"cp raw first\"\nreads = [\"raw\"]\nwrites = [\"first\"]\n\
         [stage.fit]\nrun = \"sh fit.sh {fit.steps}\"\nreads = [\"fit.sh\", \"first\"]\nparams = [\"fit\"]\nwrites = [\"model.txt\"]\n\
         checkpoints = \"ck\"\n",
    );
    tiny.write("raw", "wool");
    tiny.write(
        "fit.sh",
        format!(
            "s=0; [ -n \"$TEXTUM_FROM\" ] && s=$(head -1 $TEXTUM_FROM/state)\nmkdir -p ck\n\
             while [ $s -lt $1 ]; do s=$((s+1)); {checkpoint}\n\
             \"$TEXTUM_PROGRAM\" emit --step $s loss=$s --checkpoint || exit 9; done\n\
             [ \"$1\" = 4 ] && exit 3; cat ck/state first > model.txt\n"
        ),
    );
    // The training itself fails after its last checkpoint: what is needed of it is there all the same.
    textum(&tiny, &["run"]).expect(1);
    textum(&tiny, &["run", "--from", "last#2", "--set", "fit.steps=6"]).expect(0);
    tiny
}

#[test]
fn a_rebuild_from_scratch_repeats_the_training_up_to_the_checkpoint() {
    let tiny = branched("echo $s > ck/state; echo $s >> /dev/null");
    let plain = textum(&tiny, &["rebuild", "model.txt", "--format", "json"]).expect(0).json();
    let names = |json: &serde_json::Value| -> Vec<String> {
        json["stages"].as_array().unwrap().iter().map(|s| s["stage"].as_str().unwrap().to_string()).collect()
    };
    assert_eq!(names(&plain), ["prepare", "fit"]);
    assert_eq!((&plain["began_at"][0]["kind"], &plain["began_at"][0]["step"]), (&"checkpoint".into(), &2.into()));
    let whole = textum(&tiny, &["rebuild", "model.txt", "--from-scratch", "--format", "json"]).expect(0).json();
    assert_eq!((names(&whole), &whole["began_at"]), (["prepare", "fit", "fit"].map(String::from).to_vec(), &serde_json::json!([])));
    let training = &whole["stages"][1];
    assert_eq!((&training["checkpoints"], &training["verdict"]), (&serde_json::json!([2]), &"identical".into()));
    assert_eq!(training["writes"][0]["path"], "ck");
    textum(&tiny, &["rebuild", "model.txt", "--from-scratch"]).expect(0).says("fit #2").says("identical");
    // What the training leaves in the store is nothing: the run's checkpoints are those that it had.
    let steps = textum(&tiny, &["runs", "--steps", "last~1", "--format", "json"]).expect(0).json();
    assert_eq!(steps["stages"][0]["steps"].as_array().unwrap().len(), 4);
}

#[test]
fn a_training_that_does_not_repeat_itself_is_told_by_its_checkpoint() {
    // Another line each time: it reaches the model only from scratch.
    let tiny = branched("{ echo $s; [ $s -le 2 ] && cat /proc/sys/kernel/random/uuid || sed 1d ck/state; } > new; mv new ck/state");
    let told = textum(&tiny, &["rebuild", "model.txt", "--from-scratch", "--format", "json"]).expect(0).json();
    let verdicts = (&told["stages"][1]["verdict"], &told["verdict"]);
    assert_eq!(verdicts, (&"different".into(), &"equivalent".into()), "other bytes, the same loss");
    textum(&tiny, &["rebuild", "model.txt"]).expect(0).says("identical").says("--from-scratch does");
    // One that does not come to its checkpoint any more: said, and what goes on from it is not made up.
    let tiny = branched("echo $s > ck/state; [ -e ../../../halt ] && exit 5");
    tiny.write(".textum/halt", "");
    let told = textum(&tiny, &["rebuild", "model.txt", "--from-scratch", "--format", "json"]).expect(1).json();
    let reason = |at: usize| told["stages"][at]["reason"].as_str().unwrap().to_string();
    assert!(reason(1).contains("exit status 5, before it had made the checkpoint #2"), "{}", reason(1));
    assert!(reason(2).contains("could not be made again"), "{}", reason(2));
}
