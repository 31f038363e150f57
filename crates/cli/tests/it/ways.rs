//! Every way to read something, as docs/observing.md tells it: in the tree, sealed, and in a rebuild. The ways are in
//! `tests/ways`; each is a stage of one project, so that a plan tells also which of them run again without a reason.

use std::fmt::Write as _;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};

use serde::Deserialize;
use serde_json::Value;
use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const FILES: [(&str, &str); 3] = [
    ("Files, links, looks and lists", include_str!("../ways/files.toml")),
    ("Modules, programs and formats", include_str!("../ways/formats.toml")),
    ("Other processes, file systems and values", include_str!("../ways/channels.toml")),
];

#[derive(Deserialize)]
struct Ways {
    way: Vec<Way>,
}

/// A way to read something, and what is to come of it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Way {
    name: String,
    /// A Python script, or one of the shell.
    python: Option<String>,
    sh: Option<String>,
    /// What is done in its folder first, and afterwards to what it reads.
    setup: Option<String>,
    change: Option<String>,
    /// A variable and another value for it, in place of a change.
    variable: Option<(String, String)>,
    /// What else it declares.
    #[serde(default)]
    also: Vec<String>,
    /// A program or a Python module without which it cannot be tried.
    needs: Option<String>,
    /// Whether the stage fails.
    #[serde(default)]
    fails: bool,
    /// `counts`, `said: …`, `partial: …`, `nothing` or `silent`.
    #[serde(default = "counts")]
    tree: String,
    /// `works` or `refused: …`.
    sealed: Option<String>,
    /// `identical`, `not sealed: …`, `stand-in: …` or `different: …`.
    rebuild: Option<String>,
    #[serde(skip)]
    stage: String,
}

fn counts() -> String {
    "counts".to_string()
}

impl Way {
    fn sealed(&self) -> &str {
        self.sealed.as_deref().unwrap_or("refused: in")
    }

    fn rebuild(&self) -> &str {
        self.rebuild.as_deref().unwrap_or("identical")
    }

    fn change(&self) -> Option<&str> {
        let changes = self.tree == "counts" && self.variable.is_none();
        self.change.as_deref().or(changes.then_some("printf 333 > in"))
    }
}

/// All ways, with numbered stages.
fn all() -> Vec<(&'static str, Vec<Way>)> {
    let mut number = 0;
    let mut parse = |text: &str| {
        let mut ways: Ways = toml::from_str(text).unwrap();
        for way in &mut ways.way {
            number += 1;
            way.stage = format!("w{number:03}");
        }
        ways.way
    };
    FILES.iter().map(|(title, text)| (*title, parse(text))).collect()
}

/// A Python with the libraries that ways need, if there is one; else any.
fn python() -> String {
    let command = std::env::var("TEXTUM_LIBRARIES").unwrap_or_else(|_| "python3".into());
    let path = Command::new(command).args(["-c", "import sys; print(sys.executable)"]).output().unwrap();
    String::from_utf8(path.stdout).unwrap().trim().to_string()
}

fn can_be_tried(way: &Way, python: &str) -> bool {
    let Some(needs) = &way.needs else { return true };
    let succeeds = |command: &mut Command| command.output().is_ok_and(|o| o.status.success());
    let there =
        succeeds(Command::new("which").arg(needs)) || succeeds(Command::new(python).args(["-c", &format!("import {needs}")]));
    let must = std::env::var_os("TEXTUM_LIBRARIES").is_some();
    assert!(there || !must, "{}: {needs} is not there", way.name);
    if !there {
        eprintln!("not run: {}: there is no {needs}", way.name);
    }
    there
}

/// What works beside the stages.
struct Helper(Child);

impl Drop for Helper {
    fn drop(&mut self) {
        drop(self.0.stdin.take());
        let _ = self.0.wait();
    }
}

fn helper(python: &str, run: &std::path::Path) -> (Helper, String) {
    let name = format!("textum-ways-{}", std::process::id());
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/ways/helper.py");
    let mut child = Command::new(python);
    child.arg(script).arg(run).arg(&name).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut child = child.spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let said: serde_json::Map<String, Value> = serde_json::from_str(&line).unwrap();
    (Helper(child), said.iter().map(|(name, value)| format!("{name} = {value}; ")).collect())
}

struct Shed {
    tiny: Tiny,
    around: tempfile::TempDir,
    path: String,
    problems: Vec<String>,
}

impl Shed {
    fn do_in(&mut self, way: &Way, script: &str) {
        let folder = self.tiny.path(&way.stage);
        let done = Command::new("sh").args(["-ec", script]).current_dir(folder).env("PATH", &self.path).output().unwrap();
        if !done.status.success() {
            self.problem(way, &format!("`{script}` fails: {}", String::from_utf8_lossy(&done.stderr)));
        }
    }

    fn problem(&mut self, way: &Way, what: &str) {
        self.problems.push(format!("{} {}: {what}", way.stage, way.name));
    }

    fn textum(&self, words: &[&str], more: &[(&str, &str)]) -> Value {
        let (temporary, home) = (self.around.path().join("tmp").display().to_string(), self.around.path().display().to_string());
        let variables = [&[("PATH", self.path.as_str()), ("TMPDIR", &temporary), ("HOME", &home)], more].concat();
        // The file that the stages are not to inherit.
        let line = format!("exec 9< {home}/inherited; exec {TEXTUM} \"$@\" --format json");
        self.tiny.textum_with("/bin/sh", &[&["-c", &line, "sh"], words].concat(), &variables).json()
    }
}

fn by_stage<'v>(told: &'v Value, way: &Way) -> &'v Value {
    told["stages"].as_array().unwrap().iter().find(|s| s["stage"] == way.stage.as_str()).unwrap_or(&Value::Null)
}

/// What cannot be checked, as the plan tells it.
fn unchecked(stage: &Value) -> Vec<String> {
    let all = |key: &str| stage["unchecked"][key].as_array().cloned().unwrap_or_default();
    let text = |value: &Value| value.as_str().unwrap_or_default().to_string();
    let connections = all("connections").iter().map(|a| format!("answers of {}", text(a))).collect::<Vec<_>>();
    let channels = all("channels").iter().map(|c| format!("{} {}", text(&c["kind"]), text(&c["name"]))).collect::<Vec<_>>();
    let times = all("times").iter().map(|t| format!("times of files in {}", text(t))).collect::<Vec<_>>();
    let random = (stage["unchecked"]["random"] == true).then(|| "random numbers".to_string());
    [connections, channels, times, random.into_iter().collect()].concat()
}

fn lay_out(ways: &[Way], constants: &str, python: &str) -> Shed {
    let around = tempfile::Builder::new().prefix("textum-ways-").tempdir().unwrap();
    std::fs::create_dir(around.path().join("tmp")).unwrap();
    std::fs::write(around.path().join("inherited"), "1\n").unwrap();
    let tiny = Tiny::at(&around.path().join("project"));
    let folder = std::path::Path::new(python).parent().unwrap().display().to_string();
    let path = format!("{folder}:/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin");
    let mut shed = Shed { tiny, around, path, problems: Vec::new() };
    let mut manifest = String::new();
    for way in ways {
        // What is installed may ask for anything when an interpreter begins.
        let begins = if way.needs.is_some() { "python3 -B" } else { "python3 -B -S" };
        let (program, script) = match (&way.python, &way.sh) {
            (Some(python), _) => (begins, format!("{constants}\n{}", python.trim_start())),
            (None, Some(sh)) => ("sh", sh.clone()),
            (None, None) => panic!("{}: no script", way.name),
        };
        let stage = &way.stage;
        shed.tiny.write(&format!("{stage}/way"), script);
        shed.tiny.write(&format!("{stage}/in"), "1\n");
        if let Some(setup) = &way.setup {
            shed.do_in(way, setup);
        }
        let also: String = way.also.iter().map(|name| format!(", \"{stage}/{name}\"")).collect();
        let _ = writeln!(
            manifest,
            "[stage.{stage}]\nrun = \"cd {stage} && {program} way > out\"\nreads = [\"{stage}/way\"{also}]\nwrites = [\"{stage}/out\"]\n"
        );
    }
    shed.tiny.manifest(&manifest);
    shed
}

fn executed_and_rebuilt(shed: &mut Shed, ways: &[Way]) {
    let run = shed.textum(&["run", "--keep-going"], &[]);
    let plan = shed.textum(&["plan"], &[]);
    let rebuilt = shed.textum(&["rebuild", "last"], &[]);
    for way in ways {
        let state = &by_stage(&run, way)["state"];
        if *state != if way.fails { "failed" } else { "ran" } {
            let log = shed.tiny.textum(TEXTUM, &["show", "last", "--log", &way.stage]);
            shed.problem(way, &format!("{state}: {}\n{}{}", by_stage(&run, way)["reason"], log.out, log.err));
            continue;
        }
        if way.fails {
            continue;
        }
        let planned = by_stage(&plan, way);
        if planned["action"] == "run" {
            shed.problem(way, &format!("runs again without a reason: {}", planned["reasons"]));
        }
        let said = unchecked(planned);
        match way.tree.split_once(": ") {
            Some(("said", what)) if !said.iter().any(|s| s.starts_with(what)) => shed.problem(way, &format!("not said: {said:?}")),
            Some(("partial", what)) => {
                let trace = shed.textum(&["trace", &format!("{}/out", way.stage)], &[]);
                let seen = &trace["observed"][0];
                if seen["how"] != "part" || !seen["because"].as_str().is_some_and(|b| b.contains(what)) {
                    shed.problem(way, &format!("observed: {} {}", seen["how"], seen["because"]));
                }
            }
            None if !said.is_empty() && way.tree != "counts" => shed.problem(way, &format!("said: {said:?}")),
            _ => {}
        }
        if let Some((name, value)) = &way.variable {
            let plan = shed.textum(&["plan", &way.stage], &[(name, value)]);
            if by_stage(&plan, way)["reasons"][0]["name"] != name.as_str() {
                shed.problem(way, &format!("another {name} does not count"));
            }
        }
        let stage = by_stage(&rebuilt, way);
        let matches = match way.rebuild().split_once(": ") {
            Some(("stand-in", name)) => stage["stand_ins"][0].as_str().is_some_and(|path| path.contains(name)),
            Some(("different", _)) => stage["verdict"] == "different" && stage["sealed"] == true,
            Some((_, why)) => stage["unsealed"].as_str().is_some_and(|unsealed| unsealed.contains(why)),
            None => stage["verdict"] == "identical" && stage["sealed"] == true && stage["stand_ins"] == serde_json::json!([]),
        };
        if !matches {
            let told = ["verdict", "sealed", "unsealed", "reason", "stand_ins"].map(|key| stage[key].to_string());
            shed.problem(way, &format!("rebuilt: {}", told.join(" ")));
        }
    }
}

fn changed(shed: &mut Shed, ways: &[Way]) {
    for way in ways {
        if let Some(change) = way.change() {
            shed.do_in(way, change);
        }
    }
    let plan = shed.textum(&["plan"], &[]);
    for way in ways.iter().filter(|w| !w.fails) {
        let planned = by_stage(&plan, way);
        if (planned["action"] == "run") != (way.tree == "counts" && way.variable.is_none()) && !way.tree.starts_with("partial") {
            shed.problem(way, &format!("after the change: {} {}", planned["action"], planned["reasons"]));
        }
    }
}

fn sealed(shed: &mut Shed, ways: &[Way]) {
    let run = shed.textum(&["run", "--sealed", "--keep-going"], &[]);
    for way in ways.iter().filter(|w| !w.fails) {
        let stage = by_stage(&run, way);
        let reason = stage["reason"].as_str().unwrap_or_default();
        let matches = match way.sealed().split_once(": ") {
            Some((_, why)) => stage["state"] == "failed" && reason.contains(why),
            None => stage["state"] == "ran",
        };
        if !matches {
            shed.problem(way, &format!("sealed: {} {reason}", stage["state"]));
        }
    }
}

/// The table of docs/observing.md.
fn table() -> String {
    let mut out = String::new();
    for (title, ways) in all() {
        let _ = writeln!(out, "\n### {title}\n\n| way | in the tree | sealed | rebuilt |\n|---|---|---|---|");
        for way in ways {
            let tree = match way.tree.split_once(": ") {
                Some(("partial", what)) => format!("not wholly observed: {what}"),
                Some((_, what)) => format!("said: {what}"),
                None if way.fails => "not there for the stage".to_string(),
                None if way.tree == "nothing" => "nothing of others".to_string(),
                None if way.tree == "silent" => "not seen".to_string(),
                None => way.tree.clone(),
            };
            let sealed = if way.sealed() == "works" { "works" } else { "fails the stage" };
            let rebuilt = match way.rebuild().split_once(": ") {
                Some(("different", _)) => "different, with a home of its own",
                Some(_) => "named in the verdict",
                None => "identical, sealed",
            };
            let (sealed, rebuilt) = if way.fails { ("–", "–") } else { (sealed, rebuilt) };
            let _ = writeln!(out, "| {} | {tree} | {sealed} | {rebuilt} |", way.name);
        }
    }
    out
}

/// Each of them is played: executed, rebuilt, changed and sealed.
#[test]
fn every_way_to_read_does_what_the_table_says() {
    let python = python();
    let mut ways: Vec<Way> = all().into_iter().flat_map(|(_, ways)| ways).filter(|way| can_be_tried(way, &python)).collect();
    if let Ok(only) = std::env::var("TEXTUM_WAYS") {
        ways.retain(|way| only.split(',').any(|name| way.stage == name || way.name.contains(name)));
    }
    let run = tempfile::Builder::new().prefix("textum-helper-").tempdir().unwrap();
    let (_helper, constants) = helper(&python, run.path());
    let mut shed = lay_out(&ways, &constants, &python);
    executed_and_rebuilt(&mut shed, &ways);
    sealed(&mut shed, &ways);
    changed(&mut shed, &ways);
    assert!(shed.problems.is_empty(), "{} of {} ways:\n{}", shed.problems.len(), ways.len(), shed.problems.join("\n"));
    assert!(textum(&shed.tiny, &["verify"]).status == 0);
}

#[test]
fn the_table_in_the_documentation_is_the_one_that_is_played() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/observing.md");
    let text = std::fs::read_to_string(path).unwrap();
    let (begins, ends) = ("<!-- the table of ways: made by tests/it/ways.rs -->\n", "<!-- its end -->");
    let at = text.find(begins).unwrap() + begins.len();
    let to = text.find(ends).unwrap();
    if std::env::var_os("TEXTUM_WRITE_WAYS").is_some() {
        return std::fs::write(path, format!("{}{}{}", &text[..at], table(), &text[to..])).unwrap();
    }
    assert_eq!(text[at..to], table(), "TEXTUM_WRITE_WAYS=1 writes it");
    assert!(table().lines().filter(|l| l.starts_with("| ")).count() > 140);
}
