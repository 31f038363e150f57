use super::*;

fn file(name: &str, text: &str) -> ParamFile {
    ParamFile::of_text(&ProjectPath::new(name).unwrap(), text.to_string()).unwrap()
}

fn refused(name: &str, text: &str) -> String {
    ParamFile::of_text(&ProjectPath::new(name).unwrap(), text.to_string()).unwrap_err().to_string()
}

fn with(file: &ParamFile, values: &[(&str, Value)]) -> Result<String, String> {
    let values = values.iter().map(|(n, v)| (*n, v)).collect();
    file.with(&values).map(|f| f.text).map_err(|e| e.to_string())
}

fn named(file: &ParamFile) -> Vec<String> {
    file.leaves.iter().map(|(n, v)| format!("{n}={v}")).collect()
}

const YAML: &str = "# how the model is fitted\nrate: 0.2      # per round\nrounds:   40\nkind: 'tree'\nsplit: {seed: 7, share: 0.25}\n\
                    layers:\n  - 4\n  - 2\nwidths: [4, 2] # of each\nwhen: 2026-11-01\nnothing: ~\nquote: 'it''s # no'   # yes\nloom:\n  ä: \"y\"  # accents before\n  last: 1e-3\n";

#[test]
fn leaves_bear_the_name_of_their_file() {
    let expected = [
        "fit.kind=\"tree\"",
        "fit.layers=[4,2]",
        "fit.loom.last=0.001",
        "fit.loom.ä=\"y\"",
        "fit.nothing=null",
        "fit.quote=\"it's # no\"",
        "fit.rate=0.2",
        "fit.rounds=40",
        "fit.split.seed=7",
        "fit.split.share=0.25",
        "fit.when=\"2026-11-01\"",
        "fit.widths=[4,2]",
    ];
    assert_eq!(named(&file("conf/fit.yaml", YAML)), expected);
    assert_eq!(
        named(&file("fit.toml", "a = 1\n[b]\nc = inf\nd = 2026-11-01\n")),
        ["fit.a=1", "fit.b.c=\"inf\"", "fit.b.d=\"2026-11-01\""]
    );
    assert_eq!(named(&file("fit.json", "{\"a\": {\"b\": [1, {}]}, \"c\": {}}")), ["fit.a.b=[1,{}]"]);
    assert_eq!(named(&file("fit.v2.yml", "")), Vec::<String>::new());
}

#[test]
fn values_change_where_they_stand_and_nothing_else_does() {
    let yaml = file("conf/fit.yaml", YAML);
    let changed = with(
        &yaml,
        &[
            ("fit.rate", 1e-7.into()),
            ("fit.kind", "forest".into()),
            ("fit.split.seed", 8.into()),
            ("fit.widths", serde_json::json!([8, 0.5, "x y"])),
            ("fit.loom.last", 0.25.into()),
            ("fit.loom.ä", "yes".into()),
            ("fit.nothing", "no".into()),
            ("fit.quote", "a\\b # \"".into()),
        ],
    );
    let expected = YAML
        .replace("rate: 0.2 ", "rate: 1.0e-7 ")
        .replace("'tree'", "\"forest\"")
        .replace("seed: 7", "seed: 8")
        .replace("widths: [4, 2]", "widths: [8, 0.5, \"x y\"]")
        .replace("1e-3", "0.25")
        .replace("\"y\"", "\"yes\"")
        .replace("nothing: ~", "nothing: \"no\"")
        .replace("'it''s # no'", r#""a\\b # \"""#);
    assert_eq!(changed, Ok(expected));

    let json = file("fit.json", "{\n\t\"rate\" : 0.2,\n  \"split\": { \"seed\": 7 , \"of\": [1,\n 2] }\n}\n");
    let changed =
        with(&json, &[("fit.split.seed", 8.into()), ("fit.split.of", serde_json::json!(["a\"b"])), ("fit.rate", 2.into())]);
    assert_eq!(changed.unwrap(), "{\n\t\"rate\" : 2,\n  \"split\": { \"seed\": 8 , \"of\": [\"a\\\"b\"] }\n}\n");

    let toml = file("fit.toml", "rate = 0.2 # per round\n\n[split]\n\"a.b\" = 1\nseed   = 7\n");
    let changed = with(&toml, &[("fit.split.seed", 8.into()), ("fit.split.a.b", 2.into()), ("fit.rate", 0.5.into())]);
    assert_eq!(changed.unwrap(), "rate = 0.5 # per round\n\n[split]\n\"a.b\" = 2\nseed   = 8\n");
}

#[test]
fn what_has_no_place_of_its_own_is_not_written() {
    let anchored = file("fit.yaml", "base: &b 1\nother: *b\nmore: {<<: {x: 1}, y: 2}\nblock:\n  - 1\n");
    assert_eq!(named(&anchored), ["fit.base=1", "fit.block=[1]", "fit.more.x=1", "fit.more.y=2", "fit.other=1"]);
    for name in ["fit.base", "fit.other", "fit.more.x"] {
        let error = with(&anchored, &[(name, 3.into())]).unwrap_err();
        assert_eq!(error, format!("`{name}` cannot be given another value in `fit.yaml`"));
    }
    let block = file("fit.yaml", "a: |\n  b\nc: d # e\n");
    assert!(with(&block, &[("fit.a", "x".into())]).is_err());
    assert!(with(&anchored, &[("fit.block", serde_json::json!([2]))]).is_err());
    assert_eq!(with(&anchored, &[("fit.more.y", 3.into())]).unwrap(), anchored.text.replace("y: 2", "y: 3"));
    // The same value needs no writing.
    assert_eq!(with(&anchored, &[("fit.base", 1.into())]).unwrap(), anchored.text);
    let twice = file("fit.json", "{\"a\": 1, \"a\": 2}");
    assert_eq!(with(&twice, &[("fit.a", 3.into())]).unwrap(), "{\"a\": 1, \"a\": 3}");
}

#[test]
fn what_is_no_file_of_parameters_is_refused() {
    assert_eq!(refused("fit.txt", ""), "`fit.txt` is neither YAML, TOML nor JSON by its name");
    assert_eq!(refused(".yaml", ""), "`.yaml` is neither YAML, TOML nor JSON by its name");
    assert_eq!(refused("fit.yaml", "- 1\n"), "`fit.yaml` cannot be understood: it holds no names with values");
    assert_eq!(refused("fit.json", "7"), "`fit.json` cannot be understood: it holds no names with values");
    assert_eq!(refused("fit.yaml", "a: {b: 1}\na.b: 2\n"), "`fit.yaml` cannot be understood: `fit.a.b` is in it twice");
    assert!(refused("fit.yaml", "a: !secret x\n").contains("the tag !secret means something to one program only"));
    assert!(refused("fit.yaml", "a: 1\n---\nb: 2\n").contains("more than one document"));
    for (name, text) in [("fit.yaml", "a: [1"), ("fit.toml", "a = "), ("fit.json", "{\"a\": }"), ("fit.yaml", "? [a]\n: 1\n")] {
        assert!(refused(name, text).contains("cannot be understood"), "{text}");
    }
    let bomb = "a: &a [x, x, x, x, x, x, x, x]\n".to_string()
        + &(b'b'..=b'z')
            .map(|c| format!("{0}: &{0} [{1}]\n", c as char, format!("*{}, ", (c - 1) as char).repeat(8)))
            .collect::<String>();
    assert!(refused("fit.yaml", &bomb).contains("cannot be understood"));
    let deep = "{\"a\":".repeat(5000) + "1" + &"}".repeat(5000);
    for name in ["fit.json", "fit.yaml"] {
        assert!(refused(name, &deep).contains("cannot be understood"), "{name}");
    }
}

proptest::proptest! {
    #[test]
    fn what_is_written_is_read_back(
        rate in proptest::num::f64::NORMAL,
        seed in proptest::num::i64::ANY,
        kind in "\\PC{0,12}",
        on in proptest::bool::ANY,
        format in 0..3_usize,
    ) {
        let (name, text) = [
            ("fit.yaml", "# a\nrate: 0.5 # b\nseed: 1\nkind: tree\non: true\nrest: here\n"),
            ("fit.toml", "# a\nrate = 0.5 # b\nseed = 1\nkind = \"tree\"\non = true\nrest = \"here\"\n"),
            ("fit.json", "{\"rate\": 0.5, \"seed\": 1,\n\"kind\": \"tree\", \"on\": true, \"rest\": \"here\"}\n"),
        ][format];
        let values: Vec<(&str, Value)> =
            vec![("fit.rate", rate.into()), ("fit.seed", seed.into()), ("fit.kind", kind.into()), ("fit.on", on.into())];
        let old = file(name, text);
        let written = old.with(&values.iter().map(|(n, v)| (*n, v)).collect()).unwrap();
        for (name, value) in &values {
            proptest::prop_assert_eq!(&written.leaves[*name], value);
        }
        proptest::prop_assert_eq!(written.leaves.len(), 5);
        // Back again, and the text is the one that it was but for how a text is quoted.
        let back = written.with(&old.leaves.iter().map(|(n, v)| (n.as_str(), v)).collect()).unwrap();
        proptest::prop_assert_eq!(back.leaves, old.leaves);
        proptest::prop_assert_eq!(back.text.replace('"', ""), text.replace('"', ""));
    }
}
