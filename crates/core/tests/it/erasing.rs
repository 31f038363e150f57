//! Rows forgotten in pipelines of any shape: what was made of them is gone, whatever else was recorded comes back byte for byte.

use std::collections::BTreeMap;

use proptest::prelude::*;
use textum_base::Identity;
use textum_core::data::{split_name, version_with};
use textum_core::erase::{Asked, EraseError, accounts, erase, find, finish, pending, plan};
use textum_core::event::{CancelToken, Silent};
use textum_core::maintain::restore::{RestoreError, of_run, of_version, restore_into};
use textum_core::maintain::verify::verify;
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::RunReceipt;
use textum_core::store::Digest;
use textum_core::table::filter::parse;
use textum_testkit::{Tiny, holding};

const WEAVER: &str = "weaver-5d0c77aa";

fn opened(tiny: &Tiny) -> Project {
    Project::open_to_write(tiny.root(), tiny.variables()).unwrap()
}

fn asked(keep_models: bool) -> Asked {
    let text = format!("weaver = \"{WEAVER}\"");
    Asked { dataset: "shifts".into(), condition: parse(&text).unwrap(), text, because: "asked to".into(), keep_models }
}

/// A stage by what it reads: of the datasets and of the stages before it, as bits.
type Reads = u8;

/// The inputs of a stage: 0 is shifts, 1 is looms, 2 and more are stages.
fn inputs(stage: usize, reads: Reads) -> Vec<usize> {
    let of: Vec<usize> = (0..stage + 2).filter(|at| reads & (1 << at) != 0).collect();
    if of.is_empty() { vec![stage % 2] } else { of }
}

fn path(input: usize) -> String {
    match input {
        0 => "shifts.csv".into(),
        1 => "looms.csv".into(),
        n => format!("b/{}.txt", n - 2),
    }
}

fn manifest(stages: &[Reads]) -> String {
    let mut text = "[data.shifts]\npath = \"shifts.csv\"\n[data.looms]\npath = \"looms.csv\"\n".to_string();
    for (at, reads) in stages.iter().enumerate() {
        let paths: Vec<String> = inputs(at, *reads).into_iter().map(path).collect();
        let list: Vec<String> = paths.iter().map(|p| format!("{p:?}")).collect();
        let all = paths.join(" ");
        text += &format!(
            "[stage.s{at}]\nrun = \"mkdir -p b; (cat {all}; echo {at}) > b/{at}.txt\"\nreads = [{}]\nwrites = [\"b/{at}.txt\"]\n",
            list.join(", ")
        );
    }
    text
}

/// Which stages have something of shifts.
fn tainted(stages: &[Reads]) -> Vec<bool> {
    let mut found: Vec<bool> = Vec::new();
    for (at, reads) in stages.iter().enumerate() {
        let has = |input: &usize| *input == 0 || (*input > 1 && found[input - 2]);
        found.push(inputs(at, *reads).iter().any(has));
    }
    found
}

/// Brings one path of a run into a folder; its bytes.
fn brought(project: &Project, run: &str, path: &str) -> Result<Vec<u8>, RestoreError> {
    let row = project.ledger.run(run).unwrap().unwrap();
    let wanted = of_run(&project.store, &RunReceipt::load(&project.store, &row.receipt)?)?.only(&project.store, path)?;
    let folder = tempfile::tempdir().unwrap();
    restore_into(project, &wanted, folder.path())?;
    Ok(std::fs::read(folder.path().join(path)).unwrap())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 16, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_was_made_of_them_is_gone_and_nothing_else(
        stages in prop::collection::vec(any::<Reads>(), 1..5),
        states in prop::collection::vec((any::<bool>(), 0u8..3), 1..4),
    ) {
        let tiny = Tiny::new();
        tiny.manifest(&manifest(&stages));
        let tainted = tainted(&stages);
        let mut kept: BTreeMap<(String, String), Option<Vec<u8>>> = BTreeMap::new();
        for (n, (with, looms)) in states.iter().enumerate() {
            let row = if *with { format!("S9,L1,{WEAVER}\n") } else { String::new() };
            tiny.write("shifts.csv", format!("shift,loom,weaver\nS{n},L1,weaver-{n:08}\n{row}"));
            tiny.write("looms.csv", format!("loom\nL{looms}\n"));
            let mut project = opened(&tiny);
            // One with nothing to do has no run of its own: what stands there is of another.
            let Some(id) = run(&mut project, &RunOptions::default(), &Silent, &CancelToken::new()).unwrap().run else { continue };
            for (at, tainted) in tainted.iter().enumerate() {
                let path = format!("b/{at}.txt");
                let bytes = std::fs::read(tiny.path(&path)).unwrap();
                let is_gone = *with && *tainted;
                prop_assert_eq!(is_gone, String::from_utf8_lossy(&bytes).contains(WEAVER), "the model of this test");
                kept.insert((id.clone(), path), (!is_gone).then_some(bytes));
            }
        }
        let any = states.iter().any(|(with, _)| *with);
        let mut project = opened(&tiny);
        let erased = erase(&mut project, &asked(false), &Identity::new("ada", "loom")).unwrap();
        prop_assert_eq!(erased.is_ok(), any);
        let project = opened(&tiny);
        for ((run, path), bytes) in &kept {
            match (brought(&project, run, path), bytes) {
                (Ok(found), Some(bytes)) => prop_assert_eq!(&found, bytes, "{} of {}", path, run),
                (Err(RestoreError::Erased { .. }), None) => {}
                (found, _) => prop_assert!(false, "{} of {}: {:?}", path, run, found.map(|b| b.len())),
            }
        }
        prop_assert_eq!(holding(tiny.root(), WEAVER), Vec::<String>::new());
        let report = verify(&project.workspace, true, &|_| false).unwrap();
        prop_assert!(report.problems.is_empty(), "{:?}", report.problems);
        for (n, (with, _)) in states.iter().enumerate() {
            let version = version_with(&project.ledger, "shifts", n as u64 + 1).unwrap();
            let folder = tempfile::tempdir().unwrap();
            let back = restore_into(&project, &of_version(&project, &version), folder.path());
            prop_assert_eq!(matches!(back, Err(RestoreError::Erased { .. })), *with);
        }
        prop_assert!(pending(&project).is_empty());
    }
}

#[test]
fn a_look_changes_nothing_and_a_second_time_there_is_nothing() {
    let tiny = Tiny::new();
    tiny.manifest(&manifest(&[1, 0b100]));
    tiny.write("looms.csv", "loom\nL1\n");
    tiny.write("shifts.csv", format!("shift,loom,weaver\nS1,L1,{WEAVER}\nS2,L1,weaver-of-old\n"));
    let mut project = opened(&tiny);
    run(&mut project, &RunOptions::default(), &Silent, &CancelToken::new()).unwrap();
    let before = tiny.snapshot();
    let found = find(&project, &asked(false)).unwrap();
    let would = plan(&project, &asked(false), &found).unwrap();
    assert_eq!((found.versions[0].rows, found.versions[0].of, found.next.as_ref().unwrap().kept), (1, 2, 1));
    assert_eq!(would.columns, ["weaver"]);
    let paths: Vec<&str> = would.goes.iter().map(|g| g.path.as_str()).filter(|p| !p.is_empty()).collect();
    assert!(paths.contains(&"b/0.txt") && paths.contains(&"b/1.txt") && paths.contains(&"shifts.csv"), "{paths:?}");
    drop(found);
    let after: Vec<_> = tiny.snapshot().into_iter().filter(|(path, _)| !path.contains("incoming")).collect();
    let before: Vec<_> = before.into_iter().filter(|(path, _)| !path.contains("incoming")).collect();
    assert!(before == after, "a look changes nothing");
    let by = Identity::new("ada", "loom");
    let done = erase(&mut project, &asked(false), &by).unwrap().ok().unwrap();
    assert_eq!((done.said.next, done.said.versions["1"].rows), (Some(2), 1));
    assert!(!finish(&mut project).unwrap(), "nothing was cut off");
    let Err(found) = erase(&mut project, &asked(false), &by).unwrap() else { panic!("there were more") };
    assert!(found.is_empty() && found.unread.is_empty());
    // The account says what it says, and nothing of what it was.
    let told = accounts(&project, "shifts").unwrap();
    assert_eq!((told.len(), told[0].receipt, told[0].here.len()), (1, done.receipt, 0));
    let text = serde_json::to_string(&told[0].said).unwrap();
    assert!(!text.contains(WEAVER) && text.contains("asked to"));
    let names: Vec<&str> = told[0].gone.iter().map(|g| g.what.as_str()).filter(|w| !w.is_empty()).collect();
    assert!(names.iter().any(|n| split_name(n) == Some(("shifts", 1))) && names.contains(&"b/1.txt"), "{names:?}");
    assert!(told[0].gone.iter().all(|g| g.digest != Digest::of(b"")));
    let mut bad = asked(false);
    bad.because = format!("{WEAVER} asked");
    assert!(matches!(find(&project, &bad), Err(EraseError::Reason(_))));
}
