//! Values on their way out: into a shell's command line, into a script's parameters, and signals on their way in.

use std::io::Write;
use std::process::Command as Process;

use proptest::prelude::*;
use serde_json::{Value, json};
use textum_core::config::manifest::{Command, Params, SetError, shell_word, substitute};
use textum_core::pipeline::signal::{Signal, SignalReader, parse_line};
use textum_testkit::Tiny;

/// Texts as names and values are, and those that a shell would make something of.
fn text() -> impl Strategy<Value = String> {
    let odd = vec![
        "",
        " ",
        "'",
        "''",
        "\"",
        "\\",
        "\\'",
        "$(touch owned)",
        "`id`",
        "a;b",
        "a&&b",
        "*",
        "~",
        "-n",
        "--",
        "#x",
        "!x",
        "a\nb",
        "\t",
        "é ü ✓",
        "%s",
        "{n}",
        "${HOME}",
        "$'x'",
        "\u{1b}[0m",
        "it's a \"b\" $c",
    ];
    prop_oneof![3 => prop::sample::select(odd).prop_map(String::from), 2 => "[^\\x00]{0,24}"]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_shell_gives_back_each_word_as_it_was(words in prop::collection::vec(text(), 1..5)) {
        let line = format!("printf '%s\\0' {}", words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" "));
        let said = Process::new("/bin/sh").arg("-c").arg(&line).output().unwrap().stdout;
        let expected: Vec<u8> = words.iter().flat_map(|w| w.bytes().chain([0])).collect();
        prop_assert_eq!(String::from_utf8_lossy(&said), String::from_utf8_lossy(&expected), "{}", line);
    }

    #[test]
    fn a_parameter_in_a_command_is_one_word_whatever_it_holds(value in text()) {
        let json = Value::from(value.clone());
        let of = |name: &str| (name == "loom.name").then_some(&json);
        let Command::Shell(line) = substitute(&Command::Shell("printf '%s|' a={loom.name} {other}".into()), of) else { unreachable!() };
        let said = Process::new("/bin/sh").arg("-c").arg(&line).output().unwrap().stdout;
        let expected = format!("a={value}|{{other}}|");
        prop_assert_eq!(String::from_utf8_lossy(&said), expected, "{}", line);
        // Without a shell nothing is quoted.
        let argv = substitute(&Command::Argv(vec!["--name={loom.name}".into(), "{loom.name}{loom.name}".into()]), of);
        prop_assert_eq!(argv, Command::Argv(vec![format!("--name={value}"), format!("{value}{value}")]));
    }

    #[test]
    fn signals_are_heard_the_same_however_they_come_in(
        lines in prop::collection::vec(prop_oneof![
            (any::<f64>(), 0u64..1000).prop_map(|(v, s)| json!({"metric": {"loss": v}, "step": s}).to_string()),
            Just("{\"metric\": {\"loss\": NaN, \"auc\": Infinity}}".to_string()),
            (0.0..1.0f64).prop_map(|p| json!({"progress": p}).to_string()),
            text().prop_map(|t| json!({"note": t}).to_string()),
            text().prop_map(|t| t.replace('\n', " ")),
        ], 0..20),
        cuts in prop::collection::vec(1usize..40, 1..12),
        ended in any::<bool>(),
    ) {
        let tiny = Tiny::new();
        let path = tiny.path("signals");
        let mut all = lines.join("\n").into_bytes();
        if ended && !lines.is_empty() {
            all.push(b'\n');
        }
        // Told apart line by line, as they would be at once.
        let whole = String::from_utf8(all.clone()).unwrap();
        let mut expected: Vec<(u64, Result<Signal, String>)> = Vec::new();
        for (number, line) in whole.split('\n').enumerate() {
            if !line.trim().is_empty() {
                expected.push((number as u64 + 1, parse_line(line.trim())));
            }
        }
        let mut file = std::fs::File::create(&path).unwrap();
        let mut reader = SignalReader::new(&path);
        let mut heard = Vec::new();
        let mut rest = &all[..];
        for cut in cuts.iter().cycle() {
            if rest.is_empty() {
                break;
            }
            let (now, later) = rest.split_at((*cut).min(rest.len()));
            file.write_all(now).unwrap();
            rest = later;
            reader.read(false, |line, signal| heard.push((line, signal)));
        }
        reader.read(true, |line, signal| heard.push((line, signal)));
        prop_assert_eq!(format!("{heard:?}"), format!("{expected:?}"));
    }
}

#[test]
fn parameters_keep_their_types_and_say_what_they_are() {
    let tables = json!({
        "seed": 7, "fit": {"rate": 0.1, "kind": "tree", "deep": {"on": true}}, "sheds": ["A", "B"], "whole": 1.0,
    });
    let params = Params::from_tables(tables.as_object().unwrap());
    let set = |assignment: &str| {
        let mut params = params.clone();
        params.set(assignment).map(|()| params.iter().map(|(n, v)| format!("{n}={v}")).collect::<Vec<_>>().join(" "))
    };
    let before = "fit.deep.on=true fit.kind=\"tree\" fit.rate=0.1 seed=7 sheds=[\"A\",\"B\"] whole=1.0";
    assert_eq!(set("seed=7").unwrap(), before);
    for (assignment, from, to) in [
        ("seed=-3", "seed=7", "seed=-3"),
        ("fit.rate=1e-3", "fit.rate=0.1", "fit.rate=0.001"),
        ("fit.rate=2", "fit.rate=0.1", "fit.rate=2.0"),
        ("fit.kind=a=b", "fit.kind=\"tree\"", "fit.kind=\"a=b\""),
        ("fit.kind=", "fit.kind=\"tree\"", "fit.kind=\"\""),
        ("fit.deep.on=false", "fit.deep.on=true", "fit.deep.on=false"),
        ("sheds=[1, 2]", "sheds=[\"A\",\"B\"]", "sheds=[1,2]"),
    ] {
        assert_eq!(set(assignment).unwrap(), before.replace(from, to), "{assignment}");
    }
    for wrong in [
        "seed=1.5",
        "seed=x",
        "seed=",
        "seed=99999999999999999999",
        "fit.rate=NaN",
        "fit.rate=inf",
        "fit.rate=x",
        "fit.deep.on=1",
        "sheds=A",
        "sheds={}",
    ] {
        assert!(matches!(set(wrong), Err(SetError::WrongType { .. })), "{wrong}: {:?}", set(wrong));
    }
    for table in ["fit=1", "fit.deep=1"] {
        assert!(matches!(set(table), Err(SetError::Table { .. })), "{table}: {:?}", set(table));
    }
    for unknown in ["fit.rat=1", "=1", "fit..rate=1"] {
        assert!(matches!(set(unknown), Err(SetError::Unknown { .. })), "{unknown}: {:?}", set(unknown));
    }
    assert!(set("fit.rat=1").unwrap_err().to_string().contains("did you mean `fit.rate`?"));
    assert!(matches!(set("seed"), Err(SetError::Form(_))));
    let select = |selector: &str| params.select(selector).map(|(n, _)| n.to_string()).collect::<Vec<_>>();
    assert_eq!(select("fit"), ["fit.deep.on", "fit.kind", "fit.rate"]);
    assert_eq!((select("fit.rate"), select("fi"), select("")), (vec!["fit.rate".to_string()], vec![], vec![]));
}
