//! Documents into rows. The rows depend on the documents only, not on the order they are met in.

use std::collections::BTreeSet;

use rayon::prelude::*;
use rusqlite::{Transaction, TransactionBehavior, params};

use super::{Ledger, LedgerError};
use crate::config::manifest::THIS_MACHINE;
use crate::record::receipt::{
    CheckpointReceipt, Content, DataReceipt, Document, DocumentError, EraseReceipt, LossReceipt, ObservedInputs, PathContent,
    PruneReceipt, PublishReceipt, RebuildReceipt, RemarkReceipt, RunReceipt, StageReceipt, read_document, type_of, word,
};
use crate::store::{Digest, Store, StoreError};

/// So many documents are read side by side.
const TOGETHER: usize = 1024;

impl Ledger {
    /// Takes in the documents of all packs that have not been seen.
    pub(super) fn fold_new(&self, store: &Store) -> Result<usize, LedgerError> {
        let unseen = self.unseen_packs(store)?;
        if unseen.is_empty() {
            return Ok(0);
        }
        store.reload()?;
        self.fold(store, unseen)
    }

    /// Takes in the documents of these packs.
    pub(super) fn fold(&self, store: &Store, packs: Vec<Digest>) -> Result<usize, LedgerError> {
        let db = self.db.borrow();
        let tx = Transaction::new_unchecked(&db, TransactionBehavior::Immediate).map_err(|e| self.failed(e))?;
        let taken = self.fold_into(&tx, store, packs)?;
        tx.commit().map_err(|e| self.failed(e))?;
        Ok(taken)
    }

    pub(super) fn fold_into(&self, tx: &Transaction<'_>, store: &Store, packs: Vec<Digest>) -> Result<usize, LedgerError> {
        let _span = tracing::debug_span!("fold", packs = packs.len()).entered();
        let fail = |e| self.failed(e);
        let mut taken = 0;
        for pack in packs {
            let documents = match store.documents_in(&pack) {
                // Folded into another pack meanwhile; its documents are met there.
                Err(StoreError::Io(e)) if e.is_not_found() => continue,
                other => other?,
            };
            let is_new = |digest: &Digest| -> rusqlite::Result<bool> {
                Ok(!tx.prepare_cached("SELECT 1 FROM documents WHERE digest = ?1")?.exists([digest.as_bytes()])?)
            };
            for some in documents.chunks(TOGETHER) {
                // What many small packs were folded into one for is known already.
                let new = some.iter().filter_map(|digest| is_new(digest).map(|new| new.then_some(*digest)).transpose());
                let new: Vec<Digest> = new.collect::<Result<_, _>>().map_err(fail)?;
                let read: Vec<Unfolded> = new.par_iter().map(|digest| Unfolded::read(store, digest)).collect::<Result<_, _>>()?;
                for document in read {
                    taken += usize::from(document.fold(tx).map_err(|e| e.into_ledger(&self.path))?);
                }
            }
            let mut seen = tx.prepare_cached("INSERT OR IGNORE INTO packs VALUES (?1)").map_err(fail)?;
            seen.execute([pack.as_bytes()]).map_err(fail)?;
        }
        Ok(taken)
    }

    fn unseen_packs(&self, store: &Store) -> Result<Vec<Digest>, LedgerError> {
        let packs = store.packs()?;
        let seen: Vec<[u8; 32]> = self.rows("SELECT name FROM packs", &[], |r| r.get(0))?;
        let seen: std::collections::HashSet<[u8; 32]> = seen.into_iter().collect();
        Ok(packs.into_iter().filter(|p| !seen.contains(p.as_bytes())).collect())
    }

    /// The documents that cannot be read, with what is wrong with each: they are left out of everything.
    pub fn unreadable(&self) -> Result<Vec<(Digest, String)>, LedgerError> {
        self.rows("SELECT digest, what FROM unreadable ORDER BY digest", &[], |r| Ok((Digest::from_bytes(r.get(0)?), r.get(1)?)))
    }
}

enum FoldError {
    Sql(rusqlite::Error),
    Document(DocumentError),
}

impl FoldError {
    fn into_ledger(self, path: &std::path::Path) -> LedgerError {
        match self {
            FoldError::Sql(source) => LedgerError::of(path, source),
            FoldError::Document(e) => LedgerError::Receipt(e.into()),
        }
    }
}

impl From<rusqlite::Error> for FoldError {
    fn from(e: rusqlite::Error) -> FoldError {
        FoldError::Sql(e)
    }
}

impl From<DocumentError> for FoldError {
    fn from(e: DocumentError) -> FoldError {
        FoldError::Document(e)
    }
}

/// A document that has been read: many are at once, while what they say is put in one by one.
struct Unfolded {
    digest: Digest,
    kind: String,
    rows: Result<Option<Box<dyn Fold>>, DocumentError>,
}

impl Unfolded {
    fn read(store: &Store, digest: &Digest) -> Result<Unfolded, StoreError> {
        let bytes = store.read(digest)?;
        let kind = type_of(&bytes).unwrap_or_default();
        let rows = read_known(digest, &kind, &bytes);
        Ok(Unfolded { digest: *digest, kind, rows })
    }

    /// Takes it in; `false` when it was there already.
    fn fold(self, tx: &Transaction<'_>) -> Result<bool, FoldError> {
        let Unfolded { digest, kind, rows } = self;
        let new =
            tx.prepare_cached("INSERT OR IGNORE INTO documents VALUES (?1, ?2)")?.execute(params![digest.as_bytes(), kind])?;
        if new == 0 {
            return Ok(false);
        }
        match rows {
            Ok(rows) => rows.iter().try_for_each(|rows| rows.fold(tx, &digest))?,
            // One that cannot be read, or says what could do harm, is left out and told of; it is no reason to be
            // without all others.
            Err(e @ (DocumentError::Malformed { .. } | DocumentError::Unwritable(_))) => {
                tx.prepare_cached("INSERT OR IGNORE INTO unreadable VALUES (?1, ?2)")?
                    .execute(params![digest.as_bytes(), e.to_string()])?;
            }
            Err(e) => return Err(e.into()),
        }
        Ok(true)
    }
}

/// A document that has rows of its own.
trait Fold: Send {
    /// Puts its rows in. They depend on the document only.
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()>;
}

/// All kinds of documents that have rows. A new one is named here, and how it folds stands in its `impl`.
macro_rules! folding {
    ($($document:ty),*) => {
        fn read_known(digest: &Digest, kind: &str, bytes: &[u8]) -> Result<Option<Box<dyn Fold>>, DocumentError> {
            $(if kind == <$document as Document>::TYPE {
                return Ok(Some(Box::new(read_document::<$document>(digest, bytes)?)));
            })*
            // A newer receipt is an error rather than a gap in the history; other documents are not indexed.
            if kind.starts_with("textum/") && kind.contains("-receipt@") {
                let name = |kind: &str| kind.split('@').next().unwrap_or_default().to_string();
                let known = [$(<$document as Document>::TYPE),*];
                let known = known.into_iter().find(|k| name(k) == name(kind)).unwrap_or("none of this name").to_string();
                return Err(DocumentError::Newer { digest: *digest, found: kind.to_string(), known });
            }
            Ok(None)
        }
    };
}

folding!(
    StageReceipt,
    RunReceipt,
    DataReceipt,
    PruneReceipt,
    EraseReceipt,
    CheckpointReceipt,
    RemarkReceipt,
    RebuildReceipt,
    LossReceipt,
    PublishReceipt,
    ObservedInputs
);

/// Which files of a content are private, as the ledger keeps it.
fn private_text(content: &Content) -> Option<String> {
    (content.private != Default::default()).then(|| serde_json::to_string(&content.private).unwrap_or_default())
}

/// A time in a form that sorts as time does, whatever digits it was written with.
fn sortable(time: &str) -> String {
    time.parse::<jiff::Timestamp>().map_or_else(|_| time.to_string(), |t| format!("{t:.9}"))
}

fn fold_paths<'p, P: AsRef<str> + 'p>(
    tx: &Transaction<'_>,
    receipt: &Digest,
    role: &str,
    paths: impl Iterator<Item = &'p PathContent<P>>,
) -> rusqlite::Result<()> {
    let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO paths VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
    for p in paths {
        let content = &p.content;
        insert.execute(params![
            receipt.as_bytes(),
            role,
            p.path.as_ref(),
            word(&content.kind),
            content.digest.as_bytes(),
            content.size as i64,
            content.files.map(|n| n as i64),
            private_text(content)
        ])?;
    }
    Ok(())
}

impl Fold for StageReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let receipt = self;
        tx.prepare_cached(
            "INSERT OR IGNORE INTO stage_receipts VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
        )?
        .execute(params![
            digest.as_bytes(),
            receipt.run,
            receipt.inputs.stage,
            receipt.key.as_bytes(),
            word(&receipt.state),
            receipt.started,
            receipt.seconds,
            receipt.metrics.len() as i64,
            sortable(receipt.ordered.as_ref().unwrap_or(&receipt.started)),
            receipt.observed.as_ref().map(|o| word(&o.how)),
            receipt.observed.as_ref().and_then(|o| o.inputs).map(|d| *d.as_bytes()),
            receipt.environment.map(|d| *d.as_bytes()),
            receipt.place.host,
            receipt.place.name.as_deref().unwrap_or(THIS_MACHINE),
            receipt.observed.as_ref().is_some_and(|o| o.sealed)
        ])?;
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO undeclared VALUES (?1, ?2)")?;
        for path in &receipt.undeclared {
            insert.execute(params![digest.as_bytes(), path])?;
        }
        fold_paths(tx, digest, "read", receipt.reads.iter().chain(&receipt.versions).map(|r| &r.at))?;
        fold_paths(tx, digest, "write", receipt.outputs())?;
        fold_paths(tx, digest, "left", receipt.left.iter())
    }
}

impl Fold for ObservedInputs {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO used VALUES (?1, ?2, ?3)")?;
        for group in self.groups.iter().filter(|g| !g.name.is_empty() && !g.metadata) {
            insert.execute(params![digest.as_bytes(), group.name, group.version.as_deref().unwrap_or("used")])?;
        }
        Ok(())
    }
}

impl Fold for RunReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let run = self;
        let suffix = run.run.rsplit('-').next().unwrap_or_default();
        // Two processes may both have closed a lost run: the same one of the two counts in any order.
        let new = tx
            .prepare_cached(
                "INSERT INTO runs VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?7, ?10, ?11, ?12) ON CONFLICT (id) DO UPDATE SET receipt = excluded.receipt, \
                 started = excluded.started, seconds = excluded.seconds, state = excluded.state, label = excluded.label, \
                 sandbox = excluded.sandbox, commit_id = excluded.commit_id, given_label = excluded.given_label, sweep = excluded.sweep, ordered = excluded.ordered, \
                 by_whom = excluded.by_whom \
                 WHERE (excluded.state <> 'interrupted', excluded.receipt) > (state <> 'interrupted', receipt)",
            )?
            .execute(params![
                run.run, suffix, digest.as_bytes(), run.started, run.seconds, word(&run.state), run.label, run.sandbox,
                run.git.as_ref().map(|g| &g.commit), run.sweep, sortable(run.ordered.as_ref().unwrap_or(&run.started)), run.by
            ])?;
        if new == 0 {
            return Ok(());
        }
        label_of(tx, &run.run)?;
        for table in ["run_stages", "run_params", "run_metrics", "run_data"] {
            tx.prepare_cached(&format!("DELETE FROM {table} WHERE run = ?1"))?.execute([&run.run])?;
        }
        let mut insert = tx.prepare_cached("INSERT INTO run_stages VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?;
        for (position, stage) in run.stages.iter().enumerate() {
            let (key, receipt) = (stage.key.map(|k| *k.as_bytes()), stage.receipt.map(|r| *r.as_bytes()));
            insert.execute(params![run.run, position as i64, stage.stage, word(&stage.state), key, receipt, stage.seconds])?;
        }
        let mut insert = tx.prepare_cached("INSERT INTO run_params VALUES (?1, ?2, ?3)")?;
        for (name, value) in &run.params {
            insert.execute(params![run.run, name, value])?;
        }
        let mut insert = tx.prepare_cached("INSERT INTO run_metrics VALUES (?1, ?2, ?3)")?;
        for (name, value) in &run.metrics {
            insert.execute(params![run.run, name, value.0])?; // SQLite keeps NaN as NULL
        }
        let mut insert = tx.prepare_cached("INSERT INTO run_data VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?;
        for (name, data) in &run.data {
            let content = &data.content;
            insert.execute(params![
                run.run,
                name,
                data.path.as_str(),
                word(&content.kind),
                content.digest.as_bytes(),
                content.size as i64
            ])?;
        }
        Ok(())
    }
}

/// The label of a run: the one given last, whether with the run or after it.
fn label_of(tx: &Transaction<'_>, run: &str) -> rusqlite::Result<()> {
    tx.prepare_cached(
        "UPDATE runs SET label = nullif(coalesce((SELECT label FROM remarks WHERE run = ?1 AND label IS NOT NULL \
         ORDER BY made DESC, receipt DESC LIMIT 1), given_label), '') WHERE id = ?1",
    )?
    .execute([run])?;
    Ok(())
}

impl Fold for RemarkReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let remark = self;
        tx.prepare_cached("INSERT OR IGNORE INTO remarks VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute(params![
            digest.as_bytes(),
            remark.run,
            remark.note,
            remark.label,
            remark.made,
            remark.by
        ])?;
        label_of(tx, &remark.run)
    }
}

impl Fold for CheckpointReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let made = self;
        let content = &made.content;
        tx.prepare_cached("INSERT OR IGNORE INTO checkpoints VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)")?
            .execute(params![
                digest.as_bytes(),
                made.run,
                made.stage,
                made.step as i64,
                made.path.as_str(),
                word(&content.kind),
                content.digest.as_bytes(),
                content.size as i64,
                content.files.map(|n| n as i64),
                made.made,
                made.seconds,
                private_text(content)
            ])?;
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO checkpoint_metrics VALUES (?1, ?2, ?3)")?;
        for (name, value) in &made.metrics {
            insert.execute(params![digest.as_bytes(), name, value.0])?;
        }
        Ok(())
    }
}

impl Fold for DataReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let data = self;
        let content = &data.content;
        tx.prepare_cached(
            "INSERT OR IGNORE INTO data_receipts VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
        )?
        .execute(params![
            digest.as_bytes(),
            data.dataset,
            data.number as i64,
            data.path.as_str(),
            word(&content.kind),
            content.digest.as_bytes(),
            content.size as i64,
            content.files.map(|n| n as i64),
            word(&data.hold),
            data.rows.map(|n| n as i64),
            data.recorded,
            data.by,
            data.note,
            private_text(content)
        ])?;
        Ok(())
    }
}

impl Fold for LossReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let loss = self;
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO losses VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)")?;
        for (position, lost) in loss.lost.iter().enumerate() {
            let lost_digest = lost.digest.map(|d| *d.as_bytes());
            let (position, receipt) = (position as i64, digest.as_bytes());
            insert.execute(params![receipt, position, lost_digest, lost.kind, lost.run, loss.found, loss.by, loss.acknowledged])?;
        }
        Ok(())
    }
}

impl Fold for PruneReceipt {
    fn fold(&self, tx: &Transaction<'_>, _digest: &Digest) -> rusqlite::Result<()> {
        let prune = self;
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO dropped VALUES (?1, ?2)")?;
        for digest in prune.dropped.keys() {
            insert.execute(params![digest.as_bytes(), prune.pruned])?;
        }
        Ok(())
    }
}

impl Fold for EraseReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let mut insert = tx.prepare_cached("INSERT OR IGNORE INTO erased VALUES (?1, ?2, ?3)")?;
        let sources: BTreeSet<&Digest> = self.versions.values().map(|v| &v.digest).collect();
        for content in self.contents.keys().chain(sources.iter().copied()) {
            insert.execute(params![content.as_bytes(), digest.as_bytes(), sources.contains(content)])?;
        }
        tx.prepare_cached("INSERT OR IGNORE INTO erasures VALUES (?1, ?2, ?3, ?4, ?5)")?.execute(params![
            digest.as_bytes(),
            self.erased,
            self.by,
            self.because,
            self.dataset
        ])?;
        Ok(())
    }
}

impl Fold for PublishReceipt {
    /// That it is there is all that is asked of it.
    fn fold(&self, _tx: &Transaction<'_>, _digest: &Digest) -> rusqlite::Result<()> {
        Ok(())
    }
}

impl Fold for RebuildReceipt {
    fn fold(&self, tx: &Transaction<'_>, digest: &Digest) -> rusqlite::Result<()> {
        let rebuild = self;
        tx.prepare_cached("INSERT OR IGNORE INTO rebuilds VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)")?.execute(params![
            digest.as_bytes(),
            rebuild.run,
            rebuild.target,
            rebuild.started,
            rebuild.seconds,
            word(&rebuild.verdict),
            rebuild.by
        ])?;
        Ok(())
    }
}
