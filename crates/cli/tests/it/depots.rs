//! Several machines with one depot: what one has trained the others have, whatever goes wrong on the way.

use std::path::Path;

use serde_json::Value;
use textum_testkit::{Ran, Tiny, many, noise};

use crate::{TEXTUM, state, textum};

/// A folder with machines side by side: each has a project below its name, and all have one depot.
struct Shed {
    tiny: Tiny,
}

const STAGES: &str = "[params]\nn = 1\n[data.yarn]\npath = \"yarn\"\n\
    [stage.card]\nrun = \"mkdir -p b; cat yarn lib/oil > b/sliver\"\nreads = [\"yarn\"]\nwrites = [\"b/sliver\"]\n\
    [stage.weave]\nrun = \"(cat b/sliver; echo {n}) > b/cloth; echo woven; printf '{\\\"auc\\\": 0.%d}' {n} > b/m.json\"\n\
    reads = [\"b/sliver\"]\nparams = [\"n\"]\nwrites = [\"b/cloth\"]\nmetrics = [\"b/m.json\"]\n[metric.auc]\nbetter = \"higher\"\n";

impl Shed {
    /// Ada's project, with a depot that she has sent nothing to yet.
    fn new() -> Shed {
        Shed::with(STAGES)
    }

    fn with(stages: &str) -> Shed {
        let tiny = Tiny::new();
        let text = format!("[project]\nname = \"looms\"\n[depot.team]\nurl = \"../depot\"\n{stages}");
        tiny.write("ada/textum.toml", text);
        tiny.write("ada/yarn", "wool\n");
        tiny.write("ada/lib/oil", "oil\n");
        let shed = Shed { tiny };
        // Made by a second project that is taken away again: adding it to the first would write it there twice.
        shed.tiny.write("setup/textum.toml", "[project]\nname = \"setup\"\n");
        shed.on("setup", &["depot", "add", "team", "../depot"]).expect(0).says("made");
        std::fs::remove_dir_all(shed.tiny.path("setup")).unwrap();
        shed
    }

    /// Something done on a machine.
    fn on(&self, machine: &str, words: &[&str]) -> Ran {
        self.with_variables(machine, words, &[])
    }

    fn with_variables(&self, machine: &str, words: &[&str], more: &[(&str, &str)]) -> Ran {
        let words = [&["-C", machine], words].concat();
        let host = format!("{machine}-loom");
        let home = self.tiny.path(&format!("home-{machine}")).display().to_string();
        std::fs::create_dir_all(&home).unwrap();
        let own = [("USER", machine), ("TEXTUM_HOST", host.as_str()), ("HOME", home.as_str())];
        self.tiny.textum_with(TEXTUM, &words, &[&own, more].concat())
    }

    fn json(&self, machine: &str, words: &[&str]) -> Value {
        self.on(machine, &[words, &["--format", "json"]].concat()).expect(0).json()
    }

    /// A clone of what Ada has committed: manifest, code and receipt.
    fn clone_to(&self, machine: &str) {
        for name in ["textum.toml", "lib/oil", "textum.receipt.json"] {
            self.tiny.write(&format!("{machine}/{name}"), std::fs::read(self.tiny.path(&format!("ada/{name}"))).unwrap());
        }
    }

    fn read(&self, path: &str) -> String {
        self.tiny.read(path)
    }
}

#[test]
fn a_fresh_clone_restores_with_one_command_and_trains_nothing_again() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0).says("synced with team");
    shed.on("ada", &["sync"]).expect(0).says("nothing to do");
    shed.clone_to("bo");
    shed.on("bo", &["plan"]).expect(2).warns("`textum restore` brings it back");
    assert!(!shed.tiny.has("bo/.textum"), "a look leaves no trace");
    shed.on("bo", &["restore"]).expect(0).says("b/cloth").warns("from team");
    assert_eq!(shed.read("bo/b/cloth"), shed.read("ada/b/cloth"));
    shed.on("bo", &["run"]).expect(0).says("nothing to do");
    shed.on("bo", &["trace", "b/cloth"]).expect(0).says("written by weave");
    // What is in the depot alone is not amiss, and looking brings nothing of it.
    shed.on("ada", &["run", "--set", "n=3"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    shed.on("bo", &["sync"]).expect(0);
    let looks = [&["verify"][..], &["stats"], &["runs"], &["data", "versions", "yarn"], &["prune", "--dry-run"], &["show", "last"]];
    for words in looks {
        let looked = shed.on("bo", words).expect(0);
        assert!(!looked.err.contains("fetched"), "{words:?}: {}", looked.err);
    }
    shed.on("bo", &["verify"]).expect(0).says("in depots");
    shed.on("bo", &["show", "last", "--log", "weave"]).expect(0).says("woven");

    // With the data alone, results come from the depot, and it is said who made them.
    shed.clone_to("cy");
    std::fs::remove_file(shed.tiny.path("cy/textum.receipt.json")).unwrap();
    shed.tiny.write("cy/yarn", "wool\n");
    let run = shed.json("cy", &["run"]);
    assert_eq!((state(&run, "card"), state(&run, "weave")), ("reused".into(), "reused".into()));
    assert_eq!(run["stages"][0]["made_by"], "ada@ada-loom");
    assert_eq!(shed.read("cy/b/cloth"), "wool\noil\n1\n");
    shed.tiny.write("cy/yarn", "silk\n");
    let run = shed.json("cy", &["run"]);
    assert_eq!(state(&run, "card"), "ran", "what differs is executed");
    // And the other way.
    shed.on("cy", &["sync"]).expect(0);
    shed.tiny.write("ada/yarn", "silk\n");
    shed.on("ada", &["run"]).expect(0).says("made by cy@cy-loom").warns("of others came from team");
    let runs = shed.json("ada", &["runs"]);
    let by: Vec<&str> = runs.as_array().unwrap().iter().map(|r| r["by"].as_str().unwrap()).collect();
    assert!(by.contains(&"cy@cy-loom") && by.contains(&"ada@ada-loom"), "{by:?}");
    shed.on("ada", &["runs"]).expect(0).says("cy@cy-loom");
    shed.on("ada", &["runs", "--where", "by contains 'cy@'"]).expect(0).says("cy@cy-loom");
}

#[test]
fn what_was_read_without_being_declared_holds_across_machines() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    shed.clone_to("bo");
    shed.tiny.write("bo/yarn", "wool\n");
    shed.tiny.write("bo/lib/oil", "another oil\n");
    let run = shed.json("bo", &["run"]);
    assert_eq!(state(&run, "card"), "ran");
    // With the same oil the first result is right.
    shed.tiny.write("bo/lib/oil", "oil\n");
    assert_eq!(state(&shed.json("bo", &["run"]), "card"), "reused");
}

#[test]
fn how_much_of_another_machine_is_held_against_this_one_can_be_said() {
    let stages = "[stage.card]\nrun = \"cat yarn ~/pattern > sliver\"\nreads = [\"yarn\"]\nwrites = [\"sliver\"]\n";
    for (trust, reused) in [("content", false), ("packages", false), ("everything", true)] {
        let shed = Shed::with(&format!("[observe]\ntrust = \"{trust}\"\n{stages}"));
        for (machine, pattern) in [("ada", "twill"), ("bo", "plain")] {
            shed.tiny.write(&format!("home-{machine}/pattern"), pattern);
        }
        shed.on("ada", &["run"]).expect(0);
        shed.on("ada", &["sync"]).expect(0);
        shed.clone_to("bo");
        shed.tiny.write("bo/yarn", "wool\n");
        let run = shed.json("bo", &["run"]);
        assert_eq!(state(&run, "card") == "reused", reused, "{trust}");
        // What is one's own is always held against what stands here.
        shed.tiny.write("home-ada/pattern", "other");
        assert_eq!(state(&shed.json("ada", &["run"]), "card"), "ran", "{trust}");
    }
    let shed = Shed::with(&format!("[observe]\ntrust = \"nobody\"\n{stages}"));
    shed.on("ada", &["plan"]).expect(2).warns("trust");
}

#[test]
fn without_the_depot_work_goes_on_and_what_is_missing_is_said_to_be_there() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    shed.clone_to("bo");
    shed.on("bo", &["restore"]).expect(0);
    shed.on("bo", &["run", "--set", "n=2"]).expect(0);
    std::fs::rename(shed.tiny.path("depot"), shed.tiny.path("away")).unwrap();
    shed.tiny.write("bo/yarn", "silk\n");
    shed.on("bo", &["run"]).expect(0).warns("the depot team was not asked for results");
    shed.on("bo", &["sync"]).expect(3).warns("there is no depot at").warns("textum depot add");
    shed.clone_to("cy");
    shed.on("cy", &["restore"]).expect(4).warns("is not here, and the depot team could not be asked");
    std::fs::rename(shed.tiny.path("away"), shed.tiny.path("depot")).unwrap();
    shed.on("cy", &["restore"]).expect(0);
    // What nobody has is said to be nowhere.
    let digest = "b3:00000000000000000000000000000000000000000000000000000000000000aa";
    let receipt = shed.read("cy/textum.receipt.json");
    let cloth = shed.json("cy", &["trace", "b/cloth"])["target"]["digest"].as_str().unwrap().to_string();
    shed.tiny.write("cy/textum.receipt.json", receipt.replace(&cloth, digest));
    shed.on("cy", &["restore"]).expect(3).warns("is not in the store, nor in the depot team");
}

#[test]
fn only_what_is_asked_for_travels() {
    let shed = Shed::new();
    shed.tiny.write("ada/yarn", noise(1, 300_000));
    shed.on("ada", &["run"]).expect(0);
    let dry = shed.json("ada", &["sync", "--dry-run"]);
    assert!(dry["up"]["would_send"].as_u64().unwrap() > 300_000 && dry["up"]["bytes"] == 0, "{dry}");
    assert_eq!(shed.json("ada", &["sync", "--down"])["up"]["documents"], 0);
    let receipts = shed.json("ada", &["sync", "--receipts"]);
    assert!(receipts["up"]["bytes"].as_u64().unwrap() < 100_000, "{receipts}");
    shed.clone_to("bo");
    shed.on("bo", &["restore"]).expect(3);
    assert_eq!(shed.json("bo", &["runs"]).as_array().unwrap().len(), 1, "the run is known");
    shed.on("bo", &["show", "last", "--log", "weave"]).expect(0).says("woven");
    // Then the content too.
    let all = shed.json("ada", &["sync", "--up"]);
    assert!(all["up"]["bytes"].as_u64().unwrap() > 300_000 && all["up"]["documents"] == 0, "{all}");
    assert!(shed.json("bo", &["sync", "--down", "--content", "yarn@1"])["down"]["contents"].as_u64().unwrap() >= 1);
    shed.on("bo", &["sync", "--content", "last", "--down"]).expect(0);
    std::fs::rename(shed.tiny.path("depot"), shed.tiny.path("away")).unwrap();
    shed.on("bo", &["restore"]).expect(0);
    assert_eq!(std::fs::read(shed.tiny.path("bo/yarn")).unwrap(), noise(1, 300_000));
    std::fs::rename(shed.tiny.path("away"), shed.tiny.path("depot")).unwrap();
    shed.on("bo", &["sync", "--content", "nothing"]).expect(3).warns("there is no run `nothing`");
    shed.on("bo", &["sync", "tea"]).expect(3).warns("did you mean `team`?");
    // A change of a little of it costs a little.
    let mut changed = noise(1, 300_000);
    changed.extend(noise(2, 100));
    shed.tiny.write("ada/yarn", &changed);
    shed.on("ada", &["data", "record"]).expect(0);
    assert_eq!(shed.json("ada", &["sync"])["up"]["contents"], 1);
}

#[test]
fn versions_labels_and_notes_of_two_machines_are_settled_without_a_person() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    shed.clone_to("bo");
    shed.on("bo", &["restore"]).expect(0);
    for (machine, text) in [("ada", "linen\n"), ("bo", "silk\n")] {
        shed.tiny.write(&format!("{machine}/yarn"), text);
        shed.on(machine, &["data", "record"]).expect(0);
        let versions = shed.json(machine, &["data", "versions", "yarn"]);
        assert_eq!(versions["versions"].as_array().unwrap().len(), 2, "both call it the second");
    }
    shed.on("ada", &["label", "last", "first"]).expect(0);
    shed.on("bo", &["note", "last", "seen by bo"]).expect(0);
    for machine in ["ada", "bo", "ada"] {
        shed.on(machine, &["sync"]).expect(0);
    }
    let of = |machine: &str| -> Vec<(u64, String)> {
        let versions = shed.json(machine, &["data", "versions", "yarn"]);
        let versions = versions["versions"].as_array().unwrap().clone();
        versions.iter().map(|v| (v["version"].as_u64().unwrap(), v["digest"].as_str().unwrap().to_string())).collect()
    };
    assert_eq!(of("ada"), of("bo"));
    assert_eq!(of("ada").iter().map(|(n, _)| *n).collect::<Vec<_>>(), [1, 2, 3]);
    for machine in ["ada", "bo"] {
        shed.on(machine, &["show", "first"]).expect(0).says("seen by bo");
    }
    // And both can be had on both.
    shed.on("ada", &["data", "diff", "yarn@2", "yarn@3"]).expect(0);
    shed.on("bo", &["data", "diff", "yarn@2", "yarn@3"]).expect(0);
}

#[test]
fn a_depot_is_declared_checked_and_taken_out_by_command() {
    let tiny = Tiny::new();
    tiny.write("p/textum.toml", "# ours\n[project]\nname = \"looms\" # short\n");
    let on = |words: &[&str]| textum(&tiny, &[&["-C", "p"], words].concat());
    on(&["depot", "list"]).expect(0).warns("no depots yet");
    on(&["sync"]).expect(3).warns("the project has no depot");
    on(&["depot", "add", "team", "../depot"]).expect(0).says("can be read and written").says("fit for a registry");
    assert_eq!(tiny.read("p/textum.toml"), "# ours\n[project]\nname = \"looms\" # short\n\n[depot.team]\nurl = \"../depot\"\n");
    on(&["depot", "add", "team", "../other"]).expect(2).warns("there is a depot `team` already");
    on(&["depot", "add", "again", "../p/../depot"]).expect(2).warns("one and the same");
    on(&["depot", "add", "in side", "../x"]).expect(2).warns("cannot be the name of a depot");
    on(&["depot", "add", "inside", "depot"]).expect(2).warns("lie inside one another");
    on(&["depot", "add", "above", ".."]).expect(2).warns("lie inside one another");
    tiny.write("photos/loom.jpg", "x");
    on(&["depot", "add", "photos", "../photos"]).expect(2).warns("is not empty, and no depot").warns("it holds loom.jpg");
    assert!(!tiny.has("photos/textum-depot.json"));
    for (url, what) in
        [("s3://key:secret@b/x", "holds a password"), ("ftp://shed/x", "which is not known"), ("gs://b/x", "was built without it")]
    {
        let ran = on(&["depot", "add", "far", url]);
        assert!(ran.status >= 2 && ran.err.contains(what) && !ran.err.contains("secret"), "{url}: {}", ran.err);
    }
    on(&["depot", "add", "far", "s3://b/x", "--option", "secret_access_key=x"]).expect(2).warns("would put a secret");
    on(&["depot", "add", "far", "s3://b/x", "--option", "region"]).expect(2).warns("is no option");

    on(&["depot", "add", "own", "../own", "--local", "--live"]).expect(0).says("textum.local.toml");
    assert!(tiny.read("p/.gitignore").contains("/textum.local.toml"));
    let list = on(&["depot", "list", "--format", "json"]).expect(0).json();
    assert_eq!((list.as_array().unwrap().len(), &list[1]["live"]), (2, &true.into()));
    on(&["sync"]).expect(2).warns("several depots: team, own");
    let check = on(&["depot", "check", "--format", "json"]).expect(0).json();
    assert_eq!((&check[0]["probe"]["only_if_absent"], &check[0]["error"]), (&true.into(), &Value::Null));
    std::fs::remove_dir_all(tiny.path("own")).unwrap();
    on(&["depot", "check"]).expect(3).says("can be read and written").says("there is no depot at");
    on(&["depot", "remove", "own"]).expect(0);
    on(&["depot", "remove", "own"]).expect(3).warns("no depot `own`");
    on(&["depot", "remove", "team"]).expect(0).says("stays there");
    assert_eq!(tiny.read("p/textum.toml"), "# ours\n[project]\nname = \"looms\" # short\n");
    assert!(tiny.has("depot/textum-depot.json"));
}

#[test]
fn mistakes_in_what_is_declared_have_their_place() {
    let told = |manifest: &str, local: &str, what: &[&str]| {
        let tiny = Tiny::with(manifest);
        if !local.is_empty() {
            tiny.write("textum.local.toml", local);
        }
        let ran = textum(&tiny, &["plan"]).expect(2);
        what.iter().for_each(|text| assert!(ran.err.contains(text), "{text}: {}", ran.err));
    };
    told("[depot.team]\nurl = \"s3://a:b@c/d\"\n", "", &["holds a password", "textum.toml:5", "SSH agent"]);
    told("[depot.team]\nurl = \"depot\"\n", "", &["lie inside one another"]);
    told("[depot.team]\nulr = \"/x\"\n", "", &["ulr", "url"]);
    told("[depot.team]\n", "", &["`url` is empty"]);
    told("[depot.\"te am\"]\nurl = \"/x\"\n", "", &["cannot be the name of a depot"]);
    told("[depot.team]\nurl = \"s3://b/c\"\noptions = { regoin = \"x\" }\n", "", &["no option `regoin`", "endpoint, region"]);
    told("[depot.team]\nurl = \"/x\"\n", "[depot.team]\nurl = \"ftp://x/y\"\n", &["textum.local.toml:2", "not known"]);
    told("[depot.team]\nurl = \"/x\"\n", "[depto.team]\nurl = \"/y\"\n", &["textum.local.toml:1", "depot"]);
    told("[depot.team]\nurl = \"/x\"\n", "[", &["textum.local.toml", "not TOML"]);
    // One's own place of the same depot, with the options of the other forgotten.
    let tiny = Tiny::with("[depot.team]\nurl = \"s3://b/c\"\noptions = { region = \"x\" }\nlive = true\n");
    tiny.write("textum.local.toml", "[depot.team]\nurl = \"../elsewhere\"\n[depot.mine]\nurl = \"../mine\"\n");
    let list = textum(&tiny, &["depot", "list", "--format", "json"]).expect(0).json();
    let urls: Vec<&str> = list.as_array().unwrap().iter().map(|d| d["url"].as_str().unwrap()).collect();
    assert!(urls[0].ends_with("/elsewhere") && urls[1].ends_with("/mine"), "{urls:?}");
    assert_eq!((&list[0]["options"], &list[0]["live"]), (&serde_json::json!({}), &true.into()));
}

fn objects(shed: &Shed, below: &str) -> Vec<String> {
    let found = shed.tiny.textum("find", &[&format!("depot/{below}"), "-type", "f"]).out;
    found.lines().map(str::to_string).collect()
}

#[test]
fn a_damaged_depot_is_named_and_mended_by_who_has_the_content() {
    let shed = Shed::new();
    shed.tiny.write("ada/yarn", noise(3, 200_000));
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    shed.on("ada", &["verify", "--depot", "team", "--deep"]).expect(0).says("all is there in team");
    let pack = objects(&shed, "content").remove(0);
    let mut bytes = std::fs::read(shed.tiny.path(&pack)).unwrap();
    let at = bytes.len() / 2;
    bytes[at] ^= 1;
    shed.tiny.write(&pack, &bytes);
    shed.clone_to("bo");
    let name = Path::new(&pack).file_name().unwrap().to_str().unwrap().to_string();
    shed.on("bo", &["restore"]).expect(4).warns(&name).warns("is damaged");
    shed.on("ada", &["verify", "--depot", "team", "--deep"]).expect(4).says("damaged:").says(&name);
    let json = shed.with_variables("ada", &["verify", "--depot", "team", "--deep", "--format", "json"], &[]).expect(4).json();
    assert_eq!(json["damage"][0]["entries"], 1);
    shed.on("ada", &["verify", "--depot", "team", "--repair"]).expect(0).says("mended:");
    shed.on("ada", &["verify", "--depot", "team", "--deep"]).expect(0).says("all is there");
    shed.on("bo", &["restore"]).expect(0);
    // A pack of receipts.
    let pack = objects(&shed, "documents").remove(0);
    shed.tiny.write(&pack, "not a pack");
    shed.clone_to("cy");
    shed.on("cy", &["sync"]).expect(4).warns("is damaged");
    shed.on("ada", &["verify", "--depot", "team", "--repair"]).expect(0).says("mended:");
    shed.on("cy", &["sync"]).expect(0);
    assert_eq!(shed.json("cy", &["runs"]).as_array().unwrap().len(), 1);
}

#[test]
fn a_depot_is_pruned_in_two_steps_and_other_projects_keep_what_they_have() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    // Another project with a depot of the same place.
    shed.tiny
        .write("dye/textum.toml", "[project]\nname = \"dyes\"\n[depot.team]\nurl = \"../depot\"\n[data.vat]\npath = \"vat\"\n");
    shed.tiny.write("dye/vat/red", noise(5, 5_000));
    shed.tiny.write("dye/vat/blue", noise(6, 5_000));
    shed.on("dye", &["data", "record"]).expect(0);
    shed.on("dye", &["sync"]).expect(0);
    assert!(shed.json("dye", &["runs"]).as_array().unwrap().is_empty(), "the runs of looms are none of dyes");
    shed.on("dye", &["stats", "--depot", "team"]).expect(0).says("dyes, looms");
    shed.on("ada", &["prune", "--depot", "team", "--grace", "0s"]).expect(0).says("receipts speak of all");
    // What nothing speaks of: a whole project's receipts are gone.
    let before = objects(&shed, "content").len();
    let looms = textum_core::depot::project_key("looms");
    std::fs::remove_dir_all(shed.tiny.path(&format!("depot/documents/{looms}"))).unwrap();
    shed.on("dye", &["prune", "--depot", "team", "--grace", "1h", "--dry-run"]).expect(0).says("would be marked");
    shed.on("dye", &["prune", "--depot", "team", "--grace", "1h"]).expect(0).says("nothing is dropped yet");
    shed.on("dye", &["prune", "--depot", "team", "--grace", "1h"]).expect(0).says("wait for the end of the 1h");
    shed.on("dye", &["prune", "--depot", "team", "--grace", "0s"]).expect(2).warns("nobody to be asked");
    let swept = shed.json("dye", &["prune", "--depot", "team", "--grace", "0s", "--yes"]);
    assert!(swept["dropped"].as_u64().unwrap() > 0, "{swept}");
    assert!(objects(&shed, "content").len() <= before);
    shed.tiny.write("eve/textum.toml", shed.read("dye/textum.toml"));
    shed.on("eve", &["sync"]).expect(0);
    shed.on("eve", &["restore", "vat@1"]).expect(0);
    assert_eq!(std::fs::read(shed.tiny.path("eve/vat/red")).unwrap(), noise(5, 5_000));
    // Ada still has hers, and sends them again.
    std::fs::remove_dir_all(shed.tiny.path("ada/.textum/depots")).unwrap();
    shed.on("ada", &["sync"]).expect(0);
    shed.clone_to("bo");
    shed.on("bo", &["restore"]).expect(0);
    shed.on("ada", &["prune", "--depot", "team", "--grace", "soon"]).expect(2).warns("is no time");
}

#[test]
fn secrets_stand_in_no_store_and_no_depot() {
    let shed = Shed::with(
        "[environment]\nvars = [\"SHED_TOKEN\", \"LOOMS\"]\n[stage.s]\nrun = \"echo token $SHED_TOKEN; echo $LOOMS > out\"\nwrites = [\"out\"]\n",
    );
    let run = |machine: &str, token: &str| shed.with_variables(machine, &["run"], &[("SHED_TOKEN", token), ("LOOMS", "twelve")]);
    run("ada", "hunter2-hunter2").expect(0);
    run("ada", "swordfish-swordfish").expect(0).says("nothing to do");
    shed.on("ada", &["show", "last", "--log", "s"]).expect(0).says("token (masked)");
    shed.on("ada", &["sync"]).expect(0);
    let found = shed.tiny.textum("grep", &["-rlaE", "hunter2|swordfish", "ada", "depot"]);
    assert_eq!(found.out, "");
    let store = textum_core::store::Store::open(&shed.tiny.path("ada/.textum/store"));
    for (digest, kind, _) in store.all_entries().unwrap() {
        if kind != textum_core::store::Kind::Parts {
            assert!(!String::from_utf8_lossy(&store.read(&digest).unwrap()).contains("hunter2"), "{digest}");
        }
    }
    // On another machine without it the result is the same one.
    shed.clone_to("bo");
    let plain = shed.with_variables("bo", &["run", "--format", "json"], &[("LOOMS", "twelve")]).expect(0).json();
    assert_eq!(state(&plain, "s"), "reused");
}

/// What is known is not fetched for its own sake; what a stage is to read is, declared or not.
#[test]
fn a_lazy_run_fetches_only_what_a_stage_reads() {
    let dry = "\n[stage.dry]\nrun = \"cat lib/note b/cloth > b/dry\"\nreads = [\"lib/note\"]\nwrites = [\"b/dry\"]\n";
    let shed = Shed::with(&format!("{STAGES}{dry}"));
    shed.tiny.write("ada/yarn", "wool\n".repeat(9_000));
    shed.tiny.write("ada/lib/note", "one\n");
    // What `dry` reads undeclared is learned by the first run.
    shed.on("ada", &["run", "weave"]).expect(0);
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    let clone_to = |machine: &str| {
        shed.clone_to(machine);
        for name in ["yarn", "lib/note"] {
            shed.tiny.write(&format!("{machine}/{name}"), std::fs::read(shed.tiny.path(&format!("ada/{name}"))).unwrap());
        }
    };
    clone_to("bo");
    let run = shed.json("bo", &["run", "weave", "--lazy"]);
    assert_eq!((state(&run, "card"), state(&run, "weave")), ("reused".into(), "reused".into()));
    assert_eq!(run["left"], serde_json::json!(["b/sliver", "b/cloth", "b/m.json"]));
    assert_eq!(run["metrics"]["auc"], 0.1, "what is measured is told all the same");
    assert!(!shed.tiny.has("bo/b"), "nothing of it is in the tree");
    shed.on("bo", &["plan", "weave"]).expect(0).says("b/cloth");
    shed.on("bo", &["run", "weave", "--lazy"]).expect(0).says("not in the tree").says("`textum restore`");
    // A stage that is executed gets what it declares, and nothing that it does not.
    let run = shed.json("bo", &["run", "weave", "--lazy", "--set", "n=2"]);
    assert_eq!((state(&run, "card"), state(&run, "weave")), ("reused".into(), "ran".into()));
    assert_eq!(shed.read("bo/b/sliver"), format!("{}oil\n", "wool\n".repeat(9_000)));
    assert_eq!(run["left"], serde_json::json!([]));

    // What it was seen to read without declaring it is there too.
    clone_to("cy");
    let run = shed.json("cy", &["run", "--lazy"]);
    assert_eq!(state(&run, "dry"), "reused", "{run}");
    assert_eq!(shed.read("cy/b/cloth"), shed.read("ada/b/cloth"));
    assert!(!shed.tiny.has("cy/b/sliver") && !shed.tiny.has("cy/b/dry"), "the rest stays where it is");
    shed.tiny.write("cy/lib/note", "two\n");
    let run = shed.json("cy", &["run", "--lazy"]);
    assert_eq!(state(&run, "dry"), "ran");
    assert_eq!(shed.read("cy/b/dry"), format!("two\n{}", shed.read("ada/b/cloth")));
    // An older output in its place would be taken for the one that is meant: it is replaced.
    shed.tiny.write("cy/b/sliver", "by hand");
    shed.on("cy", &["run", "weave", "--lazy"]).expect(0);
    assert_eq!(shed.read("cy/b/sliver"), shed.read("ada/b/sliver"));
    // And all of it comes when it is wanted.
    shed.on("bo", &["run", "weave"]).expect(0);
    shed.on("bo", &["plan", "weave"]).expect(0).says("nothing to do");
    shed.on("bo", &["run", "--lazy", "--sandbox"]).expect(2);
}

/// Sends with each fault at each step, until one comes too late to matter.
#[test]
fn a_sync_that_is_cut_off_anywhere_leaves_a_whole_depot_and_the_next_one_goes_on() {
    let template = Shed::new();
    template.tiny.write("ada/yarn", noise(7, 60_000));
    template.on("ada", &["run"]).expect(0);
    template.clone_to("bo");
    for fault in ["crash", "torn", "full", "error"] {
        let (mut last_met, mut met) = (0, 0);
        for step in 1..many("TEXTUM_STEPS", 400) {
            let what = format!("{fault}:{step}");
            let shed = Shed { tiny: Tiny::new() };
            shed.tiny.textum("cp", &["-a", &format!("{}/.", template.tiny.root().display()), "."]).expect(0);
            let ran = shed.with_variables("ada", &["sync"], &[("TEXTUM_FAULT", &what)]);
            assert!([-1, 0, 4].contains(&ran.status) && !ran.err.contains("panicked"), "{what}: {} {}", ran.out, ran.err);
            // Whoever looks meanwhile finds nothing half: a run that is known can be had.
            let known = shed.on("bo", &["sync"]).expect(0);
            let runs = shed.json("bo", &["runs"]).as_array().unwrap().len();
            if runs > 0 {
                shed.on("bo", &["restore", "last"]).expect(0);
            }
            assert!(ran.status != 0 || runs == 1, "{what}: {}", known.out);
            shed.on("ada", &["sync"]).expect(0);
            shed.on("ada", &["verify", "--depot", "team", "--deep"]).expect(0);
            shed.on("bo", &["sync"]).expect(0);
            shed.on("bo", &["restore", "last"]).expect(0);
            met += u32::from(ran.status != 0);
            last_met = if ran.status == 0 { last_met } else { step };
            if step > last_met + 8 {
                break;
            }
        }
        assert!(met > 0, "{fault}: no fault was ever met");
    }
}

#[test]
fn many_machines_at_once_lose_nothing() {
    let shed = Shed::new();
    shed.on("ada", &["run"]).expect(0);
    shed.on("ada", &["sync"]).expect(0);
    let rounds = many("TEXTUM_RACE", 3);
    let runs: Vec<String> = std::thread::scope(|scope| {
        let machines: Vec<_> = (0..6)
            .map(|number| {
                let shed = &shed;
                scope.spawn(move || {
                    let machine = format!("m{number}");
                    shed.clone_to(&machine);
                    shed.tiny.write(&format!("{machine}/yarn"), format!("wool of {}\n", number % 3));
                    let mut made = Vec::new();
                    for round in 0..rounds {
                        let set = format!("n={}", round + 2);
                        let run = shed.json(&machine, &["run", "--set", &set]);
                        shed.on(&machine, &["sync"]).expect(0);
                        made.push(run["run"].as_str().unwrap().to_string());
                    }
                    made
                })
            })
            .collect();
        machines.into_iter().flat_map(|m| m.join().unwrap()).collect()
    });
    shed.clone_to("late");
    shed.on("late", &["sync", "--content", "all"]).expect(0);
    shed.on("late", &["verify", "--depot", "team", "--deep"]).expect(0);
    let known = shed.json("late", &["runs", "--all"]);
    let known: Vec<&str> = known.as_array().unwrap().iter().map(|r| r["run"].as_str().unwrap()).collect();
    for run in &runs {
        assert!(known.contains(&run.as_str()), "{run} is not there");
        shed.on("late", &["restore", &format!("{run}:b/cloth"), "-o", run]).expect(0);
    }
    shed.on("late", &["verify", "--deep"]).expect(0);
}

#[test]
fn folders_of_many_small_files_come_in_a_few_requests() {
    let shed = Shed::with("[data.looms]\npath = \"looms\"\n");
    for number in 0..2_000 {
        shed.tiny.write(&format!("ada/looms/{}/{number}", number % 20), noise(number, 200));
    }
    shed.on("ada", &["data", "record"]).expect(0);
    let sent = shed.json("ada", &["sync"]);
    assert!(sent["up"]["packs"].as_u64().unwrap() <= 2 && sent["up"]["contents"].as_u64().unwrap() >= 2_000, "{sent}");
    shed.tiny.write("bo/textum.toml", shed.read("ada/textum.toml"));
    shed.on("bo", &["sync"]).expect(0);
    shed.on("bo", &["restore", "looms@1"]).expect(0);
    let same = shed.tiny.textum("diff", &["-r", "ada/looms", "bo/looms"]);
    assert_eq!((same.status, same.out.as_str()), (0, ""));
}
