//! The built program, driven in temporary folders.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, clippy::too_many_lines, clippy::print_stderr, missing_docs)]

mod bad_input;
mod beginning;
mod ci;
mod cluster;
mod comparing;
mod confidential;
mod crash;
mod data;
mod demo;
mod depots;
mod each;
mod elsewhere;
mod ending;
mod erasing;
mod every_form;
mod exact;
mod examining;
mod exported;
mod fetching;
mod figures;
mod folders;
mod following;
mod full;
mod hidden;
mod histories;
mod hostile;
mod impacts;
mod instant;
mod judging;
mod kill;
mod ledger;
mod login;
mod machine;
mod machines;
mod manifest;
mod meanwhile;
mod mutated;
mod network;
mod observing;
mod old;
mod options;
mod orphans;
mod packages;
mod param_files;
mod pictures;
mod places;
mod power;
mod provenance;
mod prune;
mod publishing;
mod race;
mod reasons;
mod repair;
mod run;
mod sandbox;
mod sealed_libraries;
mod shown;
mod stages;
mod steps;
mod sweep;
mod terminal;
mod together;
mod trace;
mod tree;
mod versions;
mod ways;

use textum_testkit::{Ran, Tiny};

/// The built program.
pub const TEXTUM: &str = env!("CARGO_BIN_EXE_textum");

/// Runs the built program in a project.
pub fn textum(tiny: &Tiny, words: &[&str]) -> Ran {
    tiny.textum(TEXTUM, words)
}

/// Two stages in a row: `upper` makes capitals of the data, `count` counts its lines, with a parameter.
pub fn two_stages() -> Tiny {
    let tiny = Tiny::with(
        r#"
[data.yarn]
path = "yarn.txt"

[params]
count = { from = 1, unit = "m" }

[stage.upper]
run    = "mkdir -p build; tr a-z A-Z < yarn.txt > build/upper.txt"
reads  = ["yarn.txt"]
writes = ["build/upper.txt"]

[stage.count]
run     = "sh count.sh {count.from}"
reads   = ["build/upper.txt", "count.sh"]
params  = ["count.from"]
writes  = ["build/lines.txt"]
metrics = ["build/scores.json"]

[metric.lines]
better = "higher"
"#,
    );
    tiny.write("yarn.txt", "cotton\nlinen\nwool\n");
    tiny.write(
        "count.sh",
        "tail -n +$1 build/upper.txt > build/lines.txt\necho counting\nprintf '{\"lines\": %d}' $(wc -l < build/lines.txt) > build/scores.json\n",
    );
    tiny
}

/// Two stages in a row on a folder of data: `card` makes a folder of three files, with a parameter, and `weave` one
/// file of them. `more` is added to the stage `weave` and what follows it; `scores` to its command.
pub fn carding(scores: &str, more: &str) -> Tiny {
    Tiny::with(&format!(
        r#"
[data.yarn]
path = "yarn"

[params]
n = 0

[stage.card]
run = "mkdir -p b/card; for i in 1 2 3; do (cat yarn/*; echo {{n}} $i) > b/card/$i; done"
reads = ["yarn"]
params = ["n"]
writes = ["b/card/"]

[stage.weave]
run = "cat b/card/* > b/cloth{scores}"
reads = ["b/card"]
writes = ["b/cloth"]
{more}"#
    ))
}

/// The state of a stage in a run's JSON.
pub fn state(json: &serde_json::Value, stage: &str) -> String {
    let found = json["stages"].as_array().unwrap().iter().find(|s| s["stage"] == stage);
    found.unwrap_or_else(|| panic!("no {stage} in {json}"))["state"].as_str().unwrap().to_string()
}
