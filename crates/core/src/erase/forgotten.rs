//! Which words of documents no longer keep anything, once rows are to be forgotten.

use std::collections::HashSet;

use super::EraseError;
use crate::maintain::upkeep::Inventory;
use crate::publish::{Reached, Seeds, is_made_of};
use crate::record::receipt::{Content, ContentKind, Document, GivenUp, Reference, Role, Target, files_in};
use crate::store::{Digest, Store};

/// The files of a folder; of a file none.
fn parts_of(store: &Store, content: &Content) -> Vec<Digest> {
    // Asking for a listing may fetch it.
    if content.kind == ContentKind::Folder { files_in(store, &content.digest) } else { Vec::new() }
}

/// What is to be forgotten: contents with the rows, and what was made of them.
#[derive(Default)]
pub struct Forgotten {
    /// Contents that go whoever speaks of them: versions with the rows, and copies of what was made of them.
    pub sources: HashSet<Digest>,
    /// Receipts of executions that were made of them, of their checkpoints and of what was published of them.
    pub documents: HashSet<Digest>,
    /// What those executions wrote, files of folders too.
    pub made: HashSet<Digest>,
    /// Models that stay.
    pub models: HashSet<Digest>,
}

/// A content that a document gives up.
pub struct Given {
    /// The document.
    pub document: Digest,
    /// The content.
    pub digest: Digest,
    /// What it is.
    pub kind: ContentKind,
    /// Its size in bytes; 0 where the document does not say.
    pub size: u64,
    /// As what it is given up.
    pub given: GivenAs,
    /// Where it stood; empty where it stood nowhere.
    pub path: String,
}

/// As what something is given up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum GivenAs {
    /// A version of a dataset, or a copy of one.
    Data,
    /// What a stage wrote.
    Output,
    /// A checkpoint.
    Checkpoint,
    /// What a stage printed.
    Log,
    /// What was published.
    Published,
}

impl Forgotten {
    /// Adds what was reached in a project. `keeps` says of a path whether a model of the manifest lies there, where models
    /// are to stay.
    pub fn add(
        &mut self,
        store: &Store,
        all: &Inventory,
        seeds: &Seeds,
        reached: &Reached,
        keeps: Option<&dyn Fn(&str) -> bool>,
    ) -> Result<(), EraseError> {
        let mut steps: HashSet<(&str, &str)> = HashSet::new();
        let mut paths: HashSet<(&str, Digest)> = HashSet::new();
        for (digest, receipt) in all.stages.iter().filter(|(d, _)| reached.executions.contains(d)) {
            self.documents.insert(*digest);
            self.documents.extend(receipt.observed.iter().filter_map(|o| o.inputs));
            steps.insert((&receipt.run, &receipt.inputs.stage));
            for output in receipt.outputs() {
                let parts = parts_of(store, &output.content);
                if keeps.is_some_and(|is_model| is_model(&output.path)) {
                    self.models.insert(output.content.digest);
                    self.models.extend(&parts);
                }
                paths.insert((&output.path, output.content.digest));
                self.made.insert(output.content.digest);
                self.made.extend(parts);
            }
            // A published version that was made of them, brought in as a dataset.
            let copies = receipt.reads.iter().filter(|r| r.published.is_some() && reached.contents.contains(&r.at.content.digest));
            // The folder alone: of its files code may be anybody's.
            self.sources.extend(copies.filter(|_| keeps.is_none()).map(|read| read.at.content.digest));
        }
        // Documents of observed inputs are shared: they count as long as anybody else has one.
        for (_, receipt) in all.stages.iter().filter(|(d, _)| !reached.executions.contains(d)) {
            for inputs in receipt.observed.iter().filter_map(|o| o.inputs) {
                self.documents.remove(&inputs);
            }
        }
        for (digest, made) in all.checkpoints.iter().filter(|(_, m)| steps.contains(&(m.run.as_str(), m.stage.as_str()))) {
            self.documents.extend([*digest, made.start]);
            self.made.insert(made.content.digest);
            self.made.extend(parts_of(store, &made.content));
        }
        // A dataset that is declared where a stage writes.
        for (_, data) in all.data.iter().filter(|(_, d)| paths.contains(&(&*d.path, d.content.digest))) {
            if !self.models.contains(&data.content.digest) {
                self.sources.insert(data.content.digest);
            }
        }
        for (digest, published) in &all.publications {
            if is_made_of(&published.bundle, seeds, &reached.contents, &reached.executions) {
                self.documents.insert(*digest);
                if keeps.is_some() {
                    self.models.extend(published.bundle.files.iter().map(|f| f.digest));
                }
            }
        }
        Ok(())
    }

    /// What the documents of a project give up.
    pub fn given_up_in(&self, all: &Inventory) -> Vec<Given> {
        let mut found = Vec::new();
        let mut tell = |document: &Digest, reference: Reference<'_>| {
            if !self.reference(document, &reference) {
                return;
            }
            let given = match reference.role {
                Role::Read if !self.sources.contains(&digest_of(&reference)) => GivenAs::Output,
                Role::Output => GivenAs::Output,
                Role::Checkpoint | Role::Branch => GivenAs::Checkpoint,
                Role::Log => GivenAs::Log,
                Role::Published => GivenAs::Published,
                _ => GivenAs::Data,
            };
            let (digest, kind, size) = match reference.target {
                Target::Bytes(digest) => (digest, ContentKind::File, 0),
                Target::Content(content) => (content.digest, content.kind, content.size),
            };
            found.push(Given { document: *document, digest, kind, size, given, path: reference.path.to_string() });
        };
        all.runs.iter().for_each(|(d, run)| run.references(&mut |r| tell(d, r)));
        all.data.iter().for_each(|(d, data)| data.references(&mut |r| tell(d, r)));
        all.checkpoints.iter().for_each(|(d, made)| made.references(&mut |r| tell(d, r)));
        all.stages.iter().for_each(|(d, stage)| stage.references(&mut |r| tell(d, r)));
        all.publications.iter().for_each(|(d, published)| published.references(&mut |r| tell(d, r)));
        found
    }
}

fn digest_of(reference: &Reference<'_>) -> Digest {
    match reference.target {
        Target::Bytes(digest) => digest,
        Target::Content(content) => content.digest,
    }
}

impl GivenUp for Forgotten {
    fn reference(&self, document: &Digest, reference: &Reference<'_>) -> bool {
        let digest = digest_of(reference);
        if self.models.contains(&digest) {
            return false;
        }
        if self.sources.contains(&digest) {
            return true;
        }
        self.documents.contains(document)
            && match reference.role {
                Role::Output | Role::Checkpoint | Role::Published | Role::Log => true,
                Role::Read | Role::Branch => self.made.contains(&digest),
                _ => false,
            }
    }

    fn file(&self, document: &Digest, content: &Digest) -> bool {
        !self.models.contains(content)
            && (self.sources.contains(content) || (self.documents.contains(document) && self.made.contains(content)))
    }

    fn never_stays(&self, content: &Digest) -> bool {
        self.sources.contains(content) && !self.models.contains(content)
    }
}
