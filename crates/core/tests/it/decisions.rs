//! The table of decisions: whatever happens to a project between two runs, what a plan then says of each stage,
//! and why; and that a run does just that.

use std::collections::BTreeSet;

use textum_core::event::{CancelToken, Silent};
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::pipeline::plan::{Action, Plan, PlanContext};
use textum_core::project::fingerprint::ReasonKind;
use textum_core::project::workspace::Project;
use textum_core::record::receipt::RunStageState;
use textum_testkit::Tiny;

/// `clean` and `side` read sources, `fit` reads what `clean` wrote, `judge` reads what both wrote.
const PIPELINE: &str = r#"
[data.yarn]
path = "yarn.txt"

[data.looms]
path = "looms"

[params]
rate = 1
deep = { a = 1, b = 2 }

[environment]
vars  = ["LOOM_SPEED"]
files = ["common.sh"]

[stage.clean]
run    = "sort yarn.txt > clean.txt"
reads  = ["yarn.txt"]
writes = ["clean.txt"]

[stage.fit]
run    = "sh fit.sh {rate} > model.txt"
reads  = ["clean.txt", "fit.sh"]
params = ["rate", "deep.a"]
writes = ["model.txt"]

[stage.side]
run    = "mkdir -p side; ls looms | wc -l > side/count.txt"
reads  = ["looms"]
writes = ["side/"]

[stage.judge]
run     = "echo \"{\\\"score\\\": $(cat model.txt side/count.txt | wc -c)}\" > score.json"
reads   = ["model.txt", "side"]
metrics = ["score.json"]
"#;

fn project() -> Tiny {
    let tiny = Tiny::with(PIPELINE);
    tiny.write("yarn.txt", "wool\nsilk\n");
    tiny.write("looms/a.txt", "a\n");
    tiny.write("looms/b.txt", "b\n");
    tiny.write("fit.sh", "cat clean.txt; echo rate $1\n");
    tiny.write("common.sh", "# of all\n");
    tiny
}

fn opened(tiny: &Tiny, more: &[(&str, &str)]) -> Project {
    let mut variables = tiny.variables();
    variables.extend(more.iter().map(|(k, v)| (k.to_string(), v.to_string())));
    Project::open_to_write(tiny.root(), variables).unwrap()
}

/// What a plan says: for each stage its action and its reasons, as `kind name`.
fn planned(project: &Project, forced: &[&str]) -> Vec<(String, Action, BTreeSet<String>)> {
    let all = project.graph.select(&[]);
    let forced = forced.iter().filter_map(|name| project.graph.index_of(name)).collect();
    let plan = Plan::make(&PlanContext::new(project, &all, forced).unwrap(), &all).unwrap();
    let word = |kind: ReasonKind| serde_json::to_value(kind).unwrap().as_str().unwrap().to_string();
    let reasons =
        |d: &textum_core::pipeline::plan::Decision| d.reasons.iter().map(|r| format!("{} {}", word(r.kind), r.name)).collect();
    plan.decisions.iter().map(|d| (d.stage.clone(), d.action, reasons(d))).collect()
}

struct Case {
    what: &'static str,
    /// Done to a project in which everything is up to date.
    edit: fn(&Tiny),
    variables: &'static [(&'static str, &'static str)],
    forced: &'static [&'static str],
    /// Stages that are not up to date, with their actions and some of their reasons.
    expected: &'static [(&'static str, Action, &'static [&'static str])],
}

const CLEAN: Case = Case { what: "", edit: |_| {}, variables: &[], forced: &[], expected: &[] };

fn manifest(tiny: &Tiny, from: &str, to: &str) {
    let text = tiny.read("textum.toml");
    assert!(text.contains(from), "{from}");
    tiny.write("textum.toml", text.replace(from, to));
}

fn cases() -> Vec<Case> {
    use Action::{Reuse, Run};
    vec![
        Case { what: "nothing", ..CLEAN },
        Case {
            what: "the data is another",
            edit: |t| t.write("yarn.txt", "jute\n"),
            expected: &[
                ("clean", Run, &["read yarn.txt"]),
                ("fit", Run, &["upstream clean.txt"]),
                ("judge", Run, &["upstream model.txt"]),
            ],
            ..CLEAN
        },
        Case { what: "the data has been touched", edit: |t| t.write("yarn.txt", "wool\nsilk\n"), ..CLEAN },
        Case {
            what: "a file in a folder is another",
            edit: |t| t.write("looms/b.txt", "c\n"),
            expected: &[("side", Run, &["read looms"]), ("judge", Run, &["upstream side"])],
            ..CLEAN
        },
        Case {
            what: "a file in a folder came",
            edit: |t| t.write("looms/deep/c.txt", "c\n"),
            expected: &[("side", Run, &["read looms"]), ("judge", Run, &["upstream side"])],
            ..CLEAN
        },
        Case {
            what: "a file in a folder went",
            edit: |t| std::fs::remove_file(t.path("looms/a.txt")).unwrap(),
            expected: &[("side", Run, &["read looms"]), ("judge", Run, &["upstream side"])],
            ..CLEAN
        },
        Case {
            what: "a file in a folder may be executed",
            edit: |t| {
                use std::os::unix::fs::PermissionsExt;
                std::fs::set_permissions(t.path("looms/a.txt"), PermissionsExt::from_mode(0o755)).unwrap();
            },
            expected: &[("side", Run, &["read looms"]), ("judge", Run, &["upstream side"])],
            ..CLEAN
        },
        Case {
            what: "a script is another",
            edit: |t| t.write("fit.sh", "cat clean.txt; echo a rate of $1\n"),
            expected: &[("fit", Run, &["read fit.sh"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
        Case {
            what: "a parameter is another",
            edit: |t| manifest(t, "rate = 1", "rate = 2"),
            expected: &[("fit", Run, &["param rate", "command run"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
        Case {
            what: "a parameter is written as another number",
            edit: |t| manifest(t, "rate = 1", "rate = 1.0"),
            expected: &[("fit", Run, &["param rate"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
        Case { what: "a parameter that is used by none", edit: |t| manifest(t, "b = 2", "b = 3"), ..CLEAN },
        Case {
            what: "a parameter that is only named",
            edit: |t| manifest(t, "a = 1", "a = 3"),
            expected: &[("fit", Run, &["param deep.a"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
        Case {
            what: "a parameter is named no more",
            edit: |t| manifest(t, ", \"deep.a\"]", "]"),
            expected: &[("fit", Run, &["param deep.a"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
        Case {
            what: "a command is another",
            edit: |t| manifest(t, "sort yarn.txt", "sort -r yarn.txt"),
            expected: &[
                ("clean", Run, &["command run"]),
                ("fit", Run, &["upstream clean.txt"]),
                ("judge", Run, &["upstream model.txt"]),
            ],
            ..CLEAN
        },
        Case {
            what: "one more output is declared",
            edit: |t| manifest(t, "writes = [\"clean.txt\"]", "writes = [\"clean.txt\", \"more.txt\"]"),
            expected: &[
                ("clean", Run, &["writes more.txt"]),
                ("fit", Run, &["upstream clean.txt"]),
                ("judge", Run, &["upstream model.txt"]),
            ],
            ..CLEAN
        },
        Case {
            what: "one more read is declared",
            edit: |t| manifest(t, "reads  = [\"yarn.txt\"]", "reads  = [\"yarn.txt\", \"fit.sh\"]"),
            expected: &[
                ("clean", Run, &["read fit.sh"]),
                ("fit", Run, &["upstream clean.txt"]),
                ("judge", Run, &["upstream model.txt"]),
            ],
            ..CLEAN
        },
        Case {
            what: "a stage has another name",
            edit: |t| manifest(t, "[stage.clean]", "[stage.tidy]"),
            expected: &[
                ("tidy", Run, &["new tidy"]),
                ("fit", Run, &["upstream clean.txt"]),
                ("judge", Run, &["upstream model.txt"]),
            ],
            ..CLEAN
        },
        Case {
            what: "words around the declarations",
            edit: |t| manifest(t, "[data.yarn]", "# about yarn\n[data.yarn]\nabout = \"of the shed\""),
            ..CLEAN
        },
        Case {
            what: "needs are not inputs",
            edit: |t| manifest(t, "[stage.side]", "[stage.side]\nneeds = { cpus = 2, memory = \"1GiB\", time = \"1h\", gpus = 0 }"),
            ..CLEAN
        },
        Case {
            what: "the order of reads",
            edit: |t| manifest(t, "[\"clean.txt\", \"fit.sh\"]", "[\"fit.sh\", \"clean.txt\"]"),
            ..CLEAN
        },
        Case {
            what: "a variable that counts is another",
            variables: &[("LOOM_SPEED", "9")],
            expected: &[
                ("clean", Run, &["variable LOOM_SPEED"]),
                ("fit", Run, &["variable LOOM_SPEED"]),
                ("side", Run, &["variable LOOM_SPEED"]),
                ("judge", Run, &["variable LOOM_SPEED"]),
            ],
            ..CLEAN
        },
        Case { what: "a variable that does not count", variables: &[("YARN_COLOR", "red")], ..CLEAN },
        Case {
            what: "a file that counts for all is another",
            edit: |t| t.write("common.sh", "# of everybody\n"),
            expected: &[
                ("clean", Run, &["read common.sh"]),
                ("fit", Run, &["read common.sh"]),
                ("side", Run, &["read common.sh"]),
                ("judge", Run, &["read common.sh"]),
            ],
            ..CLEAN
        },
        Case {
            what: "an output went",
            edit: |t| std::fs::remove_file(t.path("clean.txt")).unwrap(),
            expected: &[("clean", Reuse, &["missing clean.txt"])],
            ..CLEAN
        },
        Case {
            what: "an output in the middle was edited",
            edit: |t| t.write("model.txt", "by hand\n"),
            expected: &[("fit", Reuse, &["edited model.txt"])],
            ..CLEAN
        },
        Case {
            what: "a folder of outputs has one file more",
            edit: |t| t.write("side/mine.txt", "x\n"),
            expected: &[("side", Reuse, &["edited side"])],
            ..CLEAN
        },
        Case {
            what: "an output is a folder now",
            edit: |t| {
                std::fs::remove_file(t.path("clean.txt")).unwrap();
                t.write("clean.txt/inside", "x");
            },
            expected: &[("clean", Reuse, &["edited clean.txt"])],
            ..CLEAN
        },
        Case {
            what: "metrics went",
            edit: |t| std::fs::remove_file(t.path("score.json")).unwrap(),
            expected: &[("judge", Reuse, &["missing score.json"])],
            ..CLEAN
        },
        Case {
            what: "everything that was written went",
            edit: |t| {
                for path in ["clean.txt", "model.txt", "score.json"] {
                    std::fs::remove_file(t.path(path)).unwrap();
                }
                std::fs::remove_dir_all(t.path("side")).unwrap();
            },
            expected: &[
                ("clean", Reuse, &["missing clean.txt"]),
                ("fit", Reuse, &["missing model.txt"]),
                ("side", Reuse, &["missing side"]),
                ("judge", Reuse, &["missing score.json"]),
            ],
            ..CLEAN
        },
        Case {
            what: "the receipt of the tree went",
            edit: |t| std::fs::remove_file(t.path("textum.receipt.json")).unwrap(),
            ..CLEAN
        },
        Case {
            what: "a stage is forced",
            forced: &["side"],
            expected: &[("side", Run, &["forced side"]), ("judge", Run, &["upstream side"])],
            ..CLEAN
        },
        Case {
            what: "two things at once are both told",
            edit: |t| {
                t.write("fit.sh", "cat clean.txt; echo $1 $1\n");
                manifest(t, "rate = 1", "rate = 5");
            },
            expected: &[("fit", Run, &["read fit.sh", "param rate"]), ("judge", Run, &["upstream model.txt"])],
            ..CLEAN
        },
    ]
}

#[test]
fn each_change_leads_to_just_the_decisions_that_it_must() {
    let mut amiss = Vec::new();
    for case in cases() {
        let tiny = project();
        run(&mut opened(&tiny, &[]), &RunOptions::default(), &Silent, &CancelToken::new()).unwrap();
        (case.edit)(&tiny);
        let mut project = opened(&tiny, case.variables);
        let found = planned(&project, case.forced);
        for (stage, action, reasons) in &found {
            let expected = case.expected.iter().find(|(name, ..)| name == stage);
            let wanted = expected.map_or(Action::UpToDate, |(_, action, _)| *action);
            let lacks: Vec<&&str> = expected.iter().flat_map(|(.., r)| r.iter()).filter(|r| !reasons.contains(**r)).collect();
            if *action != wanted || !lacks.is_empty() || (wanted == Action::UpToDate && !reasons.is_empty()) {
                amiss.push(format!("{}: {stage} is {action:?} because of {reasons:?}, not {wanted:?} with {lacks:?}", case.what));
            }
        }
        // What the run then does is what the plan said; a stage whose reads came out as they were may be left alone.
        let forced = case.forced.iter().filter_map(|name| project.graph.index_of(name)).collect();
        let options = RunOptions { force: forced, keep_going: true, ..RunOptions::default() };
        let outcome = run(&mut project, &options, &Silent, &CancelToken::new()).unwrap();
        for ((stage, action, reasons), settled) in found.iter().zip(&outcome.stages) {
            let pending = reasons.iter().any(|r| r.starts_with("upstream"));
            let fits = match settled.state {
                RunStageState::Ran => *action == Action::Run,
                RunStageState::Reused => *action == Action::Reuse || pending,
                RunStageState::UpToDate => *action == Action::UpToDate || pending,
                // The command of a stage that declares one output more does not write it.
                RunStageState::Failed | RunStageState::Skipped => case.what == "one more output is declared",
                RunStageState::Stopped => false,
            };
            if !fits {
                amiss.push(format!("{}: {stage} was planned {action:?} and is {:?}", case.what, settled.state));
            }
        }
    }
    assert!(amiss.is_empty(), "{}", amiss.join("\n"));
}

/// Each change taken back leads to what is recorded, without executing anything.
#[test]
fn each_change_taken_back_executes_nothing() {
    let mut amiss = Vec::new();
    for case in cases().into_iter().filter(|c| c.forced.is_empty()) {
        let tiny = project();
        run(&mut opened(&tiny, &[]), &RunOptions::default(), &Silent, &CancelToken::new()).unwrap();
        let before: Vec<_> = tiny.snapshot().into_iter().filter(|(path, _)| path != "textum.receipt.json").collect();
        (case.edit)(&tiny);
        let options = RunOptions { keep_going: true, ..RunOptions::default() };
        run(&mut opened(&tiny, case.variables), &options, &Silent, &CancelToken::new()).unwrap();
        // Back: sources as they were, whatever has come since gone.
        for (path, _) in tiny.snapshot() {
            if path.starts_with("looms/") {
                std::fs::remove_file(tiny.path(&path)).unwrap();
            }
        }
        let _ = std::fs::remove_dir_all(tiny.path("looms/deep"));
        for (path, bytes) in &before {
            let is_source =
                ["textum.toml", "yarn.txt", "fit.sh", "common.sh"].contains(&path.as_str()) || path.starts_with("looms/");
            if is_source {
                tiny.write(path, bytes);
                use std::os::unix::fs::PermissionsExt;
                std::fs::set_permissions(tiny.path(path), PermissionsExt::from_mode(0o644)).unwrap();
            }
        }
        let outcome = run(&mut opened(&tiny, &[]), &options, &Silent, &CancelToken::new()).unwrap();
        for stage in outcome.stages.iter().filter(|s| !matches!(s.state, RunStageState::Reused | RunStageState::UpToDate)) {
            amiss.push(format!("{}: {} is {:?}", case.what, stage.stage, stage.state));
        }
        for (path, bytes) in &before {
            if std::fs::read(tiny.path(path)).ok().as_ref() != Some(bytes) {
                amiss.push(format!("{}: {path} is not what it was", case.what));
            }
        }
    }
    assert!(amiss.is_empty(), "{}", amiss.join("\n"));
}
