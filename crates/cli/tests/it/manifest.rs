//! Every mistake in a manifest is told at once, with its line and the mend.

use textum_testkit::Tiny;

use crate::textum;

#[track_caller]
fn told(manifest: &str, texts: &[&str]) {
    let tiny = Tiny::with(manifest);
    let mut ran = textum(&tiny, &["plan"]).expect(2);
    for text in texts {
        ran = ran.warns(text);
    }
}

#[test]
fn several_mistakes_are_told_together() {
    told(
        "[stage.fit]\nrunn = \"x\"\nreads = \"data.csv\"\nneeds = { cpus = \"two\" }\n[metric.auc]\nbetter = \"more\"\n[stagee.x]\nrun = 1\n[stage.judge]\nrun = \"x\"\nparams = [\"none\"]\nwrites = [\"../up\"]\n",
        &[
            "unknown key `runn` in `fit`",
            "did you mean `run`?",
            "`run` is missing in `fit`",
            "`reads` has the wrong type",
            "write a list in [ ]",
            "`cpus` has the wrong type",
            "cannot be \"more\"",
            "\"higher\" or \"lower\"",
            "unknown key `stagee`",
            "did you mean `stage`?",
            "textum.toml:5:",
            "no parameter `none`",
            "leaves the project",
            "has 8 mistakes",
        ],
    );
}

#[test]
fn each_mistake_of_meaning_has_its_own_message() {
    let stage = |name: &str, more: &str| format!("[stage.{name}]\nrun = \"true\"\n{more}\n");
    told(
        &(stage("a", "reads = [\"z\"]\nwrites = [\"y\"]") + &stage("b", "reads = [\"y\"]\nwrites = [\"z\"]")),
        &["in a circle", "`a` → `b` → `a`"],
    );
    told(
        &(stage("a", "writes = [\"out\"]") + &stage("b", "writes = [\"out\"]")),
        &["`out` is written twice", "`a` writes it here"],
    );
    told(&(stage("a", "writes = [\"out/\"]") + &stage("b", "metrics = [\"out/s.json\"]")), &["written inside another write"]);
    told(&(stage("a", "writes = [\"out/x\"]") + &stage("b", "writes = [\"out\"]")), &["written inside another write"]);
    told(
        &stage("a", "reads = [\"yarn.csv\"]\nwrites = [\"o\"]"),
        &["`yarn.csv`, which `a` reads, does not exist", "textum.toml:6:10"],
    );
    told(
        &format!("[params]\nfit = {{ rate = 1 }}\n{}", stage("a", "params = [\"fit.rat\"]\nwrites = [\"o\"]")),
        &["no parameter `fit.rat`", "did you mean `fit.rate`?"],
    );
    told(&stage("a", "reads = [\"../secret\"]\nwrites = [\"/tmp/o\"]"), &["leaves the project", "is not relative"]);
    told(&stage("a", ""), &["writes nothing"]);
    told(&stage("a", "reads = [\"o\"]\nwrites = [\"o\"]"), &["in which it writes itself"]);
    told(
        "[params]\nfit = { rate = 1 }\n[stage.a]\nrun = \"x {fit.rate}\"\nwrites = [\"o\"]\n",
        &["not among the stage's parameters"],
    );
    told("[params]\nx = nan\n", &["no finite value"]);
    told("[data.a]\npath = \"d\"\n[data.b]\npath = \"d/e\"\n", &["the datasets `a` and `b` overlap"]);
    told(&stage("\"bad name\"", "writes = [\"o\"]"), &["cannot be the name of a stage"]);
    told(&stage("a", "writes = [\"o\"]\nneeds = { memory = \"much\" }"), &["`much` is no amount of memory"]);
    told("[gate]\nafter = \"fit\"\n", &["write [[gate]]"]);
    told("[gates]\nafter = \"fit\"\n", &["unknown key `gates`", "did you mean `gate`?"]);
    told("[stage.a\nrun = \"x\"\n", &["this is not TOML", "textum.toml:4"]);
}

#[test]
fn settings_and_names_that_are_wrong_are_told_with_what_is_near() {
    let tiny = crate::two_stages();
    textum(&tiny, &["run", "--set", "count.form=2"]).expect(2).warns("did you mean `count.from`?");
    textum(&tiny, &["run", "--set", "count.from=two"]).expect(2).warns("is a whole number in the manifest");
    textum(&tiny, &["run", "cuont"]).expect(3).warns("did you mean `count`?");
    textum(&tiny, &["run", "--no-such-option"]).expect(2);
    assert!(!tiny.has("build"), "nothing was run");
    textum(&tiny, &["-C", "/", "plan"]).expect(3).warns("there is no textum.toml").warns("textum new");
}

#[test]
fn many_mistakes_are_counted_and_the_first_shown_at_their_lines() {
    let stages: String =
        (0..150).map(|i| format!("[stage.s{i}]\nrun = \"echo é\"\nreads = [\"../r{i}\"]\nwrites = [\"w{i}\"]\n")).collect();
    let tiny = Tiny::with(&stages);
    let said = textum(&tiny, &["plan"]).expect(2).err;
    assert!(
        said.contains("and 50 more mistakes not shown") && said.contains("has 150 mistakes"),
        "{}",
        &said[said.len().saturating_sub(300)..]
    );
    let text = tiny.read("textum.toml");
    for i in [0, 1, 57, 99] {
        let line = text.lines().position(|l| l.contains(&format!("\"../r{i}\""))).unwrap() + 1;
        assert!(said.contains(&format!("textum.toml:{line}:10")), "r{i} is in line {line}");
        assert!(said.contains(&format!("{line} │ reads = [\"../r{i}\"]")), "{line}: {}", &said[..600]);
    }
    assert!(!said.contains("../r100"));
}
