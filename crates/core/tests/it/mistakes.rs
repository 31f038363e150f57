//! Each mistake that a manifest can have: what is said, and which text is pointed at. The text pointed at stands
//! between « and ».

use std::path::Path;

use proptest::prelude::*;
use textum_core::config::manifest::Manifest;

fn mistakes(text: &str) -> Vec<(String, String, String)> {
    match Manifest::parse(Path::new("textum.toml"), text.to_string()) {
        Ok(_) => Vec::new(),
        Err(error) => {
            error.mistakes.iter().map(|m| (m.title.clone(), error.text[m.span.clone()].to_string(), m.help.clone())).collect()
        }
    }
}

/// What is amiss with what is said of a marked manifest, which must have this one mistake.
fn amiss(marked: &str, title: &str, help: &str) -> Option<String> {
    let text = format!("[project]\nname = \"looms\"\n{marked}\n");
    let (from, to) = (text.find('«').unwrap(), text.find('»').unwrap());
    let wanted = &text[from + '«'.len_utf8()..to];
    let found = mistakes(&text.replace(['«', '»'], ""));
    match &found[..] {
        [(said, at, mend)] if said.contains(title) && at == wanted && mend.contains(help) => None,
        _ => Some(format!("{marked}\n  {title:?}, {help:?} was to be said at {wanted:?}: {found:#?}")),
    }
}

#[test]
fn every_mistake_is_told_with_its_place_and_the_mend() {
    let stage = |more: &str| format!("[params]\nrate = 0.1\nfit = {{ depth = 3, name = \"x y\" }}\n[stage.fit]\n{more}");
    let fit = |more: &str| stage(&format!("run = \"true\"\nwrites = [\"out\"]\n{more}"));
    let cases = [
        // Types and names.
        (fit("needs = { cpus = «0» }"), "at least one processor", "1 or more"),
        (fit("needs = { memory = «\"2 potatoes\"» }"), "no amount of memory", "2GiB"),
        (fit("needs = { time = «\"soon\"» }"), "no time", "1h30m"),
        (fit("«wirtes» = [\"x\"]"), "unknown key `wirtes`", "did you mean `writes`"),
        (fit("reads = «\"yarn.csv\"»"), "wrong type", "list in [ ]"),
        (fit("params = [«\"rat\"»]"), "no parameter `rat`", "did you mean `rate`"),
        (fit("params = [«\"depth\"»]"), "no parameter `depth`", "depth"),
        (fit("[metric.auc]\nbetter = «\"up\"»"), "cannot be \"up\"", "\"higher\" or \"lower\""),
        (fit("[stage.«\"a b\"»]\nrun = \"true\"\nwrites = [\"b\"]"), "cannot be the name of a stage", ""),
        (fit("[data.«\"a/b\"»]\npath = \"yarn.csv\""), "cannot be the name of a dataset", ""),
        // Paths.
        (stage("run = \"true\"\nwrites = [«\"../up\"»]"), "leaves the project", ""),
        (stage("run = \"true\"\nwrites = [«\"/tmp/out\"»]"), "is not relative", ""),
        (stage("run = \"true\"\nwrites = [«\".textum/x\"»]"), ".textum", ""),
        (stage("run = \"true\"\nwrites = [«\".git/hooks/pre-commit\"»]"), ".git", ""),
        (stage("run = \"true\"\nwrites = [«\"\"»]"), "path", ""),
        (stage("run = \"true\"\nwrites = [«\"textum.toml\"»]"), "textum.toml", ""),
        (stage("run = \"true\"\nwrites = [«\"a\\u0000b\"»]"), "path", ""),
        (fit("checkpoints = «\"textum.receipt.json\"»"), "Textum's own", "another path"),
        (fit("[data.yarn]\npath = «\"../yarn.csv\"»"), "leaves the project", ""),
        (fit("[data.yarn]\npath = \"yarn\"\n[data.more]\npath = «\"yarn/more\"»"), "overlap", ""),
        // Stages among each other.
        ("[stage.«fit»]\nrun = \"true\"".to_string(), "writes nothing", "writes = "),
        (fit("[stage.b]\nrun = \"true\"\nwrites = [«\"out\"»]"), "written twice", ""),
        (fit("[stage.b]\nrun = \"true\"\nmetrics = [«\"out/m.json\"»]"), "inside another write", ""),
        (
            "[stage.«fit»]\nrun = \"true\"\nreads = [\"a\"]\nwrites = [\"a/b\"]".to_string(),
            "in which it writes itself",
            "another path",
        ),
        // Commands.
        (stage("run = «\"\"»\nwrites = [\"out\"]"), "has no command", ""),
        (stage("run = «\"x {rate}\"»\nwrites = [\"out\"]"), "parameter that it does not have", "add \"rate\""),
        (stage("run = «\"x '{fit.name}'\"»\nparams = [\"fit\"]\nwrites = [\"out\"]"), "inside quotation marks", ""),
        (
            stage("run = «\"x {fit.dept}\"»\nparams = [\"fit\"]\nwrites = [\"out\"]"),
            "parameter that it does not have",
            "{fit.depth}",
        ),
        // Evaluations.
        (stage("«evaluate» = { predictions = \"p.csv\", truth = \"t\" }\nmetrics = [\"m.json\"]"), "what is predicted", "score"),
        (
            stage("«evaluate» = { predictions = \"p.csv\", truth = \"t\", score = \"s\" }\nmetrics = [\"m.csv\"]"),
            "a file for its metrics",
            ".json",
        ),
        (
            stage("«evaluate» = { predictions = \"p.csv\", truth = \"t\", label = \"s\", bins = 5 }\nmetrics = [\"m.json\"]"),
            "go with `score`",
            "",
        ),
        (
            stage(
                "evaluate = { predictions = \"p.csv\", truth = \"t\", score = \"s\", threshold = «1.5» }\nmetrics = [\"m.json\"]",
            ),
            "a probability",
            "0 to 1",
        ),
        (
            stage("evaluate = { predictions = \"p.csv\", truth = \"t\", score = \"s\", bins = «1» }\nmetrics = [\"m.json\"]"),
            "bins",
            "2 to 1000",
        ),
        (
            stage(
                "«evaluate» = { predictions = \"p.csv\", truth = \"t\", score = \"s\" }\nmetrics = [\"m.json\"]\nwrites = [\"figure.svg\"]",
            ),
            "into one folder",
            "/",
        ),
        // Conditions.
        (fit("stop_when = «\"loss > \"»"), "the condition", ""),
        (fit("stop_when = «\"loss > 2 * best\"»"), "higher or a lower `loss`", "[metric.loss]"),
        (fit("stop_when = «\"1 > best\"»"), "`best` of what?", "same test"),
        (fit("[[gate]]\nafter = «\"fitt\"»\ncheck = \"auc > 0.5\""), "no stage `fitt`", "did you mean `fit`"),
        (fit("[[gate]]\nafter = \"fit\"\ncheck = «\"auc >> 0.5\"»"), "no comparison", ""),
        (fit("[[gate]]\nafter = \"fit\"\ncheck = «\"auc > 0.5 for 3 steps\"»"), "cannot count steps", ""),
        (
            fit("[data.yarn]\npath = \"yarn\"\n[[gate]]\nafter = \"fit\"\ncheck = «\"data.yran.rows > 5\"»"),
            "nothing gives `data.yran.rows`",
            "data.yarn.rows",
        ),
        (
            fit("[data.yarn]\npath = \"yarn\"\n[[gate]]\nafter = \"fit\"\ncheck = «\"data.yarn.columns > 5\"»"),
            "nothing gives",
            "data.yarn.bytes",
        ),
        // The environment and models.
        (fit("[environment]\nvars = [«\"A=B\"»]"), "cannot be passed on", "OMP_NUM_THREADS"),
        (fit("[environment]\nvars = [«\"TEXTUM_RUN\"»]"), "cannot be passed on", ""),
        (fit("[environment]\n«packages» = [\"numpy\"]"), "without an interpreter", "python"),
        (fit("[model.best]\nfiles = [«\"ou\"»]"), "no stage writes `ou`", "did you mean `out`"),
        (fit("needs = { cpus = «-1» }"), "", ""),
    ];
    let amiss: Vec<String> = cases.iter().filter_map(|(marked, title, help)| amiss(marked, title, help)).collect();
    assert!(amiss.is_empty(), "{}", amiss.join("\n"));
}

#[test]
fn a_circle_and_a_text_that_is_no_toml_are_told_too() {
    let circle = "[project]\nname = \"x\"\n[stage.a]\nrun = \"true\"\nreads = [\"z\"]\nwrites = [\"y\"]\n[stage.b]\nrun = \"true\"\nreads = [\"y\"]\nwrites = [\"z\"]\n";
    let found = mistakes(circle);
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0].0.contains("circle") || found[0].2.contains("circle"), "{found:?}");
    for broken in
        ["[project", "name = ", "[project]\nname = \"x\"\nname = \"y\"\n", "a = [1,", "\u{0}", "[project]\nname = \"x\\q\"\n"]
    {
        assert!(!mistakes(broken).is_empty(), "{broken:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_cut_out_of_a_good_manifest_is_told_inside_of_it(
        from in any::<prop::sample::Index>(), length in 1usize..30, put in "[\\[\\]{}\"'=,.a-z0-9 \n\u{e9}«]{0,6}",
    ) {
        let good = "[project]\nname = \"looms\"\n[params]\nrate = 0.1\n[data.yarn]\npath = \"yarn.csv\"\nkey = [\"id\"]\n\
                    [stage.fit]\nrun = \"python fit.py {rate}\"\nreads = [\"yarn.csv\"]\nparams = [\"rate\"]\nwrites = [\"out/\"]\n\
                    metrics = [\"m.json\"]\nneeds = { cpus = 2, memory = \"1GiB\", time = \"10m\" }\nstop_when = \"loss is not finite\"\n\
                    [[gate]]\nafter = \"fit\"\ncheck = \"loss < 1 and data.yarn.rows > 5\"\n[metric.loss]\nbetter = \"lower\"\n";
        prop_assert!(mistakes(good).is_empty());
        let from = from.index(good.len());
        let to = (from + length).min(good.len());
        let text = format!("{}{put}{}", &good[..from], &good[to..]);
        if let Err(error) = Manifest::parse(Path::new("textum.toml"), text.clone()) {
            prop_assert!(!error.mistakes.is_empty());
            for mistake in &error.mistakes {
                prop_assert!(text.get(mistake.span.clone()).is_some(), "{:?} in {:?}", mistake, text);
                prop_assert!(mistake.also.as_ref().is_none_or(|(span, _)| text.get(span.clone()).is_some()), "{:?}", mistake);
                prop_assert!(!mistake.title.is_empty());
            }
        }
    }
}

/// A manifest in a folder with these files, and what is said of it: title, text pointed at, mend.
fn beside(files: &[(&str, &str)], manifest: &str) -> Vec<(String, String, String)> {
    let folder = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    match Manifest::parse(&folder.path().join("textum.toml"), manifest.to_string()) {
        Ok(_) => Vec::new(),
        Err(error) => {
            error.mistakes.iter().map(|m| (m.title.clone(), error.text[m.span.clone()].to_string(), m.help.clone())).collect()
        }
    }
}

#[test]
fn mistakes_around_files_of_parameters() {
    let files = [
        ("conf/fit.yaml", "rate: 0.1\nkind: x\n"),
        ("fit.toml", "rate = 1\n"),
        ("bad.json", "{"),
        ("list.yml", "- 1\n"),
        ("a.csv", ""),
    ];
    let of = |named: &str, more: &str| beside(&files, &format!("[project]\nname = \"looms\"\nparam_files = [{named}]\n{more}\n"));
    let stage = |more: &str| format!("[stage.fit]\nrun = \"true\"\nwrites = [\"out\"]\n{more}");
    assert_eq!(of("\"conf/fit.yaml\"", &stage("params = [\"fit\"]")), []);
    let cases = [
        ("\"conf/fit.yaml\", \"conf/./fit.yaml\"", String::new(), "is named twice", "\"conf/./fit.yaml\"", "once"),
        (
            "\"conf/fit.yaml\", \"fit.toml\"",
            String::new(),
            "`fit.rate` of `fit.toml` clashes with `fit.rate`",
            "\"fit.toml\"",
            "another name",
        ),
        (
            "\"conf/fit.yaml\"",
            "[params]\nfit = 1".into(),
            "`fit.kind` of `conf/fit.yaml` clashes with `fit`",
            "\"conf/fit.yaml\"",
            "",
        ),
        ("\"conf/fit.yaml\"", "[params]\nfit = { rate = { a = 1 } }".into(), "clashes with `fit.rate.a`", "\"conf/fit.yaml\"", ""),
        ("\"gone.yaml\"", String::new(), "`gone.yaml` does not exist", "\"gone.yaml\"", "put it there"),
        ("\"../fit.yaml\"", String::new(), "leaves the project", "\"../fit.yaml\"", ""),
        ("\"a.csv\"", String::new(), "neither YAML, TOML nor JSON", "\"a.csv\"", ".yaml"),
        ("\"bad.json\"", String::new(), "`bad.json` cannot be understood", "\"bad.json\"", "tables in tables"),
        ("\"list.yml\"", String::new(), "holds no names with values", "\"list.yml\"", ""),
        ("\"conf\"", String::new(), "regular file", "\"conf\"", "regular file"),
        ("\"conf/fit.yaml\"", stage("params = [\"fit.rat\"]"), "no parameter `fit.rat`", "\"fit.rat\"", "did you mean `fit.rate`"),
        ("\"conf/fit.yaml\"", stage("reads = [\"conf\"]"), "reads `conf`, in which `conf/fit.yaml` lies", "fit", "one by one"),
        (
            "\"conf/fit.yaml\"",
            stage("reads = [\"conf/fit.yaml\"]"),
            "reads `conf/fit.yaml`: a file of parameters",
            "fit",
            "`params`",
        ),
        ("\"conf/fit.yaml\"", stage("metrics = [\"conf/fit.yaml\"]"), "writes `conf/fit.yaml`, where", "fit", "--params"),
        ("\"conf/fit.yaml\"", stage("checkpoints = \"conf\""), "writes `conf`, where", "fit", "another path"),
        (
            "\"conf/fit.yaml\"",
            "[data.c]\npath = \"conf\"".into(),
            "dataset `c` holds the file of parameters",
            "\"conf\"",
            "not both",
        ),
        ("\"conf/fit.yaml\"", "[environment]\nfiles = [\"conf\"]".into(), "would count whole", "\"conf\"", "take it out"),
    ];
    let mut amiss = Vec::new();
    for (named, more, title, at, help) in cases {
        match &of(named, &more)[..] {
            [(said, place, mend)] if said.contains(title) && place == at && mend.contains(help) => {}
            found => amiss.push(format!("{named} {more}: {title:?} was to be said at {at:?}: {found:#?}")),
        }
    }
    assert!(amiss.is_empty(), "{}", amiss.join("\n"));
    // A file that cannot be had brings no second mistake: that its parameters are not there.
    let only = of("\"gone.yaml\"", &stage("params = [\"gone.rate\"]\n"));
    assert!(matches!(&only[..], [(title, ..)] if title.contains("does not exist")), "{only:#?}");
}
