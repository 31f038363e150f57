//! A project through a random life: edits, runs, sandboxes, restores, rebuilds, pruning, in any order. After every
//! command: nothing that a person wrote is gone, `verify` finds all there, results are those of the inputs. In the
//! end every run's outputs come back, or can be made again where they were dropped.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use proptest::prelude::*;
use textum_core::store::{Digest, Store};
use textum_testkit::{Ran, Tiny, many};

use crate::textum;

#[derive(Clone, Debug)]
enum Act {
    Data(u8),
    Code(u8),
    Param(u8),
    /// A person writes over an output, or puts a folder with a file in its place.
    ByHand(u8, bool),
    Remove(usize),
    Run,
    Sandbox,
    Forced,
    Record,
    RestoreVersion(u8),
    RestoreRun(usize),
    Rebuild(usize),
    Prune,
    Repair,
    NoLedger,
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        3 => (0u8..4).prop_map(Act::Data),
        2 => (0u8..3).prop_map(Act::Code),
        2 => (0u8..3).prop_map(Act::Param),
        2 => (any::<u8>(), any::<bool>()).prop_map(|(n, folder)| Act::ByHand(n, folder)),
        1 => (0usize..3).prop_map(Act::Remove),
        6 => Just(Act::Run),
        2 => Just(Act::Sandbox),
        1 => Just(Act::Forced),
        1 => Just(Act::Record),
        2 => (1u8..4).prop_map(Act::RestoreVersion),
        2 => any::<usize>().prop_map(Act::RestoreRun),
        2 => any::<usize>().prop_map(Act::Rebuild),
        2 => Just(Act::Prune),
        1 => Just(Act::Repair),
        1 => Just(Act::NoLedger),
    ]
}

const OUTPUTS: [&str; 3] = ["build/a", "build/b/one", "scores.json"];

/// What a run is made of, as the test knows it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Inputs {
    data: u8,
    code: u8,
    param: u8,
}

impl Inputs {
    fn data(self) -> String {
        format!("yarn,{}\n", self.data).repeat(40)
    }

    fn code(self) -> String {
        format!("# version {}\nmkdir -p build; (echo {} $1; cat yarn.csv) > build/a\n", self.code, self.code)
    }

    fn outputs(self) -> [String; 3] {
        let a = format!("{} {}\n{}", self.code, self.param, self.data());
        [a.clone(), format!("{a}{a}"), format!("{{\"n\": {}}}", self.param)]
    }
}

struct Life {
    tiny: Tiny,
    now: Inputs,
    /// The data and code that lie there now: a restore changes them too.
    runs: Vec<(String, Inputs)>,
    /// All that a person wrote and Textum has taken in or moved aside: from then on it must stay.
    safe: BTreeSet<Vec<u8>>,
    /// The runs whose outputs may have been dropped.
    pruned: bool,
}

impl Life {
    fn new() -> Life {
        let now = Inputs { data: 0, code: 0, param: 0 };
        let tiny = Tiny::with(
            "[data.yarn]\npath = \"yarn.csv\"\n\n[params]\np = 0\n\n\
             [stage.a]\nrun = \"sh a.sh {p}\"\nreads = [\"yarn.csv\", \"a.sh\"]\nparams = [\"p\"]\nwrites = [\"build/a\"]\n\n\
             [stage.b]\nrun = \"mkdir -p build/b; cat build/a build/a > build/b/one; printf '{\\\"n\\\": %s}' {p} > scores.json\"\n\
             reads = [\"build/a\"]\nparams = [\"p\"]\nwrites = [\"build/b/\"]\nmetrics = [\"scores.json\"]\n",
        );
        tiny.write("yarn.csv", now.data());
        tiny.write("a.sh", now.code());
        Life { tiny, now, runs: Vec::new(), safe: BTreeSet::new(), pruned: false }
    }

    /// A command, with what a person had written before it looked for after it.
    fn call(&mut self, words: &[&str]) -> Ran {
        let derived: BTreeSet<Vec<u8>> =
            self.runs.iter().flat_map(|(_, i)| i.outputs()).chain(self.now.outputs()).map(String::into_bytes).collect();
        let own = self.tiny.snapshot().into_iter().filter(|(name, bytes)| !name.starts_with("textum") && !derived.contains(bytes));
        let before: BTreeSet<Vec<u8>> = own.map(|(_, bytes)| bytes).chain(self.safe.clone()).collect();
        let ran = textum(&self.tiny, words);
        self.nothing_is_lost(words, &before);
        let verified = textum(&self.tiny, &["verify"]);
        assert_eq!(verified.status, 0, "after {words:?}: {}{}", verified.out, verified.err);
        ran
    }

    /// What stood there before the command, or was taken in by an earlier one, is there, aside or in the store.
    fn nothing_is_lost(&mut self, words: &[&str], before: &BTreeSet<Vec<u8>>) {
        let moved = self.tiny.has(".textum/aside").then(|| Tiny::at(&self.tiny.path(".textum/aside")).snapshot());
        let aside = moved.unwrap_or_default();
        let aside: BTreeSet<Vec<u8>> = aside.into_iter().map(|(_, bytes)| bytes).collect();
        let there: BTreeSet<Vec<u8>> = self.tiny.snapshot().into_iter().map(|(_, bytes)| bytes).collect();
        let store = Store::open(&self.tiny.path(".textum/store"));
        for bytes in before {
            let safe = aside.contains(bytes) || store.read(&Digest::of(bytes)).is_ok_and(|found| found == *bytes);
            assert!(
                safe || (there.contains(bytes) && !self.safe.contains(bytes)),
                "{words:?} lost {:?}",
                String::from_utf8_lossy(bytes)
            );
            if safe {
                self.safe.insert(bytes.clone());
            }
        }
    }

    fn nth_run(&self, n: usize) -> Option<(String, Inputs)> {
        if self.runs.is_empty() { None } else { Some(self.runs[n % self.runs.len()].clone()) }
    }

    fn run(&mut self, more: &[&str]) {
        let param = format!("p={}", self.now.param);
        let ran = self.call(&[&["run", "--set", &param, "--format", "json"], more].concat()).expect(0).json();
        if ran["recorded"] == true {
            self.runs.push((ran["run"].as_str().unwrap().to_string(), self.now));
        }
        let folder = match ran["sandbox"].as_str() {
            Some(sandbox) if more.contains(&"--sandbox") => Path::new(sandbox).to_path_buf(),
            _ => self.tiny.root().to_path_buf(),
        };
        for (path, expected) in OUTPUTS.iter().zip(self.now.outputs()) {
            assert_eq!(std::fs::read_to_string(self.tiny.root().join(folder.join(path))).unwrap(), expected, "{path}");
        }
        if !more.contains(&"--sandbox") {
            let plan = self.call(&["plan", "--set", &param, "--format", "json"]).json();
            assert!(plan["stages"].as_array().unwrap().iter().all(|s| s["action"] == "up-to-date"), "{plan}");
        }
    }

    /// What lies there after a restore.
    fn look(&mut self) {
        let find = |text: String, made: &dyn Fn(Inputs) -> String, with: &dyn Fn(u8) -> Inputs| {
            (0u8..4).find(|n| made(with(*n)) == text).unwrap_or_else(|| panic!("nobody wrote {text:?}"))
        };
        let now = self.now;
        self.now.data = find(self.tiny.read("yarn.csv"), &Inputs::data, &|data| Inputs { data, ..now });
        self.now.code = find(self.tiny.read("a.sh"), &Inputs::code, &|code| Inputs { code, ..now });
    }

    fn act(&mut self, act: &Act) {
        match act {
            Act::Data(data) => {
                self.now.data = *data;
                self.tiny.write("yarn.csv", self.now.data());
            }
            Act::Code(code) => {
                self.now.code = *code;
                self.tiny.write("a.sh", self.now.code());
            }
            Act::Param(param) => self.now.param = *param,
            Act::ByHand(n, folder) => {
                let path = OUTPUTS[usize::from(*n) % 3];
                let _ = std::fs::remove_file(self.tiny.path(path));
                let _ = std::fs::remove_dir_all(self.tiny.path(path));
                let below = if *folder { format!("{path}/of-mine") } else { path.to_string() };
                self.tiny.write(&below, format!("by hand {n}\n"));
            }
            Act::Remove(n) => {
                let _ = std::fs::remove_file(self.tiny.path(OUTPUTS[*n]));
            }
            Act::Run => self.run(&[]),
            Act::Sandbox => self.run(&["--sandbox"]),
            Act::Forced => self.run(&["--force", "a"]),
            Act::Record => drop(self.call(&["data", "record"]).expect(0)),
            Act::RestoreVersion(n) => {
                let ran = self.call(&["restore", &format!("yarn@{n}")]);
                assert!([0, 3].contains(&ran.status), "{}{}", ran.out, ran.err);
                self.look();
            }
            Act::RestoreRun(n) => {
                let Some((run, inputs)) = self.nth_run(*n) else { return };
                let ran = self.call(&["restore", &run, "--code"]);
                assert!(ran.status == 0 || self.pruned, "{}{}", ran.out, ran.err);
                self.look();
                if ran.status == 0 {
                    assert_eq!((self.now.data, self.now.code), (inputs.data, inputs.code));
                    for (path, expected) in OUTPUTS.iter().zip(inputs.outputs()) {
                        assert!(self.tiny.read(path) == expected || ran.err.contains("drop") || ran.out.contains("drop"), "{path}");
                    }
                }
            }
            Act::Rebuild(n) => {
                let Some((run, _)) = self.nth_run(*n) else { return };
                self.call(&["rebuild", &run]).expect(0).says("identical");
            }
            Act::Prune => {
                self.call(&["prune", "--newest", "1", "--yes"]).expect(0);
                self.pruned = true;
            }
            Act::Repair => drop(self.call(&["verify", "--repair"]).expect(0)),
            Act::NoLedger => {
                for name in ["ledger.db", "ledger.db-wal", "ledger.db-shm"] {
                    let _ = std::fs::remove_file(self.tiny.path(&format!(".textum/{name}")));
                }
            }
        }
    }

    /// Everything recorded comes back as it was, or is made again.
    fn ends_well(&mut self) {
        let listed = self.call(&["runs", "--format", "json"]).expect(0).json();
        let names: BTreeSet<&str> = listed.as_array().unwrap().iter().map(|r| r["run"].as_str().unwrap()).collect();
        let known: BTreeSet<&str> = self.runs.iter().map(|(run, _)| run.as_str()).collect();
        assert_eq!(names, known, "every run is listed, and none else");
        let mut seen: BTreeMap<[String; 3], bool> = BTreeMap::new();
        for (at, (run, inputs)) in self.runs.clone().into_iter().enumerate() {
            let folder = format!("out-{at}");
            let ran = textum(&self.tiny, &["restore", &run, "-o", &folder]);
            let whole = OUTPUTS.iter().zip(inputs.outputs()).all(|(path, expected)| {
                std::fs::read_to_string(self.tiny.path(&folder).join(path)).is_ok_and(|found| found == expected)
            });
            if !whole {
                assert!(self.pruned, "{}{}", ran.out, ran.err);
                if seen.insert(inputs.outputs(), true).is_none() {
                    textum(&self.tiny, &["rebuild", &run]).expect(0).says("identical");
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: many("TEXTUM_LIVES", 4),
        max_shrink_iters: 60,
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn nothing_is_lost_in_any_life(acts in prop::collection::vec(act(), 4..22)) {
        let mut life = Life::new();
        for act in &acts {
            life.act(act);
        }
        life.ends_well();
    }
}
