//! What others may rely on: published, allowed, moved, taken back; and who may do that.

use serde_json::Value;
use textum_testkit::{Ran, Tiny};

use crate::{TEXTUM, textum};

/// A model that multiplies, and scores that go with its factor.
pub const MODEL: &str = r#"
[params]
fit = { rate = 2, auc = 0.8 }

[data.rows]
path = "rows.csv"

[stage.fit]
run     = "mkdir -p build; echo {fit.rate} > build/model.txt; printf '{\"auc\": %s}' {fit.auc} > build/scores.json; cat rows.csv > build/rows.csv"
reads   = ["rows.csv"]
params  = ["fit"]
writes  = ["build/model.txt", "build/rows.csv"]
metrics = ["build/scores.json"]

[metric.auc]
better = "higher"

[model.stops]
about   = "Which looms will stop"
files   = ["build/model.txt"]
code    = ["predict.sh"]
predict = "sh predict.sh"
input   = "build/rows.csv"
target  = "stopped"
rows    = 3
check   = "auc >= 0.5 and auc >= live.auc - 0.05"
"#;

/// The command that predicts.
pub const PREDICT: &str =
    "factor=$(cat build/model.txt)\nawk -F, -v f=\"$factor\" 'NR == 1 { print \"loom,risk\"; next } { print $1 \",\" $2 * f }'\n";

/// Rows that it was trained on.
pub const ROWS: &str =
    "loom,lint,since,stopped\nL01,1.5,2026-11-02,1\nL02,2,2026-11-03,0\nL03,,2026-11-04,0\nL04,7.25,2026-11-05,1\n";

/// A project with a model, run once.
pub fn shed() -> Tiny {
    let tiny = Tiny::new();
    begin(&tiny, "");
    textum(&tiny, &["run"]).expect(0);
    tiny
}

/// Writes the project, with more in its manifest.
pub fn begin(tiny: &Tiny, more: &str) {
    tiny.manifest(&format!("{MODEL}{more}"));
    tiny.write("rows.csv", ROWS);
    tiny.write("predict.sh", PREDICT);
}

/// Whether keys can be made here.
pub fn can_make_keys() -> bool {
    let can = std::process::Command::new("ssh-keygen").arg("-?").output().is_ok();
    if !can {
        eprintln!("not run: there is no ssh-keygen");
    }
    can
}

/// The same with the keys of three people beside it; none where none can be made.
pub fn shed_with_keys() -> Option<Tiny> {
    if !can_make_keys() {
        return None;
    }
    let tiny = shed();
    for name in ["ada", "bo", "eve"] {
        let words = ["-q", "-t", "ed25519", "-N", "", "-C", name, "-f", name];
        tiny.textum("ssh-keygen", &words).expect(0);
    }
    Some(tiny)
}

fn json(tiny: &Tiny, words: &[&str]) -> Value {
    textum(tiny, &[words, &["--format", "json"]].concat()).expect(0).json()
}

fn retrain(tiny: &Tiny, rate: &str, auc: &str) -> Ran {
    textum(tiny, &["run", "--set", &format!("fit.rate={rate}"), "--set", &format!("fit.auc={auc}")]).expect(0)
}

#[test]
fn a_model_is_published_named_shown_and_taken_back() {
    let tiny = shed();
    let said = textum(&tiny, &["publish", "stops"]).expect(0);
    said.says("stops@1 is published at this project: 2 files").says("3 example rows predicted, twice the same").warns("not signed");
    // The same content is the same version, whatever was run meanwhile.
    retrain(&tiny, "3", "0.8");
    retrain(&tiny, "2", "0.8");
    textum(&tiny, &["publish", "stops"]).expect(0).says("stops@1 is the same content");
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0).says("live names stops@1 now; before it named nothing");
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0).says("live names stops@1 already");
    // What does not hold is refused with both figures, and nothing is entered.
    retrain(&tiny, "4", "0.7");
    let refused = textum(&tiny, &["publish", "stops"]).expect(1);
    refused.warns("does not hold: auc is 0.7, live.auc is 0.8");
    retrain(&tiny, "5", "0.9");
    textum(&tiny, &["publish", "stops"]).expect(0).says("auc 0.9, live.auc 0.8").says("better");
    textum(&tiny, &["alias", "stops@2", "live", "--only-if", "none"]).expect(1).warns("was to be new, and names stops@1");
    textum(&tiny, &["alias", "stops@2", "live", "--only-if", "@2"]).expect(1).warns("was to name stops@2 still, and names stops@1");
    textum(&tiny, &["alias", "stops@2", "live", "--only-if", "@1"]).expect(0);
    let found = json(&tiny, &["registry", "show", "stops@live"]);
    assert_eq!((&found["version"], &found["aliases"][0]), (&2.into(), &"live".into()));
    let bundle = &found["bundle"];
    assert_eq!(bundle["data"]["rows"]["version"], 1);
    assert_eq!(bundle["metrics"]["auc"], 0.9);
    assert_eq!(bundle["run"]["params"]["fit.rate"], "5");
    assert_eq!(bundle["proof"]["rows"], 3);
    let kinds: Vec<&str> = bundle["input"]["columns"].as_array().unwrap().iter().map(|c| c["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["text", "number", "date"]);
    textum(&tiny, &["registry", "show", "stops@2"]).expect(0).says("rows@1").says("stages fit").says("@1");
    // Taken back: not while something names it; then no alias can.
    textum(&tiny, &["retire", "stops@2", "--because", "wrong lint"]).expect(1).warns("stops@2 is still live");
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    textum(&tiny, &["retire", "stops@2", "--because", "wrong lint"]).expect(0);
    textum(&tiny, &["alias", "stops@2", "live"]).expect(1).warns("stops@2 is retired");
    textum(&tiny, &["registry", "show", "stops"]).expect(0).says("retired: wrong lint");
    assert_eq!(json(&tiny, &["fetch", "stops", "-o", "out"])["version"], 1, "a name alone does not mean what was taken back");
    textum(&tiny, &["note", "stops@1", "runs in the shed"]).expect(0);
    textum(&tiny, &["registry", "show", "stops@1"]).expect(0).says("runs in the shed");
    textum(&tiny, &["alias", "stops", "live", "--clear"]).expect(0).says("live names nothing now");
    textum(&tiny, &["registry", "check"]).expect(0).says("whole: 8 entries in one chain, 0 of them signed; 2 versions");
    let history = json(&tiny, &["registry", "history"]);
    assert_eq!(history.as_array().unwrap().len(), 8);
    assert!(history.as_array().unwrap().iter().all(|e| e["invalid"].is_null()));
}

#[test]
fn a_version_of_a_dataset_is_published_and_fetched() {
    let tiny = shed();
    textum(&tiny, &["publish", "rows@1"]).expect(0).says("rows@1 is published");
    textum(&tiny, &["publish", "rows@2"]).expect(3);
    textum(&tiny, &["publish", "rows@1", "last"]).expect(2).warns("leave the run out");
    textum(&tiny, &["fetch", "rows@1", "-o", "out"]).expect(0);
    assert_eq!(tiny.read("out/rows.csv"), ROWS);
    textum(&tiny, &["fetch", "rows@1", "-o", "out", "--check"]).expect(2).warns("without a proof");
    // A section that takes models takes no data.
    textum(&tiny, &["registry", "section", "weaving", "--accepts", "model"]).expect(0);
    tiny.write("rows.csv", format!("{ROWS}L05,1,2026-11-06,0\n"));
    textum(&tiny, &["data", "record", "rows"]).expect(0);
    textum(&tiny, &["publish", "rows@2", "--section", "weaving"]).expect(1).warns("accepts model, and rows is data");
}

#[test]
fn keys_decide_who_may_do_what() {
    let Some(tiny) = shed_with_keys() else { return };
    let by = |key: &str, words: &[&str]| textum(&tiny, &[words, &["--key", key]].concat());
    let section = ["registry", "section", "weaving", "--accepts", "model", "--guard", "live=1", "--signed"];
    by("ada", &section).expect(0).says("keeper");
    // A look makes nothing, not even of a wrongly written name.
    textum(&tiny, &["registry", "section", "weavin"]).expect(3).warns("did you mean `weaving`?");
    textum(&tiny, &["publish", "stops", "--section", "weaving"])
        .expect(1)
        .warns("is not signed, and the section weaving demands it");
    by("bo", &["publish", "stops", "--section", "weaving"]).expect(1).warns("has no role in the section weaving");
    by("bo", &["registry", "role", "weaving", "publisher", "bo.pub"]).expect(1).warns("it takes keeper");
    by("ada", &["registry", "role", "weaving", "publisher", "bo.pub"]).expect(0).says("publisher  bo");
    by("bo", &["publish", "stops", "--section", "weaving"]).expect(0);
    by("bo", &["alias", "stops@1", "live"]).expect(1).warns("it takes 1 of the reviewers' approvals");
    by("bo", &["registry", "approve", "stops@1", "--for", "live"]).expect(1).warns("it takes reviewer");
    // Who published it may review, but not alone.
    by("ada", &["registry", "role", "weaving", "reviewer", "bo.pub"]).expect(0);
    by("bo", &["registry", "approve", "stops@1", "--for", "live"]).expect(0).says("it takes somebody else too");
    by("bo", &["alias", "stops@1", "live"]).expect(1).warns("it takes somebody else too");
    // Options that would say nothing are refused.
    textum(&tiny, &["note", "last", "x", "--unsigned"]).expect(2).warns("say nothing of a note of a run");
    textum(&tiny, &["compare", "last", "last", "--depot", "team"]).expect(2);
    textum(&tiny, &["trace", "last", "--key", "ada"]).expect(2).warns("only --format intoto");
    textum(&tiny, &["publish", "stops", "--option", "a=b"]).expect(2);
    by("ada", &["registry", "role", "weaving", "reviewer", "eve.pub", "--holder", "Eve", "--until", "2099-12-31"]).expect(0);
    by("eve", &["registry", "approve", "stops@1", "--for", "live"]).expect(0).says("next: textum alias stops@1 live");
    by("bo", &["alias", "stops@1", "live"]).expect(0);
    textum(&tiny, &["registry", "show", "stops@live"]).expect(0).says("approved").says("(bo)");
    by("eve", &["retire", "stops@1", "--because", "x"]).expect(1).warns("is reviewer in the section weaving; it takes publisher");
    by("ada", &["registry", "role", "weaving", "publisher", "bo.pub", "--revoke"]).expect(0);
    by("bo", &["alias", "stops", "live", "--clear"]).expect(1).warns("is reviewer");
    by("ada", &["registry", "role", "weaving", "keeper", "ada.pub", "--revoke"]).expect(1).warns("without a keeper");
    textum(&tiny, &["registry", "history", "weaving"]).expect(0).says("no longer publisher");
}

#[test]
fn a_key_is_found_where_git_and_an_agent_have_it_and_others_judge_the_signature() {
    let Some(tiny) = shed_with_keys() else { return };
    let root = tiny.root().display().to_string();
    tiny.textum("git", &["init", "-q", "."]).expect(0);
    // What git signs with, signs here.
    let config = |name: &str, value: &str| drop(tiny.textum("git", &["config", name, value]).expect(0));
    config("gpg.format", "ssh");
    config("user.signingkey", &format!("{root}/bo.pub"));
    textum(&tiny, &["publish", "stops"]).expect(0);
    let entry = json(&tiny, &["registry", "history"])[0].clone();
    let fingerprint = tiny.textum("ssh-keygen", &["-lf", "bo.pub"]).expect(0).out;
    assert!(fingerprint.contains(entry["key"].as_str().unwrap()), "{fingerprint}");
    // The key of another kind of signature is none of ours.
    config("gpg.format", "openpgp");
    config("user.signingkey", "0123456789ABCDEF");
    textum(&tiny, &["note", "stops@1", "unsigned"]).expect(0);
    // OpenSSH itself judges the signature: of the encoding that DSSE says.
    let envelope: Value = serde_json::from_str(&tiny.read(".textum/registry/0000000001.json")).unwrap();
    tiny.write("envelope.json", envelope.to_string());
    let unpack = "import base64, json\ne = json.load(open('envelope.json'))\np = base64.b64decode(e['payload'])\nt = e['payloadType'].encode()\n\
        open('message', 'wb').write(b'DSSEv1 %d %s %d %s' % (len(t), t, len(p), p))\n\
        s = e['signatures'][0]['sig']\nlines = [s[i:i + 70] for i in range(0, len(s), 70)]\n\
        open('message.sig', 'w').write('-----BEGIN SSH SIGNATURE-----\\n' + '\\n'.join(lines) + '\\n-----END SSH SIGNATURE-----\\n')\n";
    tiny.textum("python3", &["-c", unpack]).expect(0);
    tiny.write("allowed", format!("bo {}", tiny.read("bo.pub")));
    let judge = "ssh-keygen -Y verify -f allowed -I bo -n textum-registry -s message.sig < message";
    tiny.textum("sh", &["-c", judge]).expect(0).says("Good \"textum-registry\" signature for bo");
    tiny.textum("sh", &["-c", &format!("echo >> message; {judge}")]).expect(255);
    // A key with a passphrase signs by way of the agent, and says so where there is none.
    tiny.textum("ssh-keygen", &["-q", "-t", "ecdsa", "-N", "warp and weft", "-f", "locked"]).expect(0);
    textum(&tiny, &["note", "stops@1", "x", "--key", "locked"]).expect(2).warns("is protected by a passphrase").warns("ssh-add");
    textum(&tiny, &["note", "stops@1", "x", "--key", "locked.pub"]).expect(2).warns("protected by a passphrase");
    textum(&tiny, &["note", "stops@1", "x", "--key", "nowhere"]).expect(2).warns("nowhere cannot be read");
    textum(&tiny, &["note", "stops@1", "x", "--key", "rows.csv"]).expect(2).warns("rows.csv cannot be read");
    std::fs::copy(tiny.path("ada"), tiny.path("for-agent")).unwrap();
    let with_agent = format!(
        "eval $(ssh-agent) > /dev/null; trap 'kill $SSH_AGENT_PID' EXIT; chmod 600 for-agent; ssh-add -q for-agent; rm for-agent ada; \
         {TEXTUM} note stops@1 'by the agent' --key ada.pub --format json"
    );
    let signed = tiny.textum("sh", &["-c", &with_agent]).expect(0).json();
    let number = signed["entry"].as_u64().unwrap() as usize;
    let last = json(&tiny, &["registry", "history"])[number - 1].clone();
    let fingerprint = tiny.textum("ssh-keygen", &["-lf", "ada.pub"]).expect(0).out;
    assert!(fingerprint.contains(last["key"].as_str().unwrap()), "{fingerprint} {last}");
    textum(&tiny, &["note", "stops@1", "x", "--key", "ada.pub"]).expect(2).warns("only the public half is here");
    let rsa = "ssh-keygen -q -t rsa -b 2048 -N '' -f rsa";
    tiny.textum("sh", &["-c", rsa]).expect(0);
    textum(&tiny, &["note", "stops@1", "by RSA", "--key", "rsa"]).expect(0);
    textum(&tiny, &["registry", "check"]).expect(0).says("whole");
}

#[test]
fn a_log_that_was_tampered_with_is_told_and_nothing_is_entered() {
    let tiny = shed();
    textum(&tiny, &["publish", "stops"]).expect(0);
    for text in ["one", "two", "three"] {
        textum(&tiny, &["note", "stops@1", text]).expect(0);
    }
    let path = |n: u64| format!(".textum/registry/{n:010}.json");
    let all: Vec<String> = (1..=4).map(|n| tiny.read(&path(n))).collect();
    let refused = |what: &str| {
        textum(&tiny, &["registry", "check"]).expect(4).says(what);
        textum(&tiny, &["alias", "stops@1", "live"]).expect(4).warns("is not whole");
        textum(&tiny, &["fetch", "stops@1", "-o", "out"]).expect(4).warns("is not whole");
        assert!(!tiny.has("out"));
        assert!(!tiny.has(&path(5)));
    };
    // The last one is gone; is another; says something that it did not.
    std::fs::remove_file(tiny.path(&path(4))).unwrap();
    refused("the log was cut; it ends at 3, and this machine had read it up to 4");
    tiny.write(&path(4), &all[2]);
    refused("entry 4");
    tiny.write(&path(4), "{}");
    refused("was rewritten");
    textum(&tiny, &["registry", "history"]).expect(4).says("stops@1 published").warns("entry 4 was rewritten");
    tiny.write(&path(4), &all[3]);
    textum(&tiny, &["registry", "check"]).expect(0);
    // Something else beside the entries is nothing of the log.
    tiny.write(".textum/registry/README", "x");
    tiny.write(".textum/registry/5.json", "x");
    textum(&tiny, &["registry", "check"]).expect(0).says("4 entries");
}

#[test]
fn words_that_name_nothing_are_told_with_what_to_do() {
    let tiny = shed();
    textum(&tiny, &["registry"]).expect(0).warns("nothing is published at this project yet");
    textum(&tiny, &["publish", "stop"]).expect(3).warns("did you mean `stops`?");
    textum(&tiny, &["publish", "stops", "nope"]).expect(3);
    textum(&tiny, &["fetch", "stops@1"]).expect(3).warns("nothing is published as `stops`");
    textum(&tiny, &["publish", "stops"]).expect(0);
    let cases: [(&[&str], i32, &str); 16] = [
        (&["registry", "show", "stpos"], 3, "did you mean `stops`?"),
        (&["registry", "show", "stops@7"], 3, "there is no stops@7: the newest version is 1"),
        (&["registry", "show", "stops@live"], 3, "stops has no alias `live`"),
        (&["registry", "show", "stops@v1"], 2, "names nothing that could be published"),
        (&["registry", "show", "../x@1"], 2, "names nothing that could be published"),
        (&["registry", "history", "stosp"], 3, "did you mean `stops`?"),
        (&["alias", "stops@1", "3"], 2, "`3` cannot be an alias"),
        (&["alias", "stops@1", "v2"], 2, "cannot be an alias"),
        (&["alias", "stops", "live"], 2, "names no published version"),
        (&["alias", "stops@1", "live", "--only-if", "two"], 2, "`two` is no version"),
        (&["alias", "stops", "live", "--clear"], 1, "stops has no alias live"),
        (&["alias", "stops@1", "live", "--clear"], 2, "is no published name"),
        (&["retire", "stops@1", "--because", " "], 2, "it is not said why"),
        (&["registry", "section", "a/b", "--signed"], 2, "cannot be the name of a section"),
        (&["registry", "section", "weaving", "--guard", "v1=1"], 2, "guards no alias"),
        (&["registry", "role", "weaving", "keeper", "rows.csv"], 2, "is no public key"),
    ];
    for (words, status, said) in cases {
        textum(&tiny, words).expect(status).warns(said);
    }
    assert_eq!(json(&tiny, &["registry", "history"]).as_array().unwrap().len(), 1, "none of that was entered");
    // A card is text.
    tiny.write("card.md", b"\xff\xfe");
    textum(&tiny, &["card", "stops@1", "--take", "card.md"]).expect(2).warns("is no text");
    tiny.write("card.md", "\n");
    textum(&tiny, &["card", "stops@1", "--take", "card.md"]).expect(2);
    textum(&tiny, &["card", "stops@1", "-o", "new.md"]).expect(0);
    textum(&tiny, &["card", "stops@1", "-o", "new.md"]).expect(2).warns("is there already");
    let text = tiny.read("new.md");
    assert!(text.contains("To be written by a person") && text.contains("| auc | 0.8 | higher |"), "{text}");
    tiny.write("new.md", text.replace("_To be written by a person", "For the weaving shed alone. _"));
    textum(&tiny, &["card", "stops@1", "--take", "new.md"]).expect(0);
    textum(&tiny, &["card", "stops@1"]).expect(0).says("For the weaving shed alone");
}

#[test]
fn a_command_that_does_not_predict_is_told_before_anything_is_entered() {
    let tiny = shed();
    let cases = [
        ("sh predict.sh | head -2", "answered 1 rows to 3"),
        ("cat > /dev/null", "answered nothing"),
        ("cat predict.sh; exit 3", "did not predict (exit status: 3)"),
        ("echo 'no module named yarn' >&2; exit 1", "no module named yarn"),
        ("sleep 600 & sleep 600", "had not answered within 1 s"),
        (
            "sh predict.sh; mkfifo f; setsid sh -c 'echo > f; exec sleep 5' & read x < f",
            "left something at work that still holds its output",
        ),
        ("sh predict.sh; cat ../../build/model.txt", "No such file"),
        (
            "sh predict.sh | awk 'BEGIN { srand(); \"cat /proc/sys/kernel/random/uuid\" | getline u } NR == 1 { print; next } { print $0 u }'",
            "otherwise each time",
        ),
    ];
    let manifest = tiny.read("textum.toml").replace("rows    = 3", "rows    = 3\ntime    = \"1s\"");
    for (command, said) in cases {
        tiny.write("textum.toml", manifest.replace("sh predict.sh", &command.replace('\\', "\\\\").replace('"', "\\\"")));
        textum(&tiny, &["publish", "stops"]).expect(1).warns(said);
        assert!(!tiny.has(".textum/registry"), "{command}");
    }
    // Neither are rows that are none, and files that nobody wrote.
    for (from, to, status, said) in [
        ("input   = \"build/rows.csv\"", "input = \"build/nothing.csv\"", 3, "neither wrote nor read `build/nothing.csv`"),
        ("target  = \"stopped\"", "target = \"stoped\"", 2, "did you mean `stopped`?"),
        ("input   = \"build/rows.csv\"\ntarget  = \"stopped\"", "", 2, "has no rows to be tried by"),
        ("code    = [\"predict.sh\"]", "code = [\"predict.py\"]", 3, "`predict.py`, which the model needs, does not exist"),
        ("files   = [\"build/model.txt\"]", "files = [\"rows.csv\"]", 2, "no stage writes `rows.csv`"),
        ("rows    = 3", "rows = 0", 2, "an example has 1 to 10000 rows"),
        ("time    = \"1s\"", "time = \"soon\"", 2, "`soon` is no time"),
        ("auc >= 0.5", "auc >= ", 2, "the condition"),
    ] {
        let text = manifest.replace(from, to);
        let text = if to.is_empty() { text.replace("rows    = 3\ntime    = \"1s\"\n", "") } else { text };
        assert_ne!(text, manifest, "{from}");
        tiny.write("textum.toml", text);
        textum(&tiny, &["publish", "stops"]).expect(status).warns(said);
    }
    let empty = manifest.replace("cat rows.csv >", "head -1 rows.csv >");
    tiny.write("textum.toml", &empty);
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["publish", "stops"]).expect(2).warns("has no rows: there would be no example");
    assert!(!tiny.has(".textum/registry"));
}

#[test]
fn what_is_published_outlives_pruning() {
    let tiny = shed();
    textum(&tiny, &["publish", "stops"]).expect(0);
    tiny.write("predict.sh", "exit 1\n");
    let manifest = tiny.read("textum.toml");
    tiny.write("textum.toml", manifest.split("[model.stops]").next().unwrap());
    for rate in ["3", "4"] {
        retrain(&tiny, rate, "0.8");
    }
    textum(&tiny, &["rebuild", "last~2"]).expect(0);
    textum(&tiny, &["prune", "--keep-newest", "1", "--last-outputs", "--yes"]);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["fetch", "stops@1", "-o", "out", "--check"]).expect(0).says("predictions as before");
    textum(&tiny, &["registry", "check"]).expect(0).says("whole");
}

/// Eight machines publish at once by a depot: each gets a number, nothing is lost, and all of them read the same.
fn race(url: &str, options: &[&str], variables: &[(&str, &str)]) {
    let outer = Tiny::new();
    let machines: Vec<Tiny> = (0..8).map(|n| Tiny::at(&outer.path(&format!("machine-{n}")))).collect();
    let on = |machine: &Tiny, words: &[&str]| machine.textum_with(TEXTUM, words, variables);
    for (n, machine) in machines.iter().enumerate() {
        begin(machine, "");
        let text = machine.read("textum.toml").replace("rate = 2", &format!("rate = {}", n + 10));
        machine.write("textum.toml", text);
        on(machine, &[&["depot", "add", "team", url], options].concat()).expect(0);
    }
    let mut versions: Vec<u64> = std::thread::scope(|scope| {
        let all: Vec<_> = machines
            .iter()
            .map(|machine| {
                scope.spawn(|| {
                    on(machine, &["run"]).expect(0);
                    let published = on(machine, &["publish", "stops", "--format", "json"]).expect(0).json();
                    published["version"].as_u64().unwrap()
                })
            })
            .collect();
        all.into_iter().map(|one| one.join().unwrap()).collect()
    });
    versions.sort_unstable();
    assert_eq!(versions, [1, 2, 3, 4, 5, 6, 7, 8]);
    let list = |machine: &Tiny| on(machine, &["registry", "show", "stops", "--format", "json"]).expect(0).json();
    let lists: Vec<Value> = machines.iter().map(list).collect();
    assert!(lists.iter().all(|list| *list == lists[0]));
    on(&machines[0], &["registry", "check"]).expect(0).says("whole: 8 entries in one chain");
    // Every one of them predicts as it did, from anywhere.
    let address = url.strip_prefix("../").map_or_else(|| url.to_string(), |below| outer.path(below).display().to_string());
    for version in 1..=8 {
        let (reference, folder) = (format!("stops@{version}"), format!("out-{version}"));
        let words = ["fetch", &reference, "--depot", &address, "-o", &folder, "--check"];
        on(&outer, &[&words[..], options].concat()).expect(0).says("predictions as before");
    }
}

#[test]
fn publishers_who_race_by_a_folder_each_get_a_number() {
    race("../depot", &[], &[]);
}

#[test]
fn publishers_who_race_by_a_bucket_each_get_a_number() {
    let variable = |name: &str| std::env::var(name).ok();
    let (Some(endpoint), Some(bucket)) = (variable("S3_ENDPOINT"), variable("S3_BUCKET")) else {
        eprintln!("not run over S3: S3_ENDPOINT and S3_BUCKET name no server");
        return;
    };
    let id = Tiny::new().root().file_name().unwrap().to_string_lossy().into_owned();
    let (url, endpoint) = (format!("s3://{bucket}/race-{id}"), format!("endpoint={endpoint}"));
    let names = ["AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY", "AWS_REGION"];
    let values: Vec<String> = names.iter().map(|name| variable(name).unwrap_or_default()).collect();
    let variables: Vec<(&str, &str)> = names.iter().copied().zip(values.iter().map(String::as_str)).collect();
    race(&url, &["--option", &endpoint], &variables);
}

#[test]
fn killed_while_publishing_the_log_is_whole_and_the_next_try_goes_on() {
    let outer = Tiny::new();
    let tiny = Tiny::at(&outer.path("shed"));
    begin(&tiny, "");
    textum(&tiny, &["depot", "add", "team", "../depot"]).expect(0);
    for round in 0..textum_testkit::many("TEXTUM_KILLS", 12) {
        retrain(&tiny, &(round + 10).to_string(), "0.8");
        let mut child = tiny.start(TEXTUM, &["publish", "stops"]);
        std::thread::sleep(std::time::Duration::from_millis(u64::from(round * 7 % 90)));
        let _ = child.kill();
        child.wait().unwrap();
        textum(&tiny, &["registry", "check"]).expect(0).says("whole");
        let published = json(&tiny, &["publish", "stops"]);
        assert!(published["version"].as_u64().unwrap() > 0);
    }
    let versions = json(&tiny, &["registry", "show", "stops"])["versions"].as_array().unwrap().len() as u64;
    let entries = json(&tiny, &["registry", "history"]).as_array().unwrap().len() as u64;
    assert_eq!(versions, entries, "nothing was published twice");
    for version in [1, versions] {
        let (reference, folder) = (format!("stops@{version}"), format!("out-{version}"));
        textum(&tiny, &["fetch", &reference, "-o", &folder, "--check"]).expect(0).says("predictions as before");
    }
    textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
}

#[test]
fn what_people_write_harms_neither_terminals_nor_pages() {
    let tiny = shed();
    let hostile = "\u{1b}[2J<script>alert(1)</script>\u{202e}|x|\nentry 9 forged";
    textum(&tiny, &["publish", "stops"]).expect(0);
    textum(&tiny, &["note", "stops@1", hostile]).expect(0);
    textum(&tiny, &["registry", "section", "weaving", "--purpose", hostile]).expect(0);
    textum(&tiny, &["retire", "stops@1", "--because", hostile]).expect(0);
    for words in [
        &["registry", "list"][..],
        &["registry", "show", "stops"],
        &["registry", "show", "stops@1"],
        &["registry", "show", "stops@1", "--format", "md"],
        &["registry", "history"],
        &["registry", "history", "--format", "md"],
        &["registry", "section", "weaving"],
        &["registry", "check"],
        &["card", "stops@1"],
        &["fetch", "stops@1", "-o", "out"],
    ] {
        let ran = textum(&tiny, words).expect(0);
        assert!(
            !ran.out.contains('\u{1b}') && !ran.out.contains('\u{202e}') && !ran.err.contains('\u{1b}'),
            "{words:?}: {}",
            ran.out
        );
        assert!(!ran.out.lines().any(|line| line.trim_start().starts_with("entry 9 forged")), "{words:?}: {}", ran.out);
        if words.contains(&"md") {
            assert!(!ran.out.contains("<script>"), "{words:?}: {}", ran.out);
        }
    }
    // Neither does the name of a file in a page.
    tiny.write("<img src=x onerror=alert(1)>.txt", "x");
    let page = textum(&tiny, &["impact", "<img src=x onerror=alert(1)>.txt", "--format", "html"]).expect(0).out;
    assert!(page.contains("&lt;img") && !page.contains("<img"), "{page}");
}

#[test]
fn storage_that_would_give_one_number_to_two_is_refused_before_the_first_entry() {
    let outer = Tiny::new();
    let dav = textum_testkit::Dav::new(&outer.path("served"));
    let tiny = Tiny::at(&outer.path("shed"));
    begin(&tiny, "");
    textum(&tiny, &["depot", "add", "team", &dav.url()]).expect(0).says("not for a registry");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["publish", "stops"]).expect(2).warns("could have one number").warns("S3");
    textum(&tiny, &["registry", "section", "weaving", "--signed"]).expect(2);
    textum(&tiny, &["registry"]).expect(0).warns("nothing is published");
    // A second depot may have it; which of the two is to be said.
    textum(&tiny, &["depot", "add", "folder", "../depot"]).expect(0);
    textum(&tiny, &["publish", "stops"]).expect(2).warns("[registry] depot");
    textum(&tiny, &["publish", "stops", "--depot", "folder"]).expect(0);
    let text = tiny.read("textum.toml");
    tiny.write("textum.toml", format!("{text}\n[registry]\ndepot = \"folder\"\n"));
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    tiny.write("textum.toml", format!("{text}\n[registry]\ndepot = \"foldr\"\n"));
    textum(&tiny, &["registry"]).expect(2).warns("did you mean `folder`?");
}
