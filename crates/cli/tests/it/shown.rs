//! What people see, word for word: snapshots of the printed text of one small story. Ids, digests, times, names of
//! people and the bytes that compression leaves are replaced, and columns stand two spaces apart.
//! `INSTA_UPDATE=always` writes the snapshots anew, to be read before they are committed.

use textum_testkit::{Ran, Tiny};

use crate::{textum, two_stages};

/// What differs from machine to machine, and what stands for it.
const FILTERS: [(&str, &str); 12] = [
    // Which programs and libraries a machine starts for `sh` is the machine's.
    (r"[ │]*[├└]─ \+ [^\n]*\d+ programs?[^\n]*\n", ""),
    (r"/tmp/textum-test-\w+", "[project]"),
    (r"\b\d{8}-\d{4}-[0-9a-f]{4,}\b", "[run]"),
    (r"\bb3:[0-9a-f]{8,64}\b", "[digest]"),
    (r"\bsweep-[0-9a-f]{6,}\b", "[sweep]"),
    (r"\b\d+(\.\d+)? (ms|s|min)\b( ago)?|\bjust now\b", "[time]"),
    (r"\b\d{1,2} [A-Z][a-z]{2} \d{4} \d{2}:\d{2}:\d{2}\b", "[moment]"),
    (r"\b[\w-]+@[\w.-]*[a-z-][\w.-]*\b", "[who]"),
    (r"\d+(\.\d+)?×", "[times]"),
    (r"\b\d+(\.\d+)? kB\b", "[size]"),
    (r"\[run\]  [^\n]*\[time\]( +)", "[run]  [time]  "),
    (r"[ \t]{2,}", "  "),
];

/// Data, a parameter, two stages, a metric and a gate, nothing left to chance.
fn shed() -> Tiny {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.csv\"\nkey = [\"id\"]\nabout = \"yarn counts by loom\"\n\n[params]\nleast = 20\n\n\
         [stage.clean]\nrun = \"grep -v broken yarn.csv > clean.csv\"\nreads = [\"yarn.csv\"]\nwrites = [\"clean.csv\"]\n\n\
         [stage.count]\nrun = \"sh count.sh {least}\"\nreads = [\"clean.csv\", \"count.sh\"]\nparams = [\"least\"]\nwrites = [\"counts.txt\"]\n\
         metrics = [\"scores.json\"]\n\n[[gate]]\nafter = \"count\"\ncheck = \"share >= 0.25\"\n\n[metric.share]\nbetter = \"higher\"\n",
    );
    tiny.write("yarn.csv", "id,loom,count\n1,L01,24\n2,L02,18\n3,L03,broken\n4,L04,30\n5,L05,12\n");
    tiny.write(
        "count.sh",
        "awk -F, -v l=$1 'NR>1 && $3>=l' clean.csv > counts.txt\n\
         awk -v a=$(wc -l < counts.txt) -v n=$(tail -n +2 clean.csv | wc -l) 'BEGIN{printf \"{\\\"share\\\": %.4f}\", a/n}' > scores.json\n",
    );
    tiny
}

/// All that a call said, in the order of importance.
fn said(ran: &Ran) -> String {
    let err = if ran.err.is_empty() { String::new() } else { format!("--- standard error\n{}", ran.err) };
    format!("exit {}\n{}{err}", ran.status, ran.out)
}

/// Colours taken off again. Only colours are.
fn without_colours(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("\x1b[") {
        let (code, after) = after.split_once('m').unwrap();
        assert!(code.len() <= 2 && code.chars().all(|c| c.is_ascii_digit()), "{code:?} in {text:?}");
        out.push_str(before);
        rest = after;
    }
    out + rest
}

#[test]
fn in_colour_everything_says_the_same() {
    let tiny = shed();
    let told = |words: &[&str]| textum(&tiny, &[&["--color", "always"], words].concat());
    let run = told(&["run"]).expect(0);
    let plain = without_colours(&run.out);
    assert!(run.out.len() > plain.len() && plain.contains("clean.csv 50 B\n") && !plain.contains("\\x"), "{}", run.out);
    let sweep = textum(&tiny, &["run", "--vary", "least=18,24,30", "--format", "json"]).expect(0).json()["sweep"].clone();
    let sweep = sweep.as_str().unwrap();
    std::fs::write(tiny.path("yarn.csv"), tiny.read("yarn.csv").replace("24", "25")).unwrap();
    told(&["data", "record"]).expect(0);
    let looks: &[&[&str]] = &[
        &["plan"],
        &["runs"],
        &["runs", "--all", "--by", "share"],
        &["runs", "--group-by", "least"],
        &["show", "last"],
        &["show", "best:share"],
        &["trace", "counts.txt"],
        &["compare", "last~1", "last"],
        &["plot", sweep, "--metric", "share", "--against", "least"],
        &["data"],
        &["data", "versions", "yarn"],
        &["data", "diff", "yarn@1", "yarn@2"],
        &["data", "profile", "yarn@2", "--against", "yarn@1"],
        &["data", "find", "yarn", "--where", "count > 20"],
        &["stats"],
        &["runs", "--format", "csv"],
        &["runs", "--format", "md"],
        &["compare", "last~1", "last", "--format", "md"],
        &["stats", "--largest", "3"],
        &["prune", "--newest", "1"],
        &["verify"],
        &["show", "nothing"],
        &["--help"],
    ];
    for words in looks {
        let both = || (textum(&tiny, &[&["--color", "never"], *words].concat()), told(words));
        let (mut plain, mut coloured) = both();
        // Between the two `just now` may have become `5 s ago`.
        for _ in 0..3 {
            if without_colours(&coloured.out) == plain.out && without_colours(&coloured.err) == plain.err {
                break;
            }
            (plain, coloured) = both();
        }
        let same = |a: &str, b: &str| assert_eq!(without_colours(a), b, "{words:?}");
        assert_eq!(plain.status, coloured.status, "{words:?}: {}", plain.err);
        assert!(!plain.out.contains('\x1b') && !plain.err.contains('\x1b'), "{words:?}");
        same(&coloured.out, &plain.out);
        same(&coloured.err, &plain.err);
    }
    let plot = told(&["plot", sweep, "--metric", "share", "--against", "least"]);
    assert!(plot.out.contains("\x1b[36m"), "{}", plot.out);
}

/// Each call of a chapter with what it prints.
fn story(tiny: &Tiny, calls: &[&[&str]]) -> String {
    calls.iter().fold(String::new(), |text, words| {
        let ran = textum(tiny, words);
        format!("{text}$ textum {}\n{}\n", words.join(" "), said(&ran))
    })
}

fn shown(tiny: &Tiny, name: &str, mut text: String) {
    // The last part of a run's id stands for it where there is little room.
    let listed = textum(tiny, &["runs", "--all", "--format", "json"]);
    for run in serde_json::from_str::<serde_json::Value>(&listed.out).unwrap_or_default().as_array().into_iter().flatten() {
        let short = run["run"].as_str().unwrap().rsplit('-').next().unwrap();
        text = text.replace(&format!(" {short}"), " [id]").replace(&format!("\n{short} "), "\n[id] ");
    }
    insta::with_settings!({filters => FILTERS.to_vec(), prepend_module_to_snapshot => false, omit_expression => true}, {
        insta::assert_snapshot!(name, text);
    });
}

#[test]
fn a_first_day() {
    let tiny = shed();
    let first = story(&tiny, &[&["plan"], &["run"], &["run"], &["data"], &["data", "versions", "yarn"], &["trace", "counts.txt"]]);
    shown(&tiny, "first-day", first);
    tiny.write("yarn.csv", tiny.read("yarn.csv").replace("L02,18", "L02,21") + "6,L06,9\n");
    let second = story(
        &tiny,
        &[
            &["plan"],
            &["run", "--set", "least=21"],
            &["compare", "last~1", "last"],
            &["data", "diff", "yarn@1", "yarn@2"],
            &["data", "find", "yarn", "--where", "count < 15"],
            &["runs"],
        ],
    );
    shown(&tiny, "second-day", second);
    let third = story(
        &tiny,
        &[
            &["restore", "last~1"],
            &["rebuild", "last~1"],
            &["verify"],
            &["prune", "--newest", "1", "--dry-run"],
            &["restore", "yarn@1"],
            &["run"],
        ],
    );
    shown(&tiny, "third-day", third);
}

#[test]
fn what_goes_wrong() {
    let tiny = shed();
    tiny.write("count.sh", "echo counting\necho 'no looms in this shed' >&2\nexit 3\n");
    let failed = story(&tiny, &[&["run"], &["show", "last"], &["plan"], &["resume"]]);
    shown(&tiny, "a-stage-that-fails", failed);
    let asked = story(
        &tiny,
        &[
            &["show", "nobody"],
            &["restore", "yarn@7"],
            &["trace", "nowhere.txt"],
            &["run", "--set", "leest=3"],
            &["runs", "--where", "share >"],
            &["data", "find", "yarn", "--where", "cuont > 3"],
            &["rebuild", "last"],
            &["data", "diff", "yarn@1", "yarn@9"],
            &["plan", "nostage"],
        ],
    );
    shown(&tiny, "questions-without-an-answer", asked);
    tiny.write(
        "textum.toml",
        tiny.read("textum.toml").replace("reads = [\"yarn.csv\"]", "raeds = [\"yarn.csv\"]").replace("share >=", "share >>"),
    );
    shown(&tiny, "mistakes", story(&tiny, &[&["plan"]]));
}

#[test]
fn gates_and_damage() {
    let tiny = shed();
    let low = story(&tiny, &[&["run", "--set", "least=40"], &["run"], &["runs", "--by", "share"], &["show", "last"]]);
    shown(&tiny, "a-gate-that-does-not-hold", low);
    let packs: Vec<_> = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path()).collect();
    for pack in packs.iter().filter(|p| p.extension().is_some_and(|e| e == "pack")) {
        let mut bytes = std::fs::read(pack).unwrap();
        let at = bytes.windows(6).position(|w| w == b"broken");
        if let Some(at) = at {
            bytes[at] ^= 1;
            std::fs::write(pack, bytes).unwrap();
        }
    }
    let damaged = textum(&tiny, &["verify", "--deep"]);
    assert_eq!(damaged.status, 4, "{}{}", damaged.out, damaged.err);
    assert!(
        damaged.out.contains("yarn@1") || damaged.err.contains("yarn@1"),
        "the version is named: {}{}",
        damaged.out,
        damaged.err
    );
    textum(&tiny, &["restore", "yarn@1", "-o", "out"]).expect(4);
    assert!(!tiny.has("out/yarn.csv"), "damaged bytes are never handed out");
}

/// A run's own log: what happened in it, in order, each with its time; what a stage printed stays apart.
#[test]
fn what_is_published_used_and_taken_back() {
    let tiny = crate::publishing::shed();
    let mut text = story(
        &tiny,
        &[
            &["registry"],
            &["publish", "stops"],
            &["alias", "stops@1", "live"],
            &["publish", "stops"],
            &["run", "-q", "--set", "fit.rate=3", "--set", "fit.auc=0.9"],
            &["publish", "stops"],
            &["registry", "list"],
            &["registry", "show", "stops"],
            &["registry", "show", "stops@2"],
            &["alias", "stops@2", "live", "--only-if", "@1"],
            &["fetch", "stops@live", "-o", "out", "--check"],
            &["impact", "rows@1"],
            &["alias", "stops@1", "live"],
            &["retire", "stops@2", "--because", "its lint was wrong"],
            &["registry", "history"],
            &["registry", "check"],
            &["alias", "stops@2", "live"],
            &["snippet", "stops@live"],
        ],
    );
    // The digest of the interpreter's list, and which packages it has, are the machine's.
    text = text.lines().filter(|line| !line.trim_start().starts_with("uses ")).map(|line| format!("{line}\n")).collect();
    shown(&tiny, "what_is_published_used_and_taken_back", text);
}

#[test]
fn the_log_of_a_run_says_what_happened_and_when() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let shown = textum(&tiny, &["show", "last", "--log"]).expect(0).out;
    let place = |what: &str| shown.find(what).unwrap_or_else(|| panic!("{what} is not in\n{shown}"));
    assert!(place("begun: upper, count") < place("upper  started"), "{shown}");
    assert!(place("upper  started") < place("upper  ran") && place("upper  ran") < place("count  ran"), "{shown}");
    let logged = textum(&tiny, &["show", "last", "--log", "--format", "json"]).expect(0).json();
    let times: Vec<&str> = logged.as_array().unwrap().iter().map(|l| l["at"].as_str().unwrap()).collect();
    assert!(times.len() >= 5 && times.is_sorted(), "{times:?}");
    // It is a content like others: verified, kept by a prune, of every run of a sweep too.
    textum(&tiny, &["run", "--vary", "count.from=3,4", "-q"]).expect(0);
    textum(&tiny, &["prune", "--yes"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["show", "last", "--log"]).expect(0).says("begun: upper, count");
}

/// What Textum itself does is told when the environment asks for it, and results are none the worse for it.
#[test]
fn what_textum_does_is_told_when_asked_for() {
    let tiny = two_stages();
    let quiet = textum(&tiny, &["plan", "--format", "json"]).expect(0);
    let told = tiny.textum_with(crate::TEXTUM, &["plan", "--format", "json"], &[("TEXTUM_LOG", "debug")]).expect(0);
    assert_eq!(told.out, quiet.out);
    assert!(told.err.contains("plan: textum_core") && told.err.contains("time.busy"), "{}", told.err);
    let only = tiny.textum_with(crate::TEXTUM, &["plan"], &[("TEXTUM_LOG", "textum_core::record=debug")]).expect(0);
    assert!(!only.err.contains("plan:"), "{}", only.err);
    tiny.textum_with(crate::TEXTUM, &["plan"], &[("TEXTUM_LOG", "loud=please")]).expect(0).warns("TEXTUM_LOG is `loud=please`");
    assert!(!tiny.textum_with(crate::TEXTUM, &["plan"], &[("TEXTUM_LOG", "")]).expect(0).err.contains("TEXTUM_LOG"));
}
