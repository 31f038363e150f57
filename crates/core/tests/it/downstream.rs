//! What was made of something is asked of the ledger one by one where it is little, and in one go where it is much: both say
//! the same.

use std::collections::{BTreeSet, HashSet};

use textum_core::event::{CancelToken, Silent};
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{RunReceipt, StageReceipt, canonical};
use textum_core::store::Digest;
use textum_testkit::Tiny;

#[test]
fn many_questions_at_once_have_the_answers_of_each() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn\"\n[stage.card]\nrun = \"mkdir -p b; cat yarn > b/sliver\"\nreads = [\"yarn\"]\nwrites = [\"b/sliver\"]\n",
    );
    tiny.write("yarn", "wool\n");
    let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
    let id = run(&mut project, &RunOptions::default(), &Silent, &CancelToken::new()).unwrap().run.unwrap();
    let row = project.ledger.run(&id).unwrap().unwrap();
    let run = RunReceipt::load(&project.store, &row.receipt).unwrap();
    let stage = StageReceipt::load(&project.store, &run.stages[0].receipt.unwrap()).unwrap();
    // Seven hundred like it, of which each has read what one of the others has written.
    let wrote = |n: u32| Digest::of(&n.to_le_bytes());
    let (mut receipts, mut contents) = (HashSet::new(), HashSet::new());
    let writer = project.store.writer().unwrap();
    for n in 0..700u32 {
        let mut one = stage.clone();
        one.run = format!("20261126-{n:04}-{:x}", 0x1000 + n);
        one.key = Digest::of(format!("key {n}").as_bytes());
        one.reads[0].at.content.digest = wrote(n * 7 % 700);
        one.writes[0].content.digest = wrote(n);
        let receipt = writer.put_document(&canonical(&one).unwrap()).unwrap();
        let mut of = run.clone();
        (of.run, of.stages[0].receipt) = (one.run.clone(), Some(receipt));
        writer.put_document(&canonical(&of).unwrap()).unwrap();
        if n % 10 != 9 {
            receipts.insert(receipt);
            contents.insert(wrote(n));
        }
    }
    writer.publish().unwrap();
    drop(writer);
    let ledger = &project.ledger;
    ledger.catch_up(&project.store).unwrap();
    assert_eq!((receipts.len(), contents.len()), (630, 630), "more than are asked for one by one");
    let alone = |digest: &Digest| HashSet::from([*digest]);
    let readers: BTreeSet<_> = contents.iter().flat_map(|d| ledger.readers_of(&alone(d)).unwrap()).collect();
    assert_eq!(ledger.readers_of(&contents).unwrap().into_iter().collect::<BTreeSet<_>>(), readers);
    let made: BTreeSet<_> = receipts.iter().flat_map(|d| ledger.made_by(&alone(d)).unwrap()).collect();
    assert_eq!(ledger.made_by(&receipts).unwrap().into_iter().collect::<BTreeSet<_>>(), made);
    assert!(made.len() == 630 && readers.len() >= 620 && made.iter().all(|(_, is_folder)| !is_folder));
    let name = |row: &textum_core::record::ledger::ExecutionRow| (row.receipt, row.run.clone(), row.stage.clone());
    let each: BTreeSet<_> = receipts.iter().flat_map(|d| ledger.executions(&alone(d)).unwrap()).map(|r| name(&r)).collect();
    assert_eq!(ledger.executions(&receipts).unwrap().iter().map(name).collect::<BTreeSet<_>>(), each);
    let runs: BTreeSet<_> = receipts.iter().flat_map(|d| ledger.runs_with_results(&alone(d)).unwrap()).collect();
    assert_eq!(ledger.runs_with_results(&receipts).unwrap().into_iter().collect::<BTreeSet<_>>(), runs);
    assert!(!ledger.has_checkpoints().unwrap());
}
