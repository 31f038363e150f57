//! Each command in each form that it prints in: JSON is JSON, CSV has as many cells in each row, Markdown tables are
//! whole, graphs name what they join, and colour is in none of them; what a command does not print, it refuses.

use serde_json::Value;
use textum_testkit::Tiny;

use crate::textum;

/// Two runs, a sweep, two versions of a table, notes, a failed gate's worth of metrics, a rebuild.
fn project() -> Tiny {
    let tiny = Tiny::with(
        r#"
[data.shifts]
path = "shifts.csv"
key  = ["id"]

[params]
rate = 1

[metric.auc]
better = "higher"

[stage.clean]
run    = "grep -v NA shifts.csv > clean.csv"
reads  = ["shifts.csv"]
writes = ["clean.csv"]

[stage.fit]
run     = "cat clean.csv > model.txt; echo {rate} >> model.txt; for i in 1 2 3; do printf '{\"metric\": {\"loss\": 0.%s}, \"step\": %s}\\n' $i $i >> $TEXTUM_SIGNALS; done; printf '{\"auc\": 0.8%s}' {rate} > m.json"
reads   = ["clean.csv"]
params  = ["rate"]
writes  = ["model.txt"]
metrics = ["m.json"]

[[gate]]
after = "fit"
check = "auc > 0.1"
"#,
    );
    tiny.write("shifts.csv", "id,shed,humidity\n1,A,60\n2,\"B, old\",61\n3,A,NA\n");
    textum(&tiny, &["run", "--label", "one | two"]).expect(0);
    tiny.write("shifts.csv", "id,shed,humidity\n1,A,60\n2,\"B, old\",0.61\n4,C,55\n");
    textum(&tiny, &["run", "--note", "a <b> & `c`"]).expect(0);
    textum(&tiny, &["run", "--vary", "rate=2,3"]).expect(0);
    textum(&tiny, &["rebuild", "last~1"]).expect(0);
    textum(&tiny, &["data", "record", "shifts@2", "-m", "do | not\nuse"]).expect(0);
    tiny
}

/// Commands that only look, with the forms that they print in beside text.
const LOOKING: &[(&[&str], &[&str])] = &[
    (&["plan"], &["json"]),
    (&["plan", "--graph"], &["json", "dot", "mermaid"]),
    (&["data"], &["json", "csv", "md"]),
    (&["data", "versions", "shifts"], &["json", "csv", "md"]),
    (&["data", "diff", "shifts@1", "shifts@2"], &["json", "csv", "md", "html"]),
    (&["data", "find", "shifts", "--where", "shed = 'A'"], &["json", "csv", "md"]),
    (&["data", "profile", "shifts"], &["json", "csv", "md", "html"]),
    (&["data", "profile", "shifts", "--against", "shifts@1"], &["json", "csv", "md", "html"]),
    (&["runs"], &["json", "csv", "md"]),
    (&["runs", "--by", "auc"], &["json", "csv", "md"]),
    (&["runs", "--steps", "last"], &["json", "csv", "md"]),
    (&["show", "last"], &["json"]),
    (&["show", "last", "--log"], &["json"]),
    (&["compare", "last", "last~1"], &["json", "csv", "md"]),
    (&["plot", "last", "--metric", "loss"], &["json", "csv"]),
    (&["plot", "last", "last~1", "--metric", "auc", "--against", "rate"], &["json", "csv"]),
    (&["report", "last", "--against", "last~1"], &["md", "html"]),
    (&["trace", "model.txt"], &["json", "dot", "mermaid"]),
    (&["verify"], &["json"]),
    (&["prune", "--dry-run"], &["json"]),
    (&["stats"], &["json", "csv", "md"]),
];

/// What is amiss with a text that is said to be in a form.
fn amiss(form: &str, text: &str) -> Option<String> {
    if text.contains('\u{1b}') {
        return Some("has colours".into());
    }
    match form {
        "json" => serde_json::from_str::<Value>(text).err().map(|e| e.to_string()),
        "csv" => {
            let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(text.as_bytes());
            let header = reader.headers().ok()?.clone();
            if header.is_empty() || header.iter().any(str::is_empty) {
                return Some(format!("a header with gaps: {header:?}"));
            }
            reader.records().find_map(|r| r.err()).map(|e| e.to_string())
        }
        "md" => {
            let tables: Vec<Vec<&str>> = text
                .split("\n\n")
                .map(|t| t.lines().filter(|l| l.starts_with('|')).collect())
                .filter(|t: &Vec<_>| !t.is_empty())
                .collect();
            // A bar in a cell is escaped; all others part cells.
            let cells = |line: &str| line.replace("\\\\", "").replace("\\|", "").matches('|').count();
            let ragged = tables.iter().find(|t| t.len() < 2 || t.iter().any(|l| cells(l) != cells(t[0])) || !t[1].contains("--"));
            match ragged {
                Some(table) => Some(format!("a table that is none: {table:#?}")),
                None => tables.is_empty().then(|| "no table in it".into()).filter(|_: &String| !text.starts_with('#')),
            }
        }
        "html" => {
            let whole = text.starts_with("<!doctype html>") || text.starts_with("<!DOCTYPE html>");
            let foreign = ["http://", "https://"]
                .iter()
                .any(|u| text.replace("http://www.w3.org/2000/svg", "").contains(&format!("src=\"{u}")));
            (!whole || foreign).then(|| "not a page that stands by itself".into())
        }
        "dot" => {
            (!text.starts_with("digraph") || text.matches('{').count() != text.matches('}').count()).then(|| "no graph".into())
        }
        "mermaid" => (!(text.starts_with("flowchart") || text.starts_with("graph"))).then(|| "no flowchart".into()),
        _ => text.trim().is_empty().then(|| "nothing".into()),
    }
}

#[test]
fn each_form_is_what_it_says() {
    let tiny = project();
    let mut wrong = Vec::new();
    for (words, forms) in LOOKING {
        for form in ["text"].iter().chain(*forms) {
            let line = [*words, &["--format", form, "--color", "always"]].concat();
            let ran = textum(&tiny, &line);
            let text = if *form == "text" { ran.out.replace('\u{1b}', "") } else { ran.out.clone() };
            if ran.status != 0 || amiss(form, &text).is_some() {
                wrong.push(format!(
                    "{}: status {}, {:?}\n{}\n{}",
                    line.join(" "),
                    ran.status,
                    amiss(form, &text),
                    ran.out,
                    ran.err
                ));
            }
            // What goes to a person does not go with the data.
            if *form == "json" && ran.out.trim_start().starts_with(|c| c != '{' && c != '[') {
                wrong.push(format!("{}: words before the data: {}", line.join(" "), ran.out));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n---\n"));
}

#[test]
fn a_form_that_a_command_does_not_print_is_refused_with_those_that_it_does() {
    let tiny = project();
    let before = tiny.snapshot();
    for (words, forms) in LOOKING {
        for form in ["json", "csv", "md", "html", "dot", "mermaid"].iter().filter(|f| !forms.contains(f)) {
            // `plan` draws graphs only when asked for one, and is told of them all the same.
            if words[0] == "plan" && ["dot", "mermaid"].contains(form) {
                continue;
            }
            let ran = textum(&tiny, &[*words, &["--format", form]].concat());
            assert_eq!(ran.status, 2, "{words:?} {form}: {}", ran.out);
            assert!(ran.out.is_empty() && ran.err.contains("next:"), "{words:?} {form}: {}", ran.err);
        }
    }
    for words in [&["run"][..], &["restore", "last"], &["note", "last", "x"], &["label", "last", "y"]] {
        for form in ["csv", "md", "html", "dot"] {
            assert_eq!(textum(&tiny, &[words, &["--format", form]].concat()).status, 2, "{words:?} {form}");
        }
    }
    assert_eq!(tiny.snapshot(), before, "what is refused does nothing");
}

/// What a person wrote comes out of each form as it was written.
#[test]
fn awkward_words_survive_every_form() {
    let tiny = project();
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert!(runs.as_array().unwrap().iter().any(|r| r["label"] == "one | two"));
    let csv = textum(&tiny, &["runs", "--format", "csv"]).expect(0).out;
    assert!(csv.contains("one | two"), "{csv}");
    let md = textum(&tiny, &["runs", "--format", "md"]).expect(0).out;
    assert!(md.contains("one \\| two"), "{md}");
    let versions = textum(&tiny, &["data", "versions", "shifts", "--format", "json"]).expect(0).json();
    assert!(versions.to_string().contains("do | not\\nuse"), "{versions}");
    let found = textum(&tiny, &["data", "find", "shifts", "--where", "shed contains ','", "--format", "json"]).expect(0).out;
    assert!(found.contains("B, old"), "{found}");
    let page = textum(&tiny, &["report", "last~2", "--format", "html"]).expect(0).out;
    assert!(!page.contains("a <b> &") || page.contains("a &lt;b&gt; &amp;"), "what is no markup is none");
}

/// The same question gives the same bytes, however often and from wherever it is asked.
#[test]
fn looking_is_repeatable_and_works_from_below() {
    let tiny = project();
    std::fs::create_dir_all(tiny.path("deep/er")).unwrap();
    for (words, forms) in LOOKING.iter().filter(|(w, _)| !["stats", "verify"].contains(&w[0])) {
        let Some(form) = forms.first() else { continue };
        let line = [*words, &["--format", form]].concat();
        let first = textum(&tiny, &line).expect(0).out;
        assert_eq!(textum(&tiny, &line).expect(0).out, first, "{line:?}");
        if words[0] != "trace" {
            let below = [&["-C", "deep/er"][..], &line].concat();
            assert_eq!(textum(&tiny, &below).expect(0).out, first, "{below:?}");
        }
    }
}
