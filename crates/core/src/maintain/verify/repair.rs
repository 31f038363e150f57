//! Mending a store: what is derived is made anew, what is whole in damaged packs is kept, what was lost is
//! taken anew from the working tree where it is still there.

use std::collections::{BTreeMap, HashSet};
use textum_base::Identity;
use textum_base::fsio::FileLock;

use super::losses;
use super::receipts::{Checker, Lacking};
use super::{VerifyError, VerifyReport, documents};
use crate::maintain::upkeep::items_of;
use crate::project::fingerprint::Scanner;
use crate::project::workspace::Workspace;
use crate::record::ledger::{Ledger, LedgerError};
use crate::store::{Digest, GcPlan, Store, StoreError, hash_file};

/// Mends; gives what was done, in words. Receipts that were lost exist nowhere else: that is written down.
pub(super) fn repair(workspace: &Workspace, store: &Store, by: &Identity) -> Result<Vec<String>, VerifyError> {
    let mut done = Vec::new();
    {
        let alone = store.alone()?;
        if store.has_unfinished_dropping() && matches!(alone.finish_dropping(), Err(StoreError::Damaged { .. })) {
            alone.forget_dropping()?;
            done.push("the journal of a dropping that was cut off could not be read; it is forgotten".into());
        }
        for pack in store.verify_packs(true)? {
            if pack.damage.iter().any(|d| !d.derived) {
                let salvaged = alone.salvage(&pack.name)?;
                done.push(format!(
                    "{}.pack written anew with {} whole entries; the damaged file is in store/damaged",
                    &pack.name.hex()[..8],
                    salvaged.kept
                ));
            } else if !pack.damage.is_empty() {
                store.rebuild_index(&pack.name)?;
                done.push(format!("the index of {}.pack made anew", &pack.name.hex()[..8]));
            }
        }
        store.reload()?;
    }
    let mut ignored = VerifyReport::default();
    let at_work = losses::at_work(workspace);
    let documents = documents(store, &mut ignored);
    let lacking = {
        let mut checker = Checker::new(store, &documents, HashSet::new(), &|_| false);
        checker.all();
        checker.lacking
    };
    done.extend(take_anew(workspace, store, &lacking)?);
    done.extend(close_gaps(store, &documents)?);
    let path = workspace.ledger_path();
    // One after the other: a ledger that another has just mended is not emptied because it was damaged before.
    let _one = FileLock::exclusive(&path.with_extension("lock"))?;
    let packs = store.packs()?;
    let fine = match Ledger::open(&path, store) {
        Ok(ledger) => {
            // Before the ledger is made anew: it may be the last to know of them.
            let history = losses::History::load(store, &documents);
            losses::find(&at_work, store, &documents, &history, Some(&ledger))?.record(store, by, false)?;
            let listed: BTreeMap<Digest, String> = ledger.all_documents()?.into_iter().collect();
            ledger.check()?.is_none() && listed == documents && Ledger::made_anew(store, packs)?.agrees_with(&ledger, store)?
        }
        Err(LedgerError::Damaged { .. } | LedgerError::NotADatabase { .. } | LedgerError::Newer { .. }) => false,
        // It is as good as the receipts that it is made of.
        Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => true,
        Err(e) => return Err(e.into()),
    };
    if !fine {
        match Ledger::rebuild(&path, store) {
            Ok(_) => done.push(format!("{} made anew", path.display())),
            // As above: those that it is made of are told of by the verifying that follows.
            Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => {}
            Err(e) => return Err(e.into()),
        }
    }
    Ok(done)
}

/// Takes lost contents anew from where they were recorded, if the same bytes stand there still.
fn take_anew(workspace: &Workspace, store: &Store, lacking: &[Lacking]) -> Result<Vec<String>, VerifyError> {
    let scanner = Scanner::open(workspace.root(), None);
    let writer = store.writer()?;
    let mut done = Vec::new();
    let mut taken: HashSet<Digest> = HashSet::new();
    for Lacking { path, digest } in lacking.iter().filter(|l| !l.path.is_empty()) {
        let full = workspace.root().join(path);
        if taken.contains(digest) || full.symlink_metadata().is_err() {
            continue;
        }
        let same = if full.is_dir() {
            // Only looked at first: taking in a folder that is another one would only cost room.
            scanner.look(path).ok().flatten().is_some_and(|c| c.digest == *digest) && scanner.record(path, &writer)?.is_some()
        } else {
            hash_file(&full).is_ok_and(|(found, _)| found == *digest) && writer.put_file(&full)?.digest == *digest
        };
        if same {
            taken.insert(*digest);
            done.push(format!("{path} ({}) taken anew from the working tree", digest.short()));
        }
    }
    writer.publish()?;
    Ok(done)
}

/// Gives up lists of pieces and listings of folders that are not whole, so that what they speak of is taken
/// in anew when it comes by again.
fn close_gaps(store: &Store, documents: &BTreeMap<Digest, String>) -> Result<Vec<String>, VerifyError> {
    let alone = store.alone()?;
    let mut dropping = GcPlan { entries: alone.without_all_pieces()?.into_iter().collect(), ..GcPlan::default() };
    let mut checker = Checker::new(store, documents, HashSet::new(), &|_| false);
    checker.all();
    let gone: HashSet<Digest> = checker.lacking.iter().map(|l| l.digest).collect();
    if !gone.is_empty() {
        for folder in checker.folders() {
            let items = items_of(store, &folder).unwrap_or_default();
            if store.contains(&folder)? && items.iter().any(|i| gone.contains(i)) {
                dropping.entries.insert(folder);
                dropping.outlines.push(folder);
            }
        }
    }
    if dropping.entries.is_empty() {
        return Ok(Vec::new());
    }
    let count = dropping.entries.len();
    alone.drop_content(&dropping, &[])?;
    Ok(vec![format!("{count} contents that are no longer whole will be taken in anew when they come by again")])
}
