//! What people may call runs, checkpoints and contents: one table of names, and what each stands for or why for
//! nothing.

use proptest::prelude::*;
use textum_core::config::manifest::Better;
use textum_core::event::{CancelToken, Silent};
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_testkit::Tiny;

const PIPELINE: &str = r#"
[params]
auc = 5

[metric.auc]
better = "higher"

[metric.loss]
better = "lower"

[metric.never]
better = "lower"

[stage.fit]
run     = "echo '{\"auc\": 0.{auc}, \"loss\": 0.{auc}, \"plain\": 1}' > m.json; test {auc} != 9"
params  = ["auc"]
metrics = ["m.json"]
"#;

/// A project with these runs, oldest first: the metric's digit, and a label.
fn with_runs(all: &[(u8, Option<&str>)]) -> (Tiny, Project, Vec<String>) {
    let tiny = Tiny::with(PIPELINE);
    let mut ids = Vec::new();
    for (auc, label) in all {
        let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
        project.params.set(&format!("auc={auc}")).unwrap();
        let options = RunOptions { label: label.map(str::to_string), ..RunOptions::default() };
        ids.extend(run(&mut project, &options, &Silent, &CancelToken::new()).unwrap().run);
    }
    let project = Project::open(tiny.root(), tiny.variables()).unwrap();
    (tiny, project, ids)
}

fn suffix(id: &str) -> &str {
    id.rsplit('-').next().unwrap()
}

#[test]
fn each_name_stands_for_one_run_or_says_why_not() {
    let (_tiny, project, ids) =
        with_runs(&[(5, None), (7, Some("fast")), (6, Some("20 looms, é")), (9, None), (2, Some("last one"))]);
    let directions = &project.manifest.metrics;
    let named = |name: &str| project.ledger.resolve_run(name, directions);
    let stands = [
        ("last".to_string(), 4),
        ("last~0".into(), 4),
        ("last~1".into(), 3),
        ("last~4".into(), 0),
        // One that failed has metrics, but is not the best of anything.
        ("best:auc".into(), 1),
        ("best:loss".into(), 4),
        ("fast".into(), 1),
        ("20 looms, é".into(), 2),
        ("last one".into(), 4),
    ];
    let by_id = ids.iter().enumerate().flat_map(|(i, id)| [(id.clone(), i), (suffix(id).to_string(), i)]);
    for (name, place) in stands.into_iter().chain(by_id) {
        assert_eq!(named(&name).unwrap_or_else(|e| panic!("{name}: {e}")), ids[place], "{name}");
    }
    let amiss = [
        ("last~5", "`last~5`: there are only 5 runs"),
        ("last~99999999999", "there are only 5 runs"),
        ("best:", "`best:`: the manifest does not say whether higher or lower is better"),
        ("best:plain", "`best:plain`: the manifest does not say whether"),
        ("best:never", "`best:never`: no finished run has the metric `never`"),
        ("fas", "there is no run `fas`"),
        ("FAST", "there is no run `FAST`"),
        ("nonsense", "there is no run `nonsense`"),
        ("last~", "there is no run `last~`"),
        ("last~-1", "there is no run `last~-1`"),
        ("latest", "there is no run `latest`"),
        ("%", "there is no run `%`"),
        ("*", "there is no run `*`"),
        ("'; DROP TABLE runs; --", "there is no run `'; DROP TABLE runs; --`"),
        ("fast ", "there is no run `fast `"),
    ];
    for (name, said) in amiss {
        let error = named(name).unwrap_err().to_string();
        assert!(error.contains(said), "{name}: {error}");
    }
    // What begins the ids of several is told with all of them.
    for name in ["20", &ids[0][..4], ""] {
        match named(name) {
            Err(NameError::Ambiguous { candidates, .. }) => assert_eq!(candidates.len(), 5, "{name}"),
            other => panic!("{name}: {other:?}"),
        }
    }
    // A near miss is told with what is near.
    let typed = suffix(&ids[2]);
    let wrong = format!("{}{}", &typed[..typed.len() - 1], if typed.ends_with('f') { "e" } else { "f" });
    match named(&wrong) {
        Err(NameError::NoRun { near: Some(near), .. }) => assert!(ids.iter().any(|id| id.ends_with(&near)), "{near}"),
        // It may be that of another run.
        Ok(other) => assert_ne!(other, ids[2]),
        other => panic!("{wrong}: {other:?}"),
    }
}

#[test]
fn without_runs_every_name_says_so() {
    let (_tiny, project, _) = with_runs(&[]);
    for name in ["last", "last~3", "7f3a", "fast", "20261126-1000-beef"] {
        let error = project.ledger.resolve_run(name, &project.manifest.metrics).unwrap_err();
        assert!(matches!(error, NameError::NoRuns), "{name}: {error}");
    }
    let error = project.ledger.resolve_run("best:auc", &project.manifest.metrics).unwrap_err();
    assert!(matches!(error, NameError::NoMetric { .. }), "{error}");
}

#[test]
fn one_run_is_one_run() {
    let (_tiny, project, ids) = with_runs(&[(5, None)]);
    let error = project.ledger.resolve_run("last~1", &[]).unwrap_err().to_string();
    assert_eq!(error, "`last~1`: there is only 1 run");
    let directions = [("auc".to_string(), Better::Lower)];
    assert_eq!(project.ledger.resolve_run("best:auc", &directions).unwrap(), ids[0]);
}

/// A label that several runs bear is nobody's name; one that was given to another run since is that one's.
#[test]
fn a_label_of_several_is_ambiguous() {
    let (_tiny, project, ids) = with_runs(&[(5, Some("wool")), (6, Some("wool")), (7, Some("silk"))]);
    match project.ledger.resolve_run("wool", &[]) {
        Err(NameError::Ambiguous { candidates, name }) => {
            assert_eq!(name, "wool");
            let mut told = candidates;
            told.sort();
            let mut both = ids[..2].to_vec();
            both.sort();
            assert_eq!(told, both);
        }
        other => panic!("{other:?}"),
    }
    assert_eq!(project.ledger.resolve_run("silk", &[]).unwrap(), ids[2]);
}

#[test]
fn digests_are_named_by_their_beginning() {
    let (tiny, project, _) = with_runs(&[(5, None)]);
    let store = &project.store;
    let digest = textum_core::store::Digest::of(&std::fs::read(tiny.path("m.json")).unwrap());
    let hex = digest.hex().to_string();
    for length in [6, 7, 12, 40, 64] {
        for name in [format!("b3:{}", &hex[..length]), hex[..length].to_uppercase(), hex[..length].to_string()] {
            assert_eq!(project.ledger.resolve_digest(&name, store).unwrap(), digest, "{name}");
        }
    }
    let too_long = format!("b3:{hex}0");
    for name in ["b3:", "b3:12345", "b3:xyzxyz", "", "b3", too_long.as_str(), "b3:12345g", "b3:12 345"] {
        assert!(matches!(project.ledger.resolve_digest(name, store), Err(NameError::NotADigest(_))), "{name}");
    }
    let other = if hex.starts_with("0000") { "b3:ffffff" } else { "b3:000000" };
    assert!(matches!(project.ledger.resolve_digest(other, store), Err(NameError::NoDigest(_))));
    // A stage's key is a digest too, though nothing of that name is stored.
    let key = project.ledger.executed_in(&project.ledger.run_ids().unwrap()[0]).unwrap()[0].receipt;
    let receipt = textum_core::record::receipt::StageReceipt::load(store, &key).unwrap();
    assert!(!store.contains(&receipt.key).unwrap());
    assert_eq!(project.ledger.resolve_digest(&receipt.key.to_string(), store).unwrap(), receipt.key);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Whatever is typed, the answer is a run that is there, or an error that repeats what was typed.
    #[test]
    fn any_text_is_a_run_or_an_error(names in prop::collection::vec("\\PC{0,12}|last[~0-9-]{0,4}|best:[a-z]{0,5}|[0-9a-f]{1,6}", 40)) {
        let (_tiny, project, ids) = with_runs(&[(5, Some("ä")), (6, None)]);
        for name in names {
            match project.ledger.resolve_run(&name, &project.manifest.metrics) {
                Ok(id) => prop_assert!(ids.contains(&id), "{name}"),
                Err(e) => prop_assert!(
                    e.to_string().contains(&name) || matches!(e, NameError::NoDirection(_)), "{name}: {e}"
                ),
            }
            let _ = project.ledger.resolve_digest(&name, &project.store);
        }
    }
}
