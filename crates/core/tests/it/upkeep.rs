//! What a prune may drop: a table of situations and the reason for which each output stays or goes; and what can still be
//! had after each of them.

use std::collections::BTreeSet;

use textum_core::event::{CancelToken, Silent};
use textum_core::inspect::lineage::find_target;
use textum_core::maintain::rebuild::{RebuildOptions, rebuild};
use textum_core::maintain::restore::{of_run, restore_into};
use textum_core::maintain::upkeep::{Inventory, PruneOptions, PrunePlan, WhyKept, carry_out, plan_prune};
use textum_core::maintain::verify::verify;
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{RunReceipt, Verdict};
use textum_testkit::Tiny;

const PIPELINE: &str = r#"
[data.yarn]
path = "yarn.txt"

[params]
n = 0

[metric.score]
better = "higher"

[stage.card]
run    = "mkdir -p build; (cat yarn.txt; seq {n} 3000) > build/carded"
reads  = ["yarn.txt"]
params = ["n"]
writes = ["build/carded"]

[stage.spin]
run    = "tail -n 200 build/carded > build/model"
reads  = ["build/carded"]
writes = ["build/model"]

[stage.weave]
run     = "cksum build/model > build/cloth; echo {n} >> build/cloth; echo '{\"score\": {n}}' > build/s.json"
reads   = ["build/model"]
params  = ["n"]
writes  = ["build/cloth"]
metrics = ["build/s.json"]
"#;

fn opened(tiny: &Tiny) -> Project {
    Project::open_to_write(tiny.root(), tiny.variables()).unwrap()
}

/// Runs with this parameter and label; gives the run's id.
fn done(tiny: &Tiny, n: u32, label: Option<&str>) -> String {
    let mut project = opened(tiny);
    project.params.set(&format!("n={n}")).unwrap();
    project.set.push("n".into());
    let options = RunOptions { label: label.map(str::to_string), ..RunOptions::default() };
    run(&mut project, &options, &Silent, &CancelToken::new()).unwrap().run.unwrap()
}

fn proved(tiny: &Tiny, id: &str) -> Verdict {
    let mut project = opened(tiny);
    let target = find_target(&project, id, tiny.root()).unwrap();
    let options = RebuildOptions::default();
    rebuild(&mut project, &target, &options, &Silent, &CancelToken::new()).unwrap().verdict
}

fn options(newest: usize) -> PruneOptions {
    PruneOptions { newest, runs: Vec::new(), paths: Vec::new(), last_outputs: false, checkpoints: false }
}

fn planned(tiny: &Tiny, options: &PruneOptions) -> PrunePlan {
    let project = opened(tiny);
    let all = Inventory::load(&project.store, &project.ledger).unwrap();
    plan_prune(&project, &all, options).unwrap()
}

/// What would go, as `path of the run's place among these`.
fn goes(plan: &PrunePlan, ids: &[String]) -> BTreeSet<String> {
    let place = |run: &str| ids.iter().position(|id| id == run).map_or("?".to_string(), |i| i.to_string());
    plan.outputs.iter().map(|o| format!("{} of {}", o.path, place(&o.run))).collect()
}

fn set(all: &[&str]) -> BTreeSet<String> {
    all.iter().map(|s| (*s).to_string()).collect()
}

/// What is kept beside what is always kept, and what must then hold of what goes.
type Case<'c> = (&'c str, PruneOptions, &'c dyn Fn(&BTreeSet<String>) -> bool);

/// Four runs, the first three proved by a rebuild.
fn history(manifest: &str) -> (Tiny, Vec<String>) {
    let tiny = Tiny::with(manifest);
    tiny.write("yarn.txt", "wool\n");
    let ids: Vec<String> = (1..=4).map(|n| done(&tiny, n, None)).collect();
    for id in &ids[..3] {
        assert_eq!(proved(&tiny, id), Verdict::Identical);
    }
    (tiny, ids)
}

#[test]
fn each_output_stays_for_its_reason_or_goes() {
    let (tiny, ids) = history(PIPELINE);
    // The newest, the best and the one in the tree are one run here: the others' intermediate outputs go.
    let all =
        ["build/carded of 0", "build/model of 0", "build/carded of 1", "build/model of 1", "build/carded of 2", "build/model of 2"];
    let plan = planned(&tiny, &options(1));
    let found = goes(&plan, &ids);
    assert!(found.is_subset(&set(&all)) && found.contains("build/carded of 0") && found.contains("build/carded of 2"), "{found:?}");
    assert!(plan.kept[&WhyKept::LastOutput] >= 1 && plan.frees > 0 && !plan.at_work);

    let cases: Vec<Case<'_>> = vec![
        ("nothing of what is among the newest", options(4), &|f| f.is_empty()),
        ("a run that is named", PruneOptions { runs: vec![ids[0].clone()], ..options(1) }, &|f| {
            !f.iter().any(|o| o.starts_with("build/carded of 0"))
        }),
        ("paths that are named", PruneOptions { paths: vec!["build/carded".into()], ..options(1) }, &|f| {
            !f.iter().any(|o| o.contains("carded"))
        }),
        ("a folder that is named", PruneOptions { paths: vec!["build".into()], ..options(1) }, &|f| f.is_empty()),
        ("last outputs when they may", PruneOptions { last_outputs: true, ..options(1) }, &|f| {
            f.contains("build/cloth of 0") && f.contains("build/cloth of 2")
        }),
    ];
    for (what, options, holds) in cases {
        let found = goes(&planned(&tiny, &options), &ids);
        assert!(holds(&found), "{what}: {found:?}");
    }
}

#[test]
fn what_nothing_has_proved_stays() {
    let tiny = Tiny::with(PIPELINE);
    tiny.write("yarn.txt", "wool\n");
    let ids: Vec<String> = (1..=3).map(|n| done(&tiny, n, None)).collect();
    let plan = planned(&tiny, &options(1));
    assert!(plan.outputs.is_empty() && plan.kept[&WhyKept::NotProved] > 0, "{:?}", plan.kept);
    // A second execution is a proof too.
    let mut project = opened(&tiny);
    project.params.set("n=1").unwrap();
    let force = (0..3).collect();
    run(&mut project, &RunOptions { force, ..RunOptions::default() }, &Silent, &CancelToken::new()).unwrap();
    done(&tiny, 9, None);
    let found = goes(&planned(&tiny, &options(1)), &ids);
    assert!(found.contains("build/carded of 0") && !found.contains("build/carded of 1"), "{found:?}");
}

#[test]
fn what_comes_out_otherwise_each_time_stays() {
    let (tiny, _) = history(&PIPELINE.replace("(cat yarn.txt;", "(cat yarn.txt; echo {n};"));
    let random = PIPELINE.replace("(cat yarn.txt;", "(cat yarn.txt; cat /proc/sys/kernel/random/uuid;");
    tiny.manifest(&random);
    let first = done(&tiny, 1, None);
    assert_eq!(proved(&tiny, &first), Verdict::Different);
    done(&tiny, 2, None);
    done(&tiny, 3, None);
    let plan = planned(&tiny, &options(1));
    assert!(plan.kept[&WhyKept::NotDeterministic] > 0, "{:?}", plan.kept);
    assert!(!plan.outputs.iter().any(|o| o.run == first), "{:?}", plan.outputs);
}

#[test]
fn labelled_runs_models_and_the_best_stay() {
    let (tiny, ids) = history(PIPELINE);
    // The best by a metric is neither the newest nor in the tree now.
    let low = done(&tiny, 0, None);
    let plan = planned(&tiny, &options(1));
    assert_eq!(plan.kept_runs.get(&ids[3]), Some(&"the best by a metric"));
    assert!(plan.kept_runs.contains_key(&low), "it is the newest, and in the tree");
    let labelled = done(&tiny, 7, Some("of the shed"));
    done(&tiny, 6, None);
    assert_eq!(planned(&tiny, &options(1)).kept_runs.get(&labelled), Some(&"labelled"));
    tiny.manifest(&format!("{PIPELINE}\n[model.stops]\nfiles = [\"build/carded\"]\n"));
    let plan = planned(&tiny, &options(1));
    assert!(plan.kept[&WhyKept::Model] > 0 && !plan.outputs.iter().any(|o| o.path == "build/carded"), "{:?}", plan.outputs);
}

/// After a prune every run can be had as before: what is left from the store, what went made again.
#[test]
fn after_a_prune_every_past_result_can_be_had() {
    let (tiny, ids) = history(PIPELINE);
    let expected: Vec<String> = (1..=4).map(|n| (n..=3000).fold("wool\n".to_string(), |t, i| t + &format!("{i}\n"))).collect();
    let mut project = opened(&tiny);
    let (plan, freed) = carry_out(&mut project, &options(1), &Default::default()).unwrap();
    assert!(!plan.outputs.is_empty() && freed.bytes > 0);
    drop(project);
    assert!(verify(&opened(&tiny).workspace, true, &|_| false).unwrap().problems.is_empty());
    for (id, carded) in ids.iter().zip(&expected) {
        assert_eq!(proved(&tiny, id), Verdict::Identical, "{id}");
        // What was dropped came out as it was, and is in the store again.
        let project = opened(&tiny);
        let row = project.ledger.run(id).unwrap().unwrap();
        let wanted = of_run(&project.store, &RunReceipt::load(&project.store, &row.receipt).unwrap()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        restore_into(&project, &wanted, &folder.path().join("out")).unwrap();
        assert_eq!(std::fs::read_to_string(folder.path().join("out/build/carded")).unwrap(), *carded);
    }
    // Once more: there is nothing that a second prune would not do the same way.
    let mut project = opened(&tiny);
    let (again, _) = carry_out(&mut project, &options(1), &Default::default()).unwrap();
    assert_eq!(goes(&again, &ids), goes(&plan, &ids));
    assert!(verify(&opened(&tiny).workspace, true, &|_| false).unwrap().problems.is_empty());
}
