//! Parameters that lie in files of the project, for scripts that know nothing of Textum.

use textum_testkit::Tiny;

use crate::textum;

const YAML: &str = "# how fast it learns\nrate: 0.2   # per round\nrounds: 40\nnotes: {by: weaver}\n";

/// `fit` reads two of the values in conf/fit.yaml by itself, `count` one in split.json; neither sees Textum's variables.
fn looms() -> Tiny {
    let tiny = Tiny::new();
    tiny.write(
        "textum.toml",
        r#"[project]
name = "looms"
param_files = ["conf/fit.yaml", "split.json"]

[params]
base = 1 # of all

[stage.split]
run    = "sed -n 's/.*\"share\": //p' split.json > share.txt"
params = ["split"]
writes = ["share.txt"]

[stage.fit]
run    = "sed -n 's/^rate: //p; s/^rounds: //p' conf/fit.yaml > model.txt; cat share.txt >> model.txt"
reads  = ["share.txt"]
params = ["fit.rate", "fit.rounds", "base"]
writes = ["model.txt"]
"#,
    );
    tiny.write("conf/fit.yaml", YAML);
    tiny.write("split.json", "{\n  \"share\": 0.25\n}\n");
    tiny
}

#[test]
fn only_what_a_stage_names_of_a_file_counts() {
    let tiny = looms();
    let ran = textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("model.txt"), "0.2   # per round\n40\n0.25\n", "{}", ran.err);
    assert!(!ran.err.contains("undeclared"), "{}", ran.err);
    // What no stage names, comments and layout: nothing to do.
    tiny.write(
        "conf/fit.yaml",
        YAML.replace("weaver", "somebody else").replace("# how fast", "#   how fast").replace("rounds: 40", "rounds:     40"),
    );
    assert!(textum(&tiny, &["plan"]).expect(0).out.contains("nothing to do"));
    tiny.write("conf/fit.yaml", YAML.replace("40", "41"));
    let plan = textum(&tiny, &["plan"]).expect(0).out;
    assert!(plan.contains("fit.rounds 40 → 41") && !plan.contains("fit.rate"), "{plan}");
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("model.txt"), "0.2   # per round\n41\n0.25\n");
    // And back: nothing is executed.
    tiny.write("conf/fit.yaml", YAML);
    let ran = textum(&tiny, &["run"]).expect(0);
    assert!(ran.out.contains("fit    reused"), "{}{}", ran.out, ran.err);
    assert_eq!(tiny.read("model.txt"), "0.2   # per round\n40\n0.25\n");
    let trace = textum(&tiny, &["trace", "model.txt"]).expect(0).out;
    assert!(trace.contains("fit.rate") && trace.contains("split.share") && trace.contains("0 sources"), "{trace}");
    textum(&tiny, &["verify"]).expect(0);
}

#[test]
fn set_and_vary_work_in_sandboxes_and_the_file_stays() {
    let tiny = looms();
    textum(&tiny, &["run"]).expect(0);
    let before = tiny.snapshot();
    let ran = textum(&tiny, &["run", "--set", "fit.rate=0.5", "--label", "fast"]).expect(0);
    assert!(ran.err.contains("conf/fit.yaml stays as in the tree"), "{}", ran.err);
    assert_eq!(tiny.snapshot(), before, "the tree was changed");
    let restored = textum(&tiny, &["restore", "fast:model.txt", "-o", "out"]).expect(0);
    assert_eq!(tiny.read("out/model.txt"), "0.5   # per round\n40\n0.25\n", "{}", restored.out);
    let files = textum(&tiny, &["restore", "fast", "-o", "all"]).expect(0);
    assert_eq!(tiny.read("all/conf/fit.yaml"), YAML.replace("0.2", "0.5"), "{}", files.out);
    // Both in one sweep, of a value in a file and one in the manifest.
    textum(&tiny, &["run", "--vary", "fit.rate=0.5,0.125", "--vary", "base=1,2", "--vary", "split.share=0.25,0.75"]).expect(0);
    let runs =
        textum(&tiny, &["runs", "--where", "fit.rate = 0.125 and split.share = 0.75 and base = 2", "--format", "csv"]).expect(0);
    assert_eq!(runs.out.lines().count(), 2, "{}", runs.out);
    let id = runs.out.lines().nth(1).unwrap().split(',').next().unwrap().to_string();
    assert_eq!(tiny.read("split.json"), "{\n  \"share\": 0.25\n}\n");
    // A rebuild finds the file as the stage had found it.
    let rebuilt = textum(&tiny, &["rebuild", &id]);
    assert!(rebuilt.status == 0 && rebuilt.out.contains("identical"), "{}{}", rebuilt.out, rebuilt.err);
    // And the best one's parameters are written where they stand.
    let written = textum(&tiny, &["restore", &id, "--params"]).expect(0);
    assert!(
        written.out.contains("3 parameters of") && written.out.contains("textum.toml, conf/fit.yaml, split.json"),
        "{}",
        written.out
    );
    assert_eq!(tiny.read("conf/fit.yaml"), YAML.replace("0.2", "0.125"));
    assert_eq!(tiny.read("split.json"), "{\n  \"share\": 0.75\n}\n");
    assert!(tiny.read("textum.toml").contains("base = 2 # of all"));
    // What was trained in a sandbox need not be trained again.
    let ran = textum(&tiny, &["run"]).expect(0);
    assert!(ran.out.matches("reused").count() == 2, "{}{}", ran.out, ran.err);
    assert_eq!(tiny.read("model.txt"), "0.125   # per round\n40\n0.75\n");
    let again = textum(&tiny, &["restore", &id, "--params"]).expect(0);
    assert!(again.out.contains("already has the parameters"), "{}", again.out);
}

#[test]
fn a_file_that_changes_while_its_stage_runs_fails_the_stage() {
    let tiny = looms();
    let manifest = tiny.read("textum.toml");
    // Edited before the stage begins: by the stage before it.
    tiny.write("textum.toml", manifest.replace("> share.txt\"", "> share.txt; sed -i s/40/41/ conf/fit.yaml\""));
    let ran = textum(&tiny, &["run"]);
    assert_eq!(ran.status, 1, "{}", ran.err);
    assert!(ran.err.contains("parameters of it in conf/fit.yaml have been changed since the run began: run again"), "{}", ran.err);
    // Edited while it works, and put back.
    tiny.write("conf/fit.yaml", YAML);
    let script = "run    = \"cp conf/fit.yaml k; sed -i s/40/41/ conf/fit.yaml; cp k conf/fit.yaml; ";
    tiny.write("textum.toml", manifest.replace("run    = \"sed -n 's/^rate", &format!("{script}sed -n 's/^rate")));
    let ran = textum(&tiny, &["run"]);
    assert_eq!(ran.status, 1, "{}", ran.err);
    assert!(ran.err.contains("conf/fit.yaml was touched while it ran"), "{}", ran.err);
    // Gone.
    tiny.write("textum.toml", manifest.replace("> share.txt\"", "> share.txt; rm conf/fit.yaml\""));
    let ran = textum(&tiny, &["run"]);
    assert!(ran.err.contains("has gone or cannot be understood any more"), "{}", ran.err);
}

#[test]
fn what_has_no_place_is_told_before_anything_is_done() {
    let tiny = looms();
    tiny.write("conf/fit.yaml", "rate: &r 0.2\nrounds: *r\n");
    let ran = textum(&tiny, &["run", "--set", "fit.rate=0.5"]);
    assert_eq!(ran.status, 2, "{}", ran.err);
    assert!(
        ran.err.contains("`fit.rate` cannot be given another value in `conf/fit.yaml`") && ran.err.contains("anchor"),
        "{}",
        ran.err
    );
    let swept = textum(&tiny, &["run", "--vary", "fit.rate=0.5,0.25"]);
    assert!(swept.status == 2 && swept.err.contains("cannot be given another value"), "{}", swept.err);
    assert!(!tiny.has("model.txt"));
    let unknown = textum(&tiny, &["run", "--set", "fit.rat=0.5"]);
    assert!(unknown.err.contains("did you mean `fit.rate`?"), "{}", unknown.err);
    let wrong = textum(&tiny, &["run", "--set", "fit.rate=fast"]);
    assert!(wrong.err.contains("`fit.rate` is a number"), "{}", wrong.err);
    // One that may be read by nobody else stays so.
    use std::os::unix::fs::PermissionsExt;
    tiny.write("conf/fit.yaml", YAML);
    std::fs::set_permissions(tiny.path("conf/fit.yaml"), PermissionsExt::from_mode(0o600)).unwrap();
    textum(&tiny, &["run", "--label", "kept"]).expect(0);
    tiny.write("conf/fit.yaml", YAML.replace("40", "41"));
    textum(&tiny, &["restore", "kept", "--params"]).expect(0);
    assert_eq!(tiny.path("conf/fit.yaml").metadata().unwrap().permissions().mode() & 0o777, 0o600);
    assert_eq!(tiny.read("conf/fit.yaml"), YAML);
}

#[test]
fn a_sandbox_holds_a_file_only_where_it_is_used() {
    let tiny = looms();
    let manifest = tiny.read("textum.toml");
    tiny.write("textum.toml", manifest.replace("; cat share.txt", "; test ! -e split.json || exit 9; cat share.txt"));
    textum(&tiny, &["run", "--sandbox"]).expect(0);
    tiny.write("textum.toml", manifest.replace("params = [\"split\"]\n", ""));
    let ran = textum(&tiny, &["run", "--sandbox"]);
    assert_eq!(ran.status, 1, "{}", ran.err);
    assert!(ran.err.contains("split.json"), "{}", ran.err);
}

/// A file of parameters that nobody else may read is so in a sandbox too, and wherever it is brought back to.
#[test]
fn a_private_file_stays_private_in_a_sandbox() {
    use std::os::unix::fs::PermissionsExt;
    let mode = |tiny: &Tiny, path: &str| tiny.path(path).metadata().unwrap().permissions().mode() & 0o777;
    for private in [true, false] {
        let tiny = looms();
        let wanted = if private { 0o600 } else { 0o644 };
        std::fs::set_permissions(tiny.path("conf/fit.yaml"), PermissionsExt::from_mode(wanted)).unwrap();
        textum(&tiny, &["run", "--set", "fit.rate=0.5", "--label", "fast"]).expect(0);
        textum(&tiny, &["run", "--label", "slow"]).expect(0);
        for run in ["fast", "slow"] {
            let folder = format!("of-{run}");
            textum(&tiny, &["restore", run, "-o", &folder]).expect(0);
            let copy = format!("{folder}/conf/fit.yaml");
            assert_eq!(mode(&tiny, &copy) & 0o077 == 0, private, "{run}: {:o}", mode(&tiny, &copy));
        }
        assert_eq!(mode(&tiny, "conf/fit.yaml"), wanted);
    }
}
