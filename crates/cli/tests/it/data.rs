//! Datasets as versions, through the built program.

use textum_testkit::Tiny;

use crate::textum;

fn table(rows: &[(&str, &str, &str)]) -> String {
    rows.iter()
        .fold("loom,shed,humidity\n".to_string(), |text, (loom, shed, humidity)| text + &format!("{loom},{shed},{humidity}\n"))
}

const GOOD: [(&str, &str, &str); 4] = [("L1", "A", "60"), ("L2", "A", "61.5"), ("L3", "C", "70"), ("L4", "C", "72")];

fn project() -> Tiny {
    let tiny = Tiny::with(
        "# what the shed measures\n[data.looms]\npath = \"looms.csv\" # exported nightly\nkey = [\"loom\"]\n\n\
         [stage.count]\nrun = \"wc -l < looms.csv > rows\"\nreads = [\"looms.csv\"]\nwrites = [\"rows\"]\n",
    );
    tiny.write("looms.csv", table(&GOOD));
    tiny
}

/// Shed C gives a fraction now.
fn with_mistake() -> String {
    table(&GOOD.map(|(l, s, h)| (l, s, if s == "C" { if h == "70" { "0.7" } else { "0.72" } } else { h })))
}

#[test]
fn the_same_content_is_the_same_version_and_every_run_records_new_states() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0).warns("looms@1");
    tiny.write("looms.csv", with_mistake());
    textum(&tiny, &["data"]).expect(0).says("edited since").says("after looms@1");
    textum(&tiny, &["data", "record", "looms", "-m", "a new export"]).expect(0).says("looms@2").says("new version");
    tiny.write("looms.csv", table(&GOOD));
    textum(&tiny, &["data", "record"]).expect(0).says("looms@1").says("as recorded before");
    tiny.write("looms.csv", table(&GOOD[..3]));
    // Nothing that a stage writes changes, yet the data has: the run records it.
    textum(&tiny, &["run"]).expect(0).warns("looms@3");
    let versions = textum(&tiny, &["data", "versions", "looms", "--format", "json"]).expect(0).json();
    let all = versions["versions"].as_array().unwrap();
    assert_eq!(all.iter().map(|v| v["rows"].as_u64().unwrap()).collect::<Vec<_>>(), [4, 4, 3]);
    assert_eq!(all[1]["notes"][0], "a new export");
    assert_eq!((&all[1]["change"]["changed"], &all[1]["change"]["columns"][0]), (&2.into(), &"humidity".into()));
    assert_eq!((&all[2]["change"]["changed"], &all[2]["change"]["removed"]), (&1.into(), &1.into()));
    assert_eq!(all.iter().map(|v| v["runs"].as_array().unwrap().len()).collect::<Vec<_>>(), [1, 0, 1]);
    assert_eq!(all.iter().map(|v| v["in_tree"].as_bool().unwrap()).collect::<Vec<_>>(), [false, false, true]);
    textum(&tiny, &["show", "looms@2"]).expect(0).says("a new export").says("no run");
    textum(&tiny, &["data", "record", "looms@2", "-m", "do not use"]).expect(0);
    textum(&tiny, &["data", "versions", "looms"]).expect(0).says("a new export; do not use").says("looms@3 stands");
    textum(&tiny, &["trace", "looms@1"]).expect(0).says("looms@1");
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert_eq!((&runs[0]["versions"]["looms"], &runs[1]["versions"]["looms"]), (&3.into(), &1.into()));
}

#[test]
fn a_run_with_nothing_to_do_still_records_a_dataset_that_no_stage_reads() {
    let tiny = project();
    tiny.manifest("[data.notes]\npath = \"notes.txt\"\n[stage.a]\nrun = \"echo 1 > a\"\nwrites = [\"a\"]\n");
    tiny.write("notes.txt", "one");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("notes.txt", "two");
    textum(&tiny, &["run"]).expect(0).says("nothing to do").warns("notes@2");
    tiny.write("notes.txt", "three");
    textum(&tiny, &["restore", "notes@2"]).expect(0).warns("aside");
    assert_eq!(tiny.read("notes.txt"), "two");
}

#[test]
fn a_mistake_in_the_data_is_found_and_rolled_back() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0);
    tiny.write("looms.csv", with_mistake());
    textum(&tiny, &["plan"]).expect(0).says("2 of 4 rows changed in humidity");
    textum(&tiny, &["run"]).expect(0);
    let text = textum(&tiny, &["data", "diff", "looms"]).expect(0);
    let text = text.says("looms@1 → looms@2: 2 of 4 rows changed, only in humidity");
    text.says("L3").says("→  0.7");
    let found = textum(&tiny, &["data", "diff", "looms@1", "looms@2", "--format", "json"]).expect(0).json();
    let difference = &found["difference"];
    assert_eq!((&difference["kind"], &difference["changed"], &difference["added"]), (&"table".into(), &2.into(), &0.into()));
    let example = &difference["examples_changed"][0];
    assert_eq!((&example["key"][0], &example["cells"][0]["from"], &example["new_line"]), (&"L3".into(), &"70".into(), &4.into()));
    textum(&tiny, &["data", "diff", "looms@1", "looms@1", "--check"]).expect(0).says("the same content");
    textum(&tiny, &["data", "diff", "looms@1", "looms@2", "--check"]).expect(1);
    textum(&tiny, &["data", "diff", "looms@1", "looms@2", "--column", "shed", "--check"]).expect(0);
    let csv = textum(&tiny, &["data", "diff", "looms@1", "looms@2", "--format", "csv"]).expect(0);
    csv.says("changed,4,4,L3,humidity,70,0.7");
    let where_c = "shed = \"C\" and humidity < 1";
    let found = textum(&tiny, &["data", "find", "looms", "--where", where_c, "--format", "json"]).expect(0).json();
    assert_eq!((&found["found"][0]["rows"], &found["found"][1]["rows"]), (&0.into(), &2.into()));
    let runs = found["runs"].as_array().unwrap();
    assert!(runs.len() == 1 && runs[0]["version"] == 2 && runs[0]["read"] == true, "{runs:?}");
    textum(&tiny, &["restore", "looms@1"]).expect(0);
    assert_eq!(tiny.read("looms.csv"), table(&GOOD));
    textum(&tiny, &["plan", "--check"]).expect(0);
    // What the committed receipt says of the data follows the roll-back.
    tiny.write("looms.csv", "loom,shed,humidity\n");
    textum(&tiny, &["restore"]).expect(0);
    assert_eq!(tiny.read("looms.csv"), table(&GOOD));
}

#[test]
fn adding_a_dataset_keeps_the_manifests_own_words() {
    let tiny = project();
    let before = tiny.read("textum.toml");
    std::process::Command::new("git").args(["init", "-q"]).current_dir(tiny.root()).status().unwrap();
    tiny.write("data/teams.csv", "team,size\nAhorn,4\nBirke,5\n");
    let words = ["data", "add", "data/teams.csv", "--name", "teams", "--key", "team", "--about", "Who weaves"];
    textum(&tiny, &words).expect(0).says("teams@1").says("2 rows").says(".gitignore");
    let after = tiny.read("textum.toml");
    let section = "[data.teams]\npath = \"data/teams.csv\"\nabout = \"Who weaves\"\nkey = [\"team\"]\n";
    assert!(
        after.contains(section) && after.contains("# exported nightly") && after.contains("# what the shed measures"),
        "{after}"
    );
    assert_eq!(after.replace(&format!("\n{section}"), ""), before);
    assert_eq!(tiny.read(".gitignore"), "/data/teams.csv\n");
    tiny.write("pairs.csv", "a,b,c\n1,2,3\n");
    textum(&tiny, &["data", "add", "--name", "pairs", "--key", "a", "b", "pairs.csv"]).expect(0).says("key = [\"a\", \"b\"]");
    tiny.write("textum.toml", &after);
    textum(&tiny, &words).expect(2).warns("there is a dataset `teams`");
    textum(&tiny, &["data", "add", "looms.csv", "--name", "again"]).expect(2).warns("overlap");
    textum(&tiny, &["data", "add", "gone.csv"]).expect(3).warns("there is nothing at");
    textum(&tiny, &["data", "add", "/etc/hostname", "--name", "host"]).expect(2).warns("--reference");
    assert_eq!(tiny.read("textum.toml"), after, "what cannot be added changes nothing");
}

#[test]
fn folders_are_compared_file_by_file_and_tables_in_them_row_by_row() {
    let tiny = Tiny::with("[data.photos]\npath = \"photos\"\n");
    for (name, text) in [("a.png", "aaaa"), ("b.png", "bbbb"), ("old/c.png", "cc"), ("labels.csv", "photo,label\na,ok\nb,broken\n")]
    {
        tiny.write(&format!("photos/{name}"), text);
    }
    textum(&tiny, &["data", "record"]).expect(0).says("photos@1").says("4 files");
    std::fs::create_dir_all(tiny.path("photos/new")).unwrap();
    std::fs::rename(tiny.path("photos/old/c.png"), tiny.path("photos/new/c.png")).unwrap();
    std::fs::remove_file(tiny.path("photos/b.png")).unwrap();
    tiny.write("photos/d.png", "ddd");
    tiny.write("photos/labels.csv", "photo,label\na,ok\nb,ok\n");
    let diff = textum(&tiny, &["data", "diff", "photos", "--format", "json"]).expect(0).json();
    let kinds: Vec<String> = diff["difference"]["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| format!("{} {}", f["change"].as_str().unwrap(), f["path"].as_str().unwrap()))
        .collect();
    assert_eq!(kinds, ["changed labels.csv", "moved new/c.png", "added d.png", "added old/", "removed b.png"]);
    textum(&tiny, &["data", "diff", "photos"])
        .expect(0)
        .says("1 file more, 1 file gone, 1 file changed, 1 file moved")
        .says("old/c.png → new/c.png");
    textum(&tiny, &["data", "diff", "photos@1:labels.csv", "photos", "--key", "photo"]).expect(0).says("broken").says("label");
    textum(&tiny, &["data", "find", "photos:labels.csv", "--where", "label = 'broken'"]).expect(0).says("1 of 2 versions");
    textum(&tiny, &["data", "profile", "photos"]).expect(0).says("4 rows, 4 columns");
    textum(&tiny, &["data", "diff", "photos@1:label.csv", "photos"]).expect(3).warns("did you mean labels.csv");
    textum(&tiny, &["restore", "photos@1"]).expect(0);
    assert!(tiny.has("photos/old/c.png") && tiny.has("photos/b.png") && !tiny.has("photos/d.png"));
}

#[test]
fn a_profile_in_every_form() {
    let tiny = project();
    textum(&tiny, &["data", "record"]).expect(0);
    tiny.write("looms.csv", with_mistake());
    let words = ["data", "profile", "looms", "--target", "shed", "--against", "looms@1"];
    textum(&tiny, &words).expect(0).says("humidity").says("drift from looms@1").says("correlation ratio");
    let json = textum(&tiny, &[&words[..], &["--format", "json"]].concat()).expect(0).json();
    assert_eq!((&json["columns"][2]["name"], &json["columns"][2]["numbers"]["max"]), (&"humidity".into(), &61.5.into()));
    assert_eq!(json["columns"][2]["drift"]["ks"], 0.5);
    let html = textum(&tiny, &[&words[..], &["--format", "html"]].concat()).expect(0);
    assert!(html.out.contains("<svg") && !html.out.contains("http"), "one page without outside references");
    textum(&tiny, &[&words[..], &["--format", "md"]].concat()).expect(0).says("| humidity |");
    textum(&tiny, &["data", "profile", "looms", "--target", "humidty"]).expect(2).warns("did you mean `humidity`?");
}

#[test]
fn what_is_asked_wrongly_is_told_with_the_mend() {
    let tiny = project();
    textum(&tiny, &["data", "versions", "looms"]).expect(3).warns("no state of the dataset looms");
    textum(&tiny, &["data", "diff", "looms"]).expect(3).warns("no state");
    textum(&tiny, &["data", "record"]).expect(0);
    textum(&tiny, &["data", "diff", "looms"]).expect(3).warns("is the first version");
    textum(&tiny, &["data", "diff", "looms@1", "looms@7"]).expect(3).warns("the versions are looms@1");
    textum(&tiny, &["data", "versions", "loms"]).expect(3).warns("did you mean `looms`?");
    textum(&tiny, &["restore", "looms@9"]).expect(3).warns("there is no version looms@9");
    textum(&tiny, &["data", "record", "gone"]).expect(3).warns("there is no dataset `gone`");
    textum(&tiny, &["data", "find", "looms", "--where", "humidty > 3"])
        .expect(2)
        .warns("  ^^^^^^^\n")
        .warns("did you mean `humidity`?");
    textum(&tiny, &["data", "find", "looms", "--where", "humidity >"]).expect(2).warns("            ^\n");
    std::fs::remove_file(tiny.path("looms.csv")).unwrap();
    textum(&tiny, &["data"]).expect(0).says("missing").says("textum restore looms@1");
    textum(&tiny, &["data", "record", "looms"]).expect(3).warns("the dataset looms is not there");
    tiny.manifest("[data.a]\npath = \"x\"\n[data.b]\npath = \"x/y\"\n[data.c]\npath = \"/abs\"\n[data.d]\npath = \"d\"\nkey = [\"\"]\nhold = \"refrence\"\n");
    let wrong = textum(&tiny, &["data"]).expect(2);
    let wrong = wrong.warns("the datasets `a` and `b` overlap").warns("hold = \"reference\"");
    wrong.warns("\"reference\"").warns("cannot be a column of the key");
}

#[test]
fn a_reference_is_known_by_digests_and_its_bytes_stay_where_they_are() {
    let away = Tiny::new();
    away.write("photos/a.png", "first");
    away.write("photos/b.png", "second");
    let photos = away.path("photos").display().to_string();
    let tiny = Tiny::with("");
    textum(&tiny, &["data", "add", &photos, "--reference"]).expect(0).says("photos@1").says("hold = \"reference\"");
    let stage = format!("\n[stage.list]\nrun = \"cat {photos}/* | cksum > list\"\nreads = [\"{photos}\"]\nwrites = [\"list\"]\n");
    tiny.write("textum.toml", tiny.read("textum.toml") + &stage);
    textum(&tiny, &["run"]).expect(0);
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten();
    let stored: Vec<u8> = packs.flat_map(|e| std::fs::read(e.path()).unwrap()).collect();
    assert!(!stored.windows(6).any(|w| w == b"second"), "the bytes of a reference were stored");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["trace", "list"]).expect(0).says("photos@1");
    textum(&tiny, &["trace", &away.path("photos/b.png").display().to_string()]).expect(0).says("b.png");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["run", "--sandbox", "--label", "apart"]).expect(0);
    textum(&tiny, &["plan", "--check"]).expect(0);
    let first = textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[1]["run"].as_str().unwrap().to_string();
    textum(&tiny, &["restore", &first]).expect(0);
    // The source is changed: versions and differences still work, going back does not, and says so.
    away.write("photos/b.png", "something else");
    away.write("photos/c.png", "third");
    textum(&tiny, &["run"]).expect(0).warns("photos@2");
    textum(&tiny, &["data", "diff", "photos"]).expect(0).says("1 file more").says("b.png");
    textum(&tiny, &["data", "versions", "photos"]).expect(0).says("a reference");
    textum(&tiny, &["restore", "photos@1"]).expect(1).says("no longer matches");
    textum(&tiny, &["rebuild", &first]).expect(1).says("no longer matches");
    assert_eq!(std::fs::read_to_string(away.path("photos/b.png")).unwrap(), "something else", "a reference is never written to");
    std::fs::remove_dir_all(away.path("photos")).unwrap();
    textum(&tiny, &["data"]).expect(0).says("missing");
    textum(&tiny, &["restore", "photos@2"]).expect(1).says("is not there any more");
    textum(&tiny, &["run"]).expect(2).warns("photos");
    textum(&tiny, &["verify", "--deep"]).expect(0);
}
