//! What ends a run before its end: a person elsewhere, a stage's own rule, its time, a gate.

use std::time::{Duration, Instant};

use textum_testkit::Tiny;

use crate::{TEXTUM, state, textum};

fn wait_for(what: impl Fn() -> bool) {
    let begun = Instant::now();
    while !what() {
        assert!(begun.elapsed() < Duration::from_secs(30), "it did not come to that");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn lines(steps: &str) -> String {
    format!(
        "for i in {steps}; do echo \"{{\\\"metric\\\": {{\\\"loss\\\": $i}}}}\" >> $TEXTUM_SIGNALS; sleep 0.06; done; sleep ${{REST:-0}}; echo x > out\n"
    )
}

#[test]
fn a_run_is_stopped_from_elsewhere_and_followed_without_ending_it() {
    let tiny = Tiny::with(
        "[stage.long]\nrun = \"sh long.sh\"\nreads = [\"long.sh\"]\nwrites = [\"out\"]\n[stage.after]\nrun = \"cp out b\"\nreads = [\"out\"]\nwrites = [\"b\"]\n",
    );
    tiny.write("long.sh", format!("echo weaving\n{}", lines("0.5 0.4 0.3")).replace("${REST:-0}", "60"));
    textum(&tiny, &["stop"]).expect(3).warns("no run is at work");
    textum(&tiny, &["follow"]).expect(3).warns("no run is at work");
    let mut child = tiny.start(TEXTUM, &["run"]);
    let told = || {
        let runs = std::fs::read_dir(tiny.path(".textum/runs")).into_iter().flatten().flatten();
        runs.into_iter().any(|e| std::fs::read_to_string(e.path().join("long/points.csv")).is_ok_and(|t| t.contains(",3,loss,")))
    };
    wait_for(told);
    let mut command = std::process::Command::new(TEXTUM);
    command.arg("follow").current_dir(tiny.root()).env_clear().envs(tiny.variables());
    let mut follower = command.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::piped()).spawn().unwrap();
    // Once it has told of anything it is following.
    let mut first = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(follower.stdout.take().unwrap()), &mut first).unwrap();
    assert!(!first.is_empty());
    follower.kill().unwrap();
    follower.wait().unwrap();
    assert!(child.try_wait().unwrap().is_none(), "ending the view does not end the run");
    textum(&tiny, &["stop", "nobody"]).expect(3).warns("no run `nobody` is at work");
    textum(&tiny, &["stop", "--because", "the shed closes"]).expect(0).says("is stopped");
    assert_eq!(child.wait().unwrap().code(), Some(1));
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    assert_eq!(shown["receipt"]["state"], "stopped");
    let why = shown["receipt"]["reason"].as_str().unwrap();
    assert!(why.contains("stopped by weaver@") && why.contains("the shed closes"), "{why}");
    assert_eq!(shown["stages"][0]["signals"]["metrics"]["loss"]["last"], 0.3, "its steps stay");
    textum(&tiny, &["follow", "last"]).expect(0).says("stopped");
}

#[test]
fn without_a_terminal_following_is_a_line_for_each_thing() {
    let tiny = Tiny::with("[stage.fit]\nrun = \"sh fit.sh\"\nreads = [\"fit.sh\"]\nwrites = [\"out\"]\n");
    tiny.write("fit.sh", format!("echo '{{\"note\": \"warp is tight\"}}' >> $TEXTUM_SIGNALS; sleep 2.5; {}", lines("0.5 0.25")));
    let mut child = tiny.start(TEXTUM, &["run"]);
    wait_for(|| !textum(&tiny, &["follow", "nobody"]).err.contains("no runs yet") || tiny.has(".textum/runs"));
    wait_for(|| {
        std::fs::read_dir(tiny.path(".textum/runs")).is_ok_and(|d| d.flatten().any(|e| e.path().join("fit/begun.json").exists()))
    });
    let said = textum(&tiny, &["follow"]).expect(0);
    let said = said.says("warp is tight").says("fit  ran").says("done in");
    assert!(said.out.contains("fit  runs"), "{}", said.out);
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn a_rule_or_the_time_stops_a_stage_and_its_result_is_never_reused() {
    let manifest = |more: &str| {
        format!(
            "[metric.loss]\nbetter = \"lower\"\n[stage.fit]\nrun = \"sh fit.sh\"\nreads = [\"fit.sh\"]\nwrites = [\"out\"]\n{more}\n"
        )
    };
    let tiny = Tiny::with(&manifest("stop_when = \"loss > 2 * best for 2 steps\""));
    tiny.write("fit.sh", lines("0.5 0.4 0.9 0.3 0.7 0.8 0.9").replace("${REST:-0}", "60"));
    let ran = textum(&tiny, &["run", "--format", "json"]).expect(1).json();
    assert_eq!((state(&ran, "fit"), &ran["state"]), ("stopped".into(), &"stopped".into()));
    let why = ran["reason"].as_str().unwrap();
    assert!(why.contains("`loss > 2 * best for 2 steps` held at step 6") && why.contains("loss 0.8"), "{why}");
    textum(&tiny, &["plan", "--check"]).expect(1);
    tiny.manifest(&manifest("needs = { time = \"1s\" }"));
    let begun = Instant::now();
    textum(&tiny, &["run"]).expect(1).warns("it took longer than the 1 s");
    assert!(begun.elapsed() < Duration::from_secs(30));
    for (bad, why) in [
        ("stop_when = \"loss > best.auc\"", "whether a higher or a lower `auc` is better"),
        ("stop_when = \"best > 3\"", "`best` of what?"),
        ("stop_when = \"loss >\"", "a number or a metric is expected"),
        ("needs = { time = \"soon\" }", "`soon` is no time"),
    ] {
        tiny.manifest(&manifest(bad));
        textum(&tiny, &["plan"]).expect(2).warns(why);
    }
}

#[test]
fn a_gate_keeps_what_follows_from_running_and_is_recorded() {
    let tiny = Tiny::with(
        "[stage.judge]\nrun = \"cp auc.json s.json\"\nreads = [\"auc.json\"]\nwrites = []\nmetrics = [\"s.json\"]\n\
         [stage.ship]\nrun = \"cp s.json shipped\"\nreads = [\"s.json\"]\nwrites = [\"shipped\"]\n\
         [[gate]]\nafter = \"judge\"\ncheck = \"auc >= 0.80 and auc >= baseline.auc - 0.01\"\n",
    );
    let auc = |value: &str| tiny.write("auc.json", format!("{{\"auc\": {value}}}"));
    auc("0.9");
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).warns("nothing to compare with yet").json();
    assert_eq!(first["gates"][0]["held"], true);
    auc("0.85");
    let failed = textum(&tiny, &["run"])
        .expect(1)
        .warns("does not hold")
        .warns("auc 0.8500")
        .warns("baseline.auc 0.9000")
        .warns("it keeps ship from running");
    failed.says("failed");
    assert_eq!(tiny.read("shipped"), "{\"auc\": 0.9}", "what follows did not run");
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let gate = &shown["receipt"]["gates"][0];
    assert_eq!(
        (&gate["held"], &gate["kept_from"], &gate["baseline"]),
        (&false.into(), &serde_json::json!(["ship"]), &first["run"])
    );
    // A result that is there already must hold all the same.
    textum(&tiny, &["run"]).expect(1).warns("does not hold");
    auc("0.91");
    textum(&tiny, &["run"]).expect(0);
    let text = tiny.read("textum.toml").replace("auc >= 0.80 and auc >= baseline.auc - 0.01", "auc >= 0.95 and acu > 0");
    tiny.write("textum.toml", text);
    textum(&tiny, &["run"]).expect(1).warns("acu is not there");
    for (from, to, why) in [
        ("after = \"judge\"", "after = \"juge\"", "did you mean `judge`?"),
        ("auc >= 0.95 and acu > 0", "auc => 1", "`=>` is no comparison"),
        ("auc >= 0.95 and acu > 0", "auc > 1 for 3 steps", "cannot count steps"),
    ] {
        tiny.write("textum.toml", tiny.read("textum.toml").replace(from, to));
        textum(&tiny, &["plan"]).expect(2).warns(why);
        tiny.write("textum.toml", tiny.read("textum.toml").replace(to, from));
    }
}
