//! Small untruths that had large effects: labels, gates over nothing, dates, quotation marks, modes.

use textum_testkit::Tiny;

use crate::{state, textum};

#[test]
fn a_positive_class_that_never_occurs_judges_nothing() {
    let evaluated = |truth: [&str; 4], extra: &str| {
        let tiny = Tiny::with(&format!(
            "[stage.judge]\nevaluate = {{ predictions = \"p.csv\", truth = \"t\", score = \"s\"{extra} }}\nmetrics = [\"m.json\"]\n[[gate]]\nafter = \"judge\"\ncheck = \"recall >= 0 and precision >= 0\"\n"
        ));
        let rows: String = truth.iter().zip(["0.9", "0.2", "0.8", "0.1"]).map(|(t, s)| format!("{t},{s}\n")).collect();
        tiny.write("p.csv", format!("t,s\n{rows}"));
        textum(&tiny, &["run", "--format", "json"])
    };
    let auc = |ran: &textum_testkit::Ran| ran.json()["metrics"]["auc"].as_f64();
    for truth in
        [["True", "False", "True", "False"], ["1.0", "0.0", "1.0", "0.0"], ["yes", "no", "yes", "no"], ["1", "0", "1", "0"]]
    {
        let ran = evaluated(truth, "").expect(0);
        assert_eq!(auc(&ran), Some(1.0), "{truth:?}");
    }
    let ran = evaluated(["stopped", "ran", "stopped", "ran"], "").expect(1);
    assert!(ran.err.contains("no row has the positive class `1`") && ran.err.contains("`ran`, `stopped`"), "{}", ran.err);
    assert_eq!(auc(&evaluated(["stopped", "ran", "stopped", "ran"], ", positive = \"stopped\"").expect(0)), Some(1.0));
    evaluated(["0", "0", "0", "0"], "").expect(1);
}

#[test]
fn gates_and_stop_rules_do_not_hold_for_what_is_not_there() {
    let gate = |value: &str, check: &str| {
        let tiny = Tiny::with(&format!(
            "[stage.s]\nrun = \"printf '{{\\\"loss\\\": {value}}}' > m.json\"\nmetrics = [\"m.json\"]\n[[gate]]\nafter = \"s\"\ncheck = \"{check}\"\n"
        ));
        textum(&tiny, &["run"]).status
    };
    for (value, check, status) in [
        ("0.5", "not loss > 1", 0),
        ("2", "not loss > 1", 1),
        ("NaN", "not loss > 1", 1),
        ("Infinity", "not loss < 1", 1),
        ("0.5", "not losss > 1", 1),
        ("NaN", "loss is not finite", 0),
        ("0.5", "loss >= baseline.loss", 0),
        ("0.5", "not loss < baseline.loss", 0),
    ] {
        assert_eq!(gate(value, check), status, "{check} with {value}");
    }
    let tiny = Tiny::with(
        "[data.d]\npath = \"d\"\n[stage.s]\nrun = \"x\"\nwrites = [\"o\"]\n[[gate]]\nafter = \"s\"\ncheck = \"data.dd.rows > 1 and data.d.row > 1\"\n",
    );
    textum(&tiny, &["plan"]).expect(2).warns("nothing gives `data.dd.rows`").warns("data.d.rows or data.d.bytes");
    let tiny = Tiny::with(
        "[stage.s]\nrun = \"for i in 1 2 3; do printf '{\\\"metric\\\": {\\\"loss\\\": NaN}, \\\"step\\\": %s}\\n' $i; done >> $TEXTUM_SIGNALS; echo x > o\"\nwrites = [\"o\"]\nstop_when = \"not loss < 1\"\n",
    );
    textum(&tiny, &["run"]).expect(0);
}

#[test]
fn a_date_reaches_a_script_as_a_text() {
    let tiny = Tiny::with(
        "[params]\nfrom = 2026-03-01\nat = [2026-03-01T06:00:00Z]\n[stage.s]\nrun = \"cat $TEXTUM_PARAMS > out; echo {from} >> out\"\nparams = [\"from\", \"at\"]\nwrites = [\"out\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    let out = tiny.read("out");
    assert!(
        out.contains("\"from\": \"2026-03-01\"") && out.contains("\"2026-03-01T06:00:00Z\"") && out.ends_with("2026-03-01\n"),
        "{out}"
    );
    assert!(!out.contains("toml"), "{out}");
}

#[test]
fn a_placeholder_in_quotes_is_a_mistake_with_the_mend() {
    for quoted in ["echo \\\"{name}\\\" > out", "echo '{name}' > out"] {
        let tiny = Tiny::with(&format!(
            "[params]\nname = \"a; touch hacked\"\nn = 3\n[stage.s]\nrun = \"{quoted}\"\nparams = [\"name\"]\nwrites = [\"out\"]\n"
        ));
        textum(&tiny, &["run"]).expect(2).warns("has `{name}` inside quotation marks").warns("leave the quotation marks out");
        tiny.write("textum.toml", tiny.read("textum.toml").replace("\\\"{name}\\\"", "{name}").replace("'{name}'", "{name}"));
        textum(&tiny, &["run"]).expect(0);
        assert_eq!((tiny.read("out").as_str(), tiny.has("hacked")), ("a; touch hacked\n", false));
    }
    let tiny = Tiny::with("[params]\nn = 3\n[stage.s]\nrun = \"echo '{n}' > out\"\nparams = [\"n\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(0);
}

#[test]
fn a_mode_that_changes_is_told_as_that() {
    let tiny = Tiny::with("[stage.s]\nrun = \"cat script > out\"\nreads = [\"script\"]\nwrites = [\"out\"]\n");
    tiny.write("script", "one\ntwo\n");
    textum(&tiny, &["run"]).expect(0);
    tiny.textum("chmod", &["+x", "script"]).expect(0);
    let plan = textum(&tiny, &["plan"]).expect(0).says("may now be executed");
    assert!(!plan.out.contains("lines differ"), "{}", plan.out);
}

#[test]
fn histories_with_bare_nan_keep_their_curve_and_tables_their_lines() {
    let tiny = Tiny::with(
        "[data.t]\npath = \"t.csv\"\nkey = [\"k\"]\n[stage.s]\nrun = \"printf '{\\\"step\\\": 1, \\\"loss\\\": 0.5}\\n{\\\"step\\\": 2, \\\"loss\\\": NaN}\\n' > h.jsonl\"\nmetrics = [\"h.jsonl\"]\n",
    );
    tiny.write("t.csv", "k,v\r\n1,a\r\n2,\"b\"\r\n2,c\r\n");
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(state(&run, "s"), "ran");
    let steps = textum(&tiny, &["runs", "--steps", "last", "--format", "json"]).expect(0);
    assert!(steps.out.contains("NaN") && steps.out.contains("0.5"), "{}", steps.out);
    tiny.write("u.csv", "k,v\r\n1,a\r\n2,\"b\"\r\n3,d\r\n");
    textum(&tiny, &["data", "diff", "t.csv", "u.csv", "--key", "k"]).expect(0).says("on lines 3 and 4").says("line 4  3, d");
    tiny.write("u.csv", "k,v\n1,\"a\n2,b\n3,c\n");
    textum(&tiny, &["data", "diff", "t.csv", "u.csv", "--key", "k"]).expect(4).warns("never closed").warns("line 2");
}
