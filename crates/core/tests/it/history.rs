//! Random pipelines with random histories: every past output is traced and rebuilt to identical bytes,
//! no key is executed twice, a plan and the run after it agree, and nothing stale is ever handed out.

use std::collections::{BTreeMap, HashSet};

use proptest::prelude::*;
use textum_core::event::{CancelToken, Silent};
use textum_core::inspect::lineage::{NodeKind, find_target, trace};
use textum_core::maintain::rebuild::{RebuildOptions, rebuild};
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::pipeline::plan::{Action, Plan, PlanContext};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{RunStageState, RunState, Verdict};
use textum_testkit::{Tiny, many};

/// A stage reads the data or an earlier stage's output, its script, and perhaps a parameter.
#[derive(Clone, Debug)]
struct Stage {
    reads: Vec<usize>,
    param: bool,
    folder: bool,
}

#[derive(Clone, Debug)]
enum Edit {
    Data(u8),
    Code(usize, u8),
    Param(usize, u8),
    AddStage(Stage),
    RemoveOutput(usize),
    ByHand(usize),
    Nothing,
}

fn stage() -> impl Strategy<Value = Stage> {
    (prop::collection::vec(0usize..6, 1..3), any::<bool>(), any::<bool>()).prop_map(|(reads, param, folder)| Stage {
        reads,
        param,
        folder,
    })
}

fn edit() -> impl Strategy<Value = Edit> {
    // Few values, so that a history often comes back to where it was.
    prop_oneof![
        3 => (0u8..3).prop_map(Edit::Data),
        3 => (0usize..5, 0u8..3).prop_map(|(s, v)| Edit::Code(s, v)),
        3 => (0usize..5, 0u8..3).prop_map(|(s, v)| Edit::Param(s, v)),
        1 => stage().prop_map(Edit::AddStage),
        1 => (0usize..5).prop_map(Edit::RemoveOutput),
        1 => (0usize..5).prop_map(Edit::ByHand),
        1 => Just(Edit::Nothing),
    ]
}

/// What the project should be: the test's own idea of it, from which every output can be foretold.
struct Model {
    stages: Vec<Stage>,
    data: u8,
    code: BTreeMap<usize, u8>,
    params: BTreeMap<usize, u8>,
}

impl Model {
    fn output(&self, stage: usize) -> String {
        if self.stages[stage].folder { format!("build/{stage}/out") } else { format!("build/{stage}") }
    }

    fn reads(&self, stage: usize) -> Vec<String> {
        // Each source is the data file or the output of an earlier stage.
        let source = |n: usize| if n == 0 || stage == 0 { "data.txt".to_string() } else { self.output((n - 1) % stage) };
        let mut all: Vec<String> = self.stages[stage].reads.iter().map(|n| source(*n)).collect();
        all.dedup();
        all
    }

    fn expected(&self, path: &str) -> String {
        let Some(stage) = (0..self.stages.len()).find(|s| self.output(*s) == path) else {
            return format!("data {}\n", self.data);
        };
        let mut text: String = self.reads(stage).iter().map(|r| self.expected(r)).collect();
        let param =
            if self.stages[stage].param { self.params.get(&stage).copied().unwrap_or(0).to_string() } else { "none".into() };
        text.push_str(&format!("stage {stage} code {} param {param}\n", self.code.get(&stage).copied().unwrap_or(0)));
        text
    }

    fn write(&self, tiny: &Tiny) {
        let mut manifest = String::from("[data.yarn]\npath = \"data.txt\"\n\n[params]\n");
        for stage in 0..self.stages.len() {
            manifest.push_str(&format!("p{stage} = {}\n", self.params.get(&stage).copied().unwrap_or(0)));
        }
        for (stage, decl) in self.stages.iter().enumerate() {
            let reads: Vec<String> = self.reads(stage).iter().map(|r| format!("\"{r}\"")).collect();
            let (argument, params) = if decl.param {
                (format!("{{p{stage}}}"), format!("params = [\"p{stage}\"]\n"))
            } else {
                ("none".into(), String::new())
            };
            let writes = if decl.folder { format!("build/{stage}/") } else { format!("build/{stage}") };
            manifest.push_str(&format!(
                "\n[stage.s{stage}]\nrun = \"sh s{stage}.sh {argument}\"\nreads = [{}, \"s{stage}.sh\"]\n{params}writes = [\"{writes}\"]\n",
                reads.join(", ")
            ));
            let out = self.output(stage);
            let code = self.code.get(&stage).copied().unwrap_or(0);
            let script = format!(
                "mkdir -p $(dirname {out})\n{{ cat {}; echo \"stage {stage} code {code} param $1\"; }} > {out}\n",
                self.reads(stage).join(" ")
            );
            tiny.write(&format!("s{stage}.sh"), script);
        }
        tiny.manifest(&manifest);
        tiny.write("data.txt", format!("data {}\n", self.data));
    }
}

fn apply(model: &mut Model, edit: &Edit, tiny: &Tiny) -> Option<String> {
    let count = model.stages.len();
    match edit {
        Edit::Data(v) => model.data = *v,
        Edit::Code(s, v) => drop(model.code.insert(s % count, *v)),
        Edit::Param(s, v) => drop(model.params.insert(s % count, *v)),
        Edit::AddStage(stage) if count < 5 => model.stages.push(stage.clone()),
        Edit::RemoveOutput(s) => drop(std::fs::remove_file(tiny.path(&model.output(s % count)))),
        Edit::ByHand(s) => {
            let mine = format!("written by hand {}\n", tiny.root().display());
            tiny.write(&model.output(s % count), &mine);
            return Some(mine);
        }
        _ => {}
    }
    None
}

fn in_aside(tiny: &Tiny, wanted: &str) -> bool {
    let mut todo = vec![tiny.path(".textum/aside")];
    while let Some(path) = todo.pop() {
        if path.is_dir() {
            todo.extend(std::fs::read_dir(path).unwrap().flatten().map(|e| e.path()));
        } else if std::fs::read_to_string(&path).is_ok_and(|t| t == wanted) {
            return true;
        }
    }
    false
}

fn live_through(stages: Vec<Stage>, edits: &[Edit]) {
    let tiny = Tiny::new();
    let mut model = Model { stages, data: 0, code: BTreeMap::new(), params: BTreeMap::new() };
    let cancel = CancelToken::new();
    let mut keys = HashSet::new();
    for edit in [Edit::Nothing].iter().chain(edits) {
        let by_hand = apply(&mut model, edit, &tiny);
        model.write(&tiny);
        let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
        let all = project.graph.select(&[]);
        let before = tiny.snapshot();
        let plan = Plan::make(&PlanContext::new(&project, &all, Default::default()).unwrap(), &all).unwrap();
        assert_eq!(before, tiny.snapshot(), "a plan writes nothing");
        let outcome = run(&mut project, &RunOptions::default(), &Silent, &cancel).unwrap();
        assert_eq!(outcome.state, RunState::Done);
        for (decision, stage) in plan.decisions.iter().zip(&outcome.stages) {
            assert_eq!(decision.stage, stage.stage);
            let planned = (decision.action, decision.key.is_some());
            let agrees = match planned {
                (Action::UpToDate, _) => stage.state == RunStageState::UpToDate,
                (Action::Reuse, _) => stage.state == RunStageState::Reused,
                (Action::Run, true) => stage.state == RunStageState::Ran,
                // What it reads is written anew: it runs unless that comes out as it was.
                (Action::Run, false) => true,
            };
            assert!(agrees, "{}: planned {planned:?}, was {:?}", stage.stage, stage.state);
            if stage.state == RunStageState::Ran {
                assert!(keys.insert(stage.key.unwrap()), "{} was executed twice with one key", stage.stage);
            }
        }
        for stage in 0..model.stages.len() {
            assert_eq!(tiny.read(&model.output(stage)), model.expected(&model.output(stage)), "after {edit:?}");
        }
        if let Some(mine) = by_hand {
            assert!(in_aside(&tiny, &mine), "what was written by hand is lost");
        }
    }
    // However the tree has changed since: every past run is traced to readable inputs, and rebuilt.
    let mut project = Project::open(tiny.root(), tiny.variables()).unwrap();
    let tree = tiny.snapshot();
    for id in project.ledger.run_ids().unwrap() {
        let target = find_target(&project, &id, tiny.root()).unwrap();
        let found = trace(&project.store, &target).unwrap();
        for node in found.nodes.iter().filter(|n| n.kind != NodeKind::Folder) {
            assert_eq!(project.store.read(&node.digest).map(|b| textum_core::store::Digest::of(&b)).unwrap(), node.digest);
        }
        let options = RebuildOptions::default();
        let outcome = rebuild(&mut project, &target, &options, &Silent, &cancel).unwrap();
        assert_eq!(outcome.verdict, Verdict::Identical, "{id}");
    }
    assert_eq!(tree, tiny.snapshot(), "a rebuild leaves the tree alone");
}

fn histories() -> ProptestConfig {
    // Shrinking runs whole histories again: a few rounds of it are enough to read.
    ProptestConfig {
        cases: many("TEXTUM_HISTORIES", 60).div_ceil(2),
        max_shrink_iters: 40,
        failure_persistence: None,
        ..ProptestConfig::default()
    }
}

proptest! {
    #![proptest_config(histories())]

    #[test]
    fn short_histories_of_wide_pipelines(stages in prop::collection::vec(stage(), 2..5), edits in prop::collection::vec(edit(), 1..4)) {
        live_through(stages, &edits);
    }

    #[test]
    fn long_histories_of_narrow_pipelines(stages in prop::collection::vec(stage(), 1..3), edits in prop::collection::vec(edit(), 3..7)) {
        live_through(stages, &edits);
    }
}
