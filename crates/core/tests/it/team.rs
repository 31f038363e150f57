//! Machines with one depot: random histories on several of them, in which nothing is trained twice, nothing stale is handed
//! out and every run of anybody is rebuilt anywhere; and that what is said to travel is all that is needed.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use proptest::prelude::*;
use textum_core::event::{CancelToken, Silent};
use textum_core::inspect::lineage::find_target;
use textum_core::maintain::rebuild::{RebuildOptions, rebuild};
use textum_core::maintain::restore::{of_run, restore_into};
use textum_core::maintain::verify::verify;
use textum_core::pipeline::exec::{RunOptions, RunOutcome, run};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{RunReceipt, RunStageState, RunState, Verdict};
use textum_core::share::{Contents, Direction, SyncOptions, SyncOutcome, Wanted, contents_of, receive, sync};
use textum_depot::{Depot, DepotOptions, Folder, Interrupt};
use textum_testkit::{Tiny, many};

const PIPELINE: &str = "[depot.team]\nurl = \"../depot\"\n[data.yarn]\npath = \"yarn\"\n[params]\nn = 0\n\
    [stage.card]\nrun = \"mkdir -p b/slivers; cp yarn b/slivers/one; cat oil > b/slivers/two\"\nreads = [\"yarn\", \"oil\"]\nwrites = [\"b/slivers/\"]\n\
    [stage.weave]\nrun = \"sh weave.sh {n}\"\nreads = [\"b/slivers\", \"weave.sh\"]\nparams = [\"n\"]\nwrites = [\"b/cloth\"]\n";

/// Machines side by side, each with a clone.
struct Team {
    tiny: Tiny,
}

impl Team {
    fn new(machines: usize) -> Team {
        let tiny = Tiny::new();
        let state = tiny.path("made/depots");
        std::fs::create_dir_all(&state).unwrap();
        let options = DepotOptions {
            name: "team".into(),
            at: "../depot".into(),
            project: "looms".into(),
            state,
            jobs: 2,
            interrupt: Interrupt::default(),
        };
        let folder = std::sync::Arc::new(Folder::new(&tiny.path("depot")));
        Depot::open_or_create(folder, options, "ada@loom").unwrap();
        let team = Team { tiny };
        for machine in 0..machines {
            team.write(machine, "textum.toml", &format!("[project]\nname = \"looms\"\n{PIPELINE}"));
            for (name, text) in [("yarn", "wool 0\n"), ("oil", "oil 0\n"), ("weave.sh", &script(0))] {
                team.write(machine, name, text);
            }
        }
        team
    }

    fn write(&self, machine: usize, name: &str, text: &str) {
        self.tiny.write(&format!("m{machine}/{name}"), text);
    }

    fn read(&self, machine: usize, name: &str) -> String {
        self.tiny.read(&format!("m{machine}/{name}"))
    }

    fn project(&self, machine: usize) -> Project {
        let variables = self.tiny.variables();
        Project::open_to_write(&self.tiny.path(&format!("m{machine}")), variables).unwrap()
    }

    /// As the command does: receipts of others first.
    fn run(&self, machine: usize, n: u8) -> RunOutcome {
        let mut project = self.project(machine);
        receive(&project, &project.depots.open(None).unwrap()).unwrap();
        project.params.set(&format!("n={n}")).unwrap();
        let outcome = run(&mut project, &RunOptions::default(), &Silent, &CancelToken::new()).unwrap();
        assert_eq!(outcome.state, RunState::Done);
        outcome
    }

    fn sync(&self, machine: usize, wanted: Wanted) -> SyncOutcome {
        let project = self.project(machine);
        let depot = project.depots.open(None).unwrap();
        let options = SyncOptions { direction: Direction::Both, wanted, dry_run: false };
        let outcome = sync(&project, &depot, &options, &|_, _, _| ()).unwrap();
        assert_eq!(outcome.damaged, Vec::<String>::new());
        outcome
    }

    fn runs(&self, machine: usize) -> BTreeSet<String> {
        self.project(machine).ledger.run_ids().unwrap().into_iter().collect()
    }

    fn rebuilds(&self, machine: usize, id: &str) -> Verdict {
        let mut project = self.project(machine);
        let target = find_target(&project, id, &self.tiny.path(&format!("m{machine}"))).unwrap();
        let options = RebuildOptions::default();
        rebuild(&mut project, &target, &options, &Silent, &CancelToken::new()).unwrap().verdict
    }
}

fn script(version: u8) -> String {
    format!("cat b/slivers/one b/slivers/two > b/cloth\necho \"woven {version} $1\" >> b/cloth\n")
}

#[derive(Clone, Debug)]
enum Step {
    /// Edits one of the files on a machine: the data, another file, the script.
    Edit(usize, usize, u8),
    Run(usize, u8),
    Sync(usize),
}

fn step() -> impl Strategy<Value = Step> {
    // Few values, so that machines often come to what another one has had.
    prop_oneof![
        3 => (0usize..2, 0usize..3, 0u8..2).prop_map(|(m, f, v)| Step::Edit(m, f, v)),
        4 => (0usize..2, 0u8..2).prop_map(|(m, n)| Step::Run(m, n)),
        2 => (0usize..2).prop_map(Step::Sync),
    ]
}

/// All that a stage's result follows from.
type Inputs = (&'static str, String);

fn live_through(steps: &[Step]) {
    let team = Team::new(3);
    let mut files = [[0u8; 3]; 2];
    // What each machine has executed, and what the depot has heard of.
    let mut known: [HashSet<Inputs>; 2] = Default::default();
    let mut shared: HashSet<Inputs> = HashSet::new();
    let mut made: BTreeMap<String, String> = BTreeMap::new();
    for step in steps {
        match *step {
            Step::Edit(machine, file, value) => {
                files[machine][file] = value;
                match file {
                    0 => team.write(machine, "yarn", &format!("wool {value}\n")),
                    1 => team.write(machine, "oil", &format!("oil {value}\n")),
                    _ => team.write(machine, "weave.sh", &script(value)),
                }
            }
            Step::Run(machine, n) => {
                let [yarn, oil, code] = files[machine];
                let cloth = format!("wool {yarn}\noil {oil}\nwoven {code} {n}\n");
                let outcome = team.run(machine, n);
                assert_eq!(team.read(machine, "b/cloth"), cloth, "{step:?}");
                for stage in &outcome.stages {
                    let inputs = match stage.stage.as_str() {
                        "card" => ("card", format!("{yarn} {oil}")),
                        _ => ("weave", cloth.clone()),
                    };
                    let is_known = known[machine].contains(&inputs) || shared.contains(&inputs);
                    let ran = stage.state == RunStageState::Ran;
                    assert_eq!(ran, !is_known, "{step:?}: {} is {:?}, known {is_known}", stage.stage, stage.state);
                    known[machine].insert(inputs);
                }
                made.extend(outcome.run.map(|id| (id, cloth)));
            }
            Step::Sync(machine) => {
                team.sync(machine, Wanted::Usual);
                shared.extend(known[machine].iter().cloned());
                let again = team.sync(machine, Wanted::Usual);
                assert_eq!((again.sent.bytes, again.documents.bytes, again.received.documents), (0, 0, 0), "nothing travels twice");
            }
        }
    }
    for machine in [0, 1, 0] {
        team.sync(machine, Wanted::Usual);
    }
    assert_eq!(team.runs(0), team.runs(1));
    // A machine that took no part knows all of it, and makes each again out of what travelled.
    team.sync(2, Wanted::Usual);
    assert_eq!(team.runs(2), team.runs(0));
    for (id, cloth) in &made {
        assert_eq!(team.rebuilds(2, id), Verdict::Identical, "{id}");
        let project = team.project(2);
        let row = project.ledger.run(id).unwrap().unwrap();
        let receipt = RunReceipt::load(&project.store, &row.receipt).unwrap();
        let into = team.tiny.path(&format!("again-{id}"));
        restore_into(&project, &of_run(&project.store, &receipt).unwrap(), &into).unwrap();
        assert!(cloth.starts_with(&std::fs::read_to_string(into.join("yarn")).unwrap()), "{id}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: many("TEXTUM_TEAMS", 8),
        max_shrink_iters: 40,
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn a_team_trains_nothing_twice_and_rebuilds_everything(steps in prop::collection::vec(step(), 3..14)) {
        live_through(&steps);
    }
}

/// After everything has come, the depot is not needed for anything that can be asked.
#[test]
fn what_travels_is_all_that_is_spoken_of() {
    let team = Team::new(2);
    for n in 0..3 {
        team.run(0, n);
        team.write(0, "yarn", &format!("wool {n}\n"));
    }
    team.sync(0, Wanted::Usual);
    team.sync(1, Wanted::All);
    std::fs::rename(team.tiny.path("depot"), team.tiny.path("away")).unwrap();
    let there = team.project(1);
    let report = verify(&there.workspace, true, &|_| false).unwrap();
    assert!(report.problems.is_empty() && report.elsewhere == 0 && report.runs == 3, "{report:?}");
    assert_eq!(there.store.all_documents().unwrap(), team.project(0).store.all_documents().unwrap());
    for id in team.runs(0) {
        assert_eq!(team.rebuilds(1, &id), Verdict::Identical, "{id}");
    }
}

#[test]
fn what_is_small_is_a_part_of_all_and_holds_neither_data_nor_outputs() {
    let team = Team::new(2);
    team.run(0, 1);
    let project = team.project(0);
    let documents = || project.store.all_documents().unwrap().into_iter();
    let small = contents_of(&project.store, documents(), Contents::Small).unwrap();
    let all = contents_of(&project.store, documents(), Contents::All).unwrap();
    assert!(small.is_subset(&all) && small.len() < all.len(), "{} of {}", small.len(), all.len());
    let digest = |text: &str| textum_core::store::Digest::of(text.as_bytes());
    for (text, what) in
        [("wool 0\n", "data"), ("oil 0\n", "what was read"), (&script(0), "code"), (&team.read(0, "b/cloth"), "an output")]
    {
        assert!(all.contains(&digest(text)) && !small.contains(&digest(text)), "{what}");
    }
    // Nothing is named that is not here: who sends it all has it all.
    for digest in &all {
        assert!(project.store.contains(digest).unwrap(), "{digest}");
    }
    // Sent alone, it tells of the run elsewhere, and the outputs are not to be had.
    team.sync(0, Wanted::Receipts);
    team.sync(1, Wanted::Receipts);
    let there = team.project(1);
    assert_eq!(team.runs(1), team.runs(0));
    for digest in small {
        assert!(there.store.contains(&digest).unwrap(), "{digest}");
    }
    let depot = there.depots.open(None).unwrap();
    assert!(depot.has(&[digest(&team.read(0, "b/cloth")), digest("wool 0\n")]).unwrap().is_empty());
}

#[test]
fn what_is_named_comes_with_all_that_it_was_made_of_and_nothing_else() {
    let team = Team::new(2);
    let mut ids = Vec::new();
    for n in 0..2 {
        team.write(0, "yarn", &format!("wool {n}\n"));
        ids.push(team.run(0, n).run.unwrap());
    }
    team.sync(0, Wanted::Usual);
    let outcome = team.sync(1, Wanted::Of(vec![ids[1].clone()]));
    assert!(outcome.fetched.contents > 3, "{outcome:?}");
    std::fs::rename(team.tiny.path("depot"), team.tiny.path("away")).unwrap();
    assert_eq!(team.rebuilds(1, &ids[1]), Verdict::Identical);
    let there = team.project(1);
    assert!(!there.store.contains(&textum_core::store::Digest::of(b"wool 0\n")).unwrap(), "that of another run stays there");
}
