//! The upstream graph of a target: data flows along the edges, from inputs to what is made of them.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::find::{Origin, Target, TraceError};
use super::observed::ObservedOf;
use crate::config::manifest::{Needs, command_text};
use crate::record::receipt::{
    BranchedFrom, CheckpointReceipt, Content, ContentKind, PathContent, STAGE_RECEIPT, StageReceipt, StageStart, StageState,
    part_of_folder,
};
use crate::store::{Digest, Store};
use textum_registry::{CARD_NAME, Card, LARGEST_CARD};

/// What a node is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum NodeKind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// An execution of a stage.
    Stage,
    /// A parameter.
    Param,
    /// Interpreter and packages, or an environment variable.
    Environment,
    /// A checkpoint that a stage went on from.
    Checkpoint,
    /// Files that a stage was seen to read and that belong together: a package, programs.
    Observed,
    /// A published version, whose own receipts may lie elsewhere.
    Published,
}

/// A node of a trace.
#[derive(Clone, Debug, Serialize)]
pub struct Node {
    /// Unique in the trace.
    pub id: String,
    /// What it is.
    pub kind: NodeKind,
    /// Path, stage, parameter or variable.
    pub name: String,
    /// The digest that its content can be had back by: of a stage, its receipt.
    pub digest: Digest,
    /// Of a parameter or variable: its value. Of a stage: its command.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Of a file or folder: its size in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// Of a file or folder: the dataset that it is or is part of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dataset: Option<String>,
    /// Of a stage: its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<Digest>,
    /// Of a stage: the run that executed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// Of a checkpoint: its step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub step: Option<u64>,
    /// Of a stage: seconds it took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// Of observed files: how many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
    /// Of observed files: whether a change of them means that the result cannot be used again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub counts: Option<bool>,
    /// Of a stage: when it began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub started: Option<String>,
}

/// An edge of a trace.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Edge {
    /// The node that something comes from.
    pub from: String,
    /// The node that it goes into.
    pub to: String,
    /// `reads`, `writes`, `param`, `environment`, `observed`, `published`, or `checkpoint` from a checkpoint to what goes on from it.
    pub role: &'static str,
}

/// Everything upstream of a target.
#[derive(Clone, Debug, Default)]
pub struct Trace {
    /// Nodes, each after all it comes from.
    pub nodes: Vec<Node>,
    /// Edges.
    pub edges: Vec<Edge>,
    /// The nodes that were asked for.
    pub ends: Vec<String>,
    /// The stage receipts met, by digest, each after those it reads from.
    pub receipts: Vec<(Digest, StageReceipt)>,
    /// What is known of the observed inputs of each.
    pub observed: Vec<ObservedOf>,
}

pub(super) struct Tracer<'s> {
    pub(super) store: &'s Store,
    pub(super) trace: Trace,
    known: BTreeSet<String>,
    edges: BTreeSet<Edge>,
    stages: BTreeMap<Digest, String>,
}

pub(super) fn short(digest: &Digest) -> String {
    digest.hex()[..12].to_string()
}

/// Follows a target upstream to its last inputs.
pub fn trace(store: &Store, target: &Target) -> Result<Trace, TraceError> {
    let mut tracer =
        Tracer { store, trace: Trace::default(), known: BTreeSet::new(), edges: BTreeSet::new(), stages: BTreeMap::new() };
    match &target.origin {
        Origin::Run(run) => {
            for receipt in run.stages.iter().filter_map(|s| s.receipt) {
                tracer.stage(&receipt)?;
                let loaded = StageReceipt::load(store, &receipt)?;
                for output in loaded.outputs() {
                    let id = tracer.output(&receipt, output)?;
                    tracer.trace.ends.push(id);
                }
            }
        }
        Origin::Written { receipt, output } => {
            let loaded = StageReceipt::load(store, receipt)?;
            if let Some(output) = loaded.outputs().find(|o| o.path == *output) {
                let id = tracer.output(receipt, output)?;
                let id = tracer.part(target, output, id);
                tracer.trace.ends.push(id);
            }
        }
        Origin::Checkpoint(made) => {
            let id = tracer.checkpoint(made)?;
            tracer.trace.ends.push(id);
        }
        Origin::Source { receipt, read } => {
            let loaded = StageReceipt::load(store, receipt)?;
            if let Some(read) = loaded.reads.iter().find(|r| r.at.path == *read) {
                let id = tracer.content(&read.at, read.dataset.clone());
                let id = tracer.part(target, &read.at, id);
                tracer.trace.ends.push(id);
            }
        }
    }
    let mut found = tracer.trace;
    found.edges = tracer.edges.into_iter().collect();
    Ok(found)
}

impl Tracer<'_> {
    pub(super) fn add(&mut self, node: Node) -> String {
        let id = node.id.clone();
        if self.known.insert(id.clone()) {
            self.trace.nodes.push(node);
        }
        id
    }

    pub(super) fn edge(&mut self, from: &str, to: &str, role: &'static str) {
        self.edges.insert(Edge { from: from.to_string(), to: to.to_string(), role });
    }

    pub(super) fn content<P: AsRef<str>>(&mut self, at: &PathContent<P>, dataset: Option<String>) -> String {
        let kind = if at.content.kind == ContentKind::Folder { NodeKind::Folder } else { NodeKind::File };
        let word = if kind == NodeKind::Folder { "folder" } else { "file" };
        let path = at.path.as_ref();
        self.add(Node {
            size: Some(at.content.size),
            dataset,
            ..plain(format!("{word}:{path}@{}", short(&at.content.digest)), kind, path, at.content.digest)
        })
    }

    /// The target itself, when it is only a part of a recorded folder.
    fn part<P: AsRef<str>>(&mut self, target: &Target, whole: &PathContent<P>, id: String) -> String {
        match &target.path {
            Some(path) if path != whole.path.as_ref() => {
                let part = self.add(plain(format!("file:{path}@{}", short(&target.digest)), NodeKind::File, path, target.digest));
                self.edge(&id, &part, "holds");
                part
            }
            _ => id,
        }
    }

    fn output(&mut self, receipt: &Digest, output: &PathContent) -> Result<String, TraceError> {
        let stage = self.stage(receipt)?;
        let id = self.content(output, None);
        self.edge(&stage, &id, "writes");
        Ok(id)
    }

    fn stage(&mut self, digest: &Digest) -> Result<String, TraceError> {
        if let Some(id) = self.stages.get(digest) {
            return Ok(id.clone());
        }
        let receipt = StageReceipt::load(self.store, digest)?;
        self.execution(*digest, receipt)
    }

    /// A checkpoint, and the training that made it: known by what it began with, however it ended.
    fn checkpoint(&mut self, from: &BranchedFrom) -> Result<String, TraceError> {
        let made = CheckpointReceipt::load(self.store, &from.checkpoint)?;
        let stage = match self.stages.get(&made.start) {
            Some(id) => id.clone(),
            None => {
                let start = StageStart::load(self.store, &made.start)?;
                self.execution(made.start, begun(start, made.seconds))?
            }
        };
        let id = self.add(Node {
            size: Some(from.content.size),
            run: Some(from.run.clone()),
            step: Some(from.step),
            ..plain(
                format!("checkpoint:{}#{}@{}", from.run, from.step, short(&from.content.digest)),
                NodeKind::Checkpoint,
                &made.path,
                from.content.digest,
            )
        });
        self.edge(&stage, &id, "writes");
        Ok(id)
    }

    fn execution(&mut self, digest: Digest, receipt: StageReceipt) -> Result<String, TraceError> {
        let inputs = &receipt.inputs;
        let id = format!("stage:{}@{}", inputs.stage, short(&digest));
        self.stages.insert(digest, id.clone());
        // Of a file of parameters only those count that stand among the inputs: they are the nodes.
        for read in receipt.reads.iter().chain(&receipt.versions).filter(|r| !r.params) {
            let mut writers = Vec::new();
            for by in &read.by {
                writers.push(self.stage(by)?);
            }
            let from = self.content(&read.at, read.dataset.clone());
            self.published(&read.at.content, read.published.as_deref(), &from);
            for writer in writers {
                self.edge(&writer, &from, "writes");
            }
            self.edge(&from, &id, if read.for_all { "environment" } else { "reads" });
        }
        if let Some(from) = &receipt.from {
            let checkpoint = self.checkpoint(from)?;
            self.edge(&checkpoint, &id, "checkpoint");
        }
        for (name, text) in &inputs.params {
            let digest = Digest::of(text.as_bytes());
            let node = plain(format!("param:{name}@{}", short(&digest)), NodeKind::Param, name, digest);
            let from = self.add(Node { value: Some(text.clone()), ..node });
            self.edge(&from, &id, "param");
        }
        for (name, text) in inputs.vars.iter().filter_map(|(n, v)| v.as_ref().map(|v| (n, v))) {
            let digest = Digest::of(text.as_bytes());
            let node = plain(format!("variable:{name}@{}", short(&digest)), NodeKind::Environment, name, digest);
            let from = self.add(Node { value: Some(text.clone()), ..node });
            self.edge(&from, &id, "environment");
        }
        if let Some(environment) = inputs.environment {
            let node = plain(format!("environment@{}", short(&environment)), NodeKind::Environment, "environment", environment);
            let from = self.add(node);
            self.edge(&from, &id, "environment");
        }
        if let Some(observed) = &receipt.observed {
            self.observed(&id, &receipt, observed)?;
        }
        self.add(Node {
            value: Some(command_text(&inputs.run)),
            key: Some(receipt.key),
            run: Some(receipt.run.clone()),
            seconds: Some(receipt.seconds),
            started: Some(receipt.started.clone()),
            ..plain(id.clone(), NodeKind::Stage, &inputs.stage, digest)
        });
        self.trace.receipts.push((digest, receipt));
        Ok(id)
    }
}

impl Tracer<'_> {
    fn card_of(&self, content: &Content) -> Option<Card> {
        if content.kind != ContentKind::Folder {
            return None;
        }
        let part = part_of_folder(self.store, &content.digest, CARD_NAME).ok()??;
        Card::read(&self.store.read(&Some(part).filter(|p| p.size <= LARGEST_CARD)?.digest).ok()?)
    }

    /// What the card in a folder tells of the published version that it is: the run, and the data that it comes from. Without
    /// one, as where it was erased, its name is what the receipt says.
    fn published(&mut self, content: &Content, named: Option<&str>, into: &str) {
        let Some(card) = self.card_of(content) else {
            if let Some(reference) = named {
                let id = format!("published:{reference}@{}", short(&content.digest));
                let node = plain(id, NodeKind::Published, reference, content.digest);
                let from = self.add(Node { value: Some("its card is not here".to_string()), ..node });
                self.edge(&from, into, "published");
            }
            return;
        };
        let id = format!("published:{}@{}", card.reference, short(&card.content));
        for (name, data) in &card.bundle.data {
            let version = data.version.map_or(name.clone(), |version| format!("{name}@{version}"));
            let node = plain(format!("data:{version}@{}", short(&data.digest)), NodeKind::File, &version, data.digest);
            let from = self.add(Node { size: Some(data.size), ..node });
            self.edge(&from, &id, "reads");
        }
        let run = card.bundle.run.as_ref();
        let node = plain(id, NodeKind::Published, &card.reference, card.content);
        let by = run.map(|run| format!("run {} of {}, by {}", run.run, run.project, run.by));
        let from =
            self.add(Node { value: by, run: run.map(|run| run.run.clone()), started: run.map(|r| r.started.clone()), ..node });
        self.edge(&from, into, "published");
    }
}

/// The training that made a checkpoint, as far as it is known by what it began with.
fn begun(start: StageStart, seconds: f64) -> StageReceipt {
    let nothing = Content::file(Digest::of(b""), 0);
    StageReceipt {
        r#type: STAGE_RECEIPT.to_string(),
        run: start.run,
        key: start.key,
        inputs: start.inputs,
        state: StageState::Stopped,
        reason: None,
        started: start.started,
        ordered: None,
        seconds,
        exit: None,
        reads: start.reads,
        writes: Vec::new(),
        metric_files: Vec::new(),
        metrics: BTreeMap::new(),
        signals: None,
        from: start.from,
        left: Vec::new(),
        log: nothing,
        environment: start.environment,
        needs: Needs { cpus: 1, memory: 0, gpus: 0, time: None },
        place: start.place,
        sandbox: false,
        observed: None,
        attempts: Vec::new(),
        taken_over: None,
        undeclared: Vec::new(),
        versions: Vec::new(),
    }
}

pub(super) fn plain(id: String, kind: NodeKind, name: &str, digest: Digest) -> Node {
    Node {
        id,
        kind,
        name: name.to_string(),
        digest,
        value: None,
        size: None,
        dataset: None,
        key: None,
        run: None,
        step: None,
        seconds: None,
        files: None,
        counts: None,
        started: None,
    }
}
