//! A trace: a tree upstream for people, the graph for programs.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use textum_core::inspect::lineage::{Node, NodeKind, Origin, Target, Trace};
use textum_core::record::ledger::ErasedOf;
use textum_core::record::receipt::{EnvironmentRecord, RunReceipt};

use super::data::Versions;
use super::text;
use crate::ui::{Style, escape};
use textum_core::store::Store;

/// What the text tells beside the trace itself.
pub struct Told<'t> {
    /// What of it was erased.
    pub erased: &'t [ErasedOf],
    /// What was traced.
    pub target: &'t Target,
    /// The trace.
    pub trace: &'t Trace,
    /// The run receipts of the executions in it, as far as they are known.
    pub runs: &'t BTreeMap<String, RunReceipt>,
    /// The environments of the executions, each once.
    pub environments: &'t [EnvironmentRecord],
    /// Where it was read when no stage wrote it: runs that used it.
    pub used_by: &'t [String],
    /// The versions of datasets.
    pub versions: &'t Versions,
    /// Whether observed inputs are told one by one.
    pub all: bool,
    /// The store that lists of observed files are read from.
    pub store: &'t Store,
    /// Now.
    pub now: jiff::Timestamp,
}

struct Tree<'t> {
    nodes: BTreeMap<&'t str, &'t Node>,
    into: BTreeMap<&'t str, Vec<&'t str>>,
    shown: BTreeSet<&'t str>,
    /// What stages read without declaring it.
    undeclared: BTreeSet<(&'t str, &'t str)>,
    observed: BTreeMap<&'t str, Vec<String>>,
    out: String,
    versions: &'t Versions,
    style: &'t Style,
}

impl<'t> Tree<'t> {
    /// The version that a node is, with what people have said of it.
    fn dataset(&self, name: &str, node: &Node) -> String {
        match self.versions.get(&(name.to_string(), node.digest)) {
            Some(version) if version.notes.is_empty() => format!("  {}", version.name()),
            Some(version) => format!("  {}: {}", version.name(), self.style.accent(&version.notes.join("; "))),
            None => format!("  dataset {name}"),
        }
    }

    fn label(&self, node: &Node) -> String {
        let style = self.style;
        match node.kind {
            NodeKind::Stage => format!(
                "{}  {}  {}",
                style.accent(&node.name),
                node.value.as_deref().unwrap_or_default(),
                style.dim(&format!(
                    "{}, {}",
                    node.run.as_deref().unwrap_or_default(),
                    text::seconds(node.seconds.unwrap_or_default())
                ))
            ),
            NodeKind::File | NodeKind::Folder => {
                let slash = if node.kind == NodeKind::Folder { "/" } else { "" };
                let dataset = node.dataset.as_deref().map(|d| self.dataset(d, node)).unwrap_or_default();
                let size = node.size.map(|s| format!(" {}", text::bytes(s))).unwrap_or_default();
                format!("{}{slash}  {}{dataset}", node.name, style.dim(&format!("{}{size}", node.digest.short())))
            }
            NodeKind::Published => {
                format!("{}  {}", style.accent(&node.name), node.value.as_deref().unwrap_or("of no run"))
            }
            NodeKind::Checkpoint => {
                let size = node.size.map(|s| format!(" {}", text::bytes(s))).unwrap_or_default();
                let run = node.run.as_deref().unwrap_or_default();
                let step = node.step.unwrap_or_default();
                format!("{}  {run}#{step}  {}", style.accent("checkpoint"), style.dim(&format!("{}{size}", node.digest.short())))
            }
            _ => node.name.clone(),
        }
    }

    /// Parameters and variables of a stage, on one line.
    fn settings(&self, inputs: &[&'t str]) -> Option<String> {
        let of = |kind: NodeKind| -> Vec<String> {
            let nodes = inputs.iter().filter_map(|i| self.nodes.get(i)).filter(|n| n.kind == kind && n.value.is_some());
            nodes.map(|n| format!("{} {}", n.name, text::param(n.value.as_deref().unwrap_or_default()))).collect()
        };
        let all: Vec<String> = of(NodeKind::Param);
        (!all.is_empty()).then(|| all.join(" · "))
    }

    fn add(&mut self, id: &'t str, lead: &str, branch: &str, of: &'t str) {
        let Some(node) = self.nodes.get(id).copied() else { return };
        let again = !self.shown.insert(id) && self.into.get(id).is_some_and(|i| !i.is_empty());
        let undeclared = self.undeclared.contains(&(id, of));
        let mark = if undeclared { format!("  {}", self.style.bad("undeclared")) } else { String::new() };
        let label = format!("{}{mark}", self.label(node));
        let above = if again { self.style.dim("  (as above)") } else { String::new() };
        self.out.push_str(&format!("{lead}{branch}{label}{above}\n"));
        if again {
            return;
        }
        let lead = format!(
            "{lead}{}",
            match branch {
                "├─ " => "│  ",
                "└─ " => "   ",
                _ => "",
            }
        );
        let inputs = self.into.get(id).cloned().unwrap_or_default();
        let settings = self.settings(&inputs);
        let below: Vec<&str> = inputs
            .into_iter()
            .filter(|i| {
                self.nodes.get(i).is_some_and(|n| !matches!(n.kind, NodeKind::Param | NodeKind::Environment | NodeKind::Observed))
            })
            .collect();
        let observed = self.observed.get(id).cloned().unwrap_or_default();
        if let Some(settings) = settings {
            let branch = if below.is_empty() && observed.is_empty() { "└─ " } else { "├─ " };
            self.out.push_str(&format!("{lead}{branch}{settings}\n"));
        }
        for (i, line) in observed.iter().enumerate() {
            let branch = if below.is_empty() && i + 1 == observed.len() { "└─ " } else { "├─ " };
            self.out.push_str(&format!("{lead}{branch}{line}\n"));
        }
        for (i, input) in below.iter().enumerate() {
            self.add(input, &lead, if i + 1 == below.len() { "└─ " } else { "├─ " }, id);
        }
    }
}

/// The trace as a tree, for people.
pub fn text(told: &Told<'_>, style: &Style) -> String {
    let mut into: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for edge in &told.trace.edges {
        into.entry(&edge.to).or_default().push(&edge.from);
    }
    let nodes: BTreeMap<&str, &Node> = told.trace.nodes.iter().map(|n| (n.id.as_str(), n)).collect();
    let observed = told.trace.observed.iter().map(|o| (o.stage.as_str(), super::observed::lines(o, told.store, told.all, style)));
    let undeclared = told.trace.edges.iter().filter(|e| e.role == "observed").map(|e| (e.from.as_str(), e.to.as_str()));
    let mut tree = Tree {
        nodes,
        into,
        shown: BTreeSet::new(),
        undeclared: undeclared.collect(),
        observed: observed.collect(),
        out: String::new(),
        versions: told.versions,
        style,
    };
    for end in &told.trace.ends {
        tree.add(end, "", "", "");
    }
    format!("{}\n\n{}\n{}", headline(told, style), tree.out, footing(told, style))
}

fn headline(told: &Told<'_>, style: &Style) -> String {
    let target = told.target;
    let stages = told.trace.receipts.len();
    let sources = told.trace.nodes.iter().filter(|n| matches!(n.kind, NodeKind::File | NodeKind::Folder));
    let written: BTreeSet<&str> =
        told.trace.edges.iter().filter(|e| matches!(e.role, "writes" | "holds" | "published")).map(|e| e.to.as_str()).collect();
    let sources = sources.filter(|n| !written.contains(n.id.as_str())).count() as u64;
    let path = target.path.as_deref().filter(|p| *p != target.name).map(|p| format!(" is {p},")).unwrap_or_default();
    match &target.origin {
        Origin::Run(run) => format!(
            "{} comes from {} through {}",
            style.bold(&run.run),
            text::counted(sources, "source"),
            text::counted(stages as u64, "stage")
        ),
        Origin::Written { .. } => {
            let last = told.trace.receipts.last().map(|(_, r)| r);
            let by = last
                .map(|r| format!("written by {} in run {}, {}", r.inputs.stage, r.run, text::ago(&r.started, told.now)))
                .unwrap_or_default();
            let path = target.path.as_deref().filter(|p| *p != target.name).map(|p| format!(" is {p}")).unwrap_or_default();
            format!(
                "{}{path}\n{by}; {} through {}",
                style.bold(&target.name),
                text::counted(sources, "source"),
                text::counted(stages as u64, "stage")
            )
        }
        Origin::Checkpoint(made) => format!(
            "{}{path} a checkpoint: step {} of {} in run {}; from {} through {}",
            style.bold(&target.name),
            made.step,
            made.stage,
            made.run,
            text::counted(sources, "source"),
            text::counted(stages as u64, "stage")
        ),
        Origin::Source { .. } => {
            let comma = if path.is_empty() { "," } else { "" };
            format!(
                "{}{path}{comma} a source: no stage wrote it; read by {}",
                style.bold(&target.name),
                text::some(told.used_by, 6)
            )
        }
    }
}

fn footing(told: &Told<'_>, style: &Style) -> String {
    let mut lines = Vec::new();
    for environment in told.environments {
        let python =
            environment.python.as_ref().map(|p| format!("{}, {}", p.version, text::counted(p.packages.len() as u64, "package")));
        let parts: Vec<String> = python.into_iter().chain([environment.system.clone()]).collect();
        lines.push(format!("{}  {}", style.dim("environment"), parts.join(", ")));
    }
    let variables: BTreeSet<String> = told
        .trace
        .nodes
        .iter()
        .filter(|n| n.kind == NodeKind::Environment)
        .filter_map(|n| n.value.as_ref().map(|v| format!("{}={v}", n.name)))
        .collect();
    if !variables.is_empty() {
        lines.push(format!("{}    {}", style.dim("variables"), variables.into_iter().collect::<Vec<_>>().join(" ")));
    }
    let mut commits: Vec<String> = Vec::new();
    for git in told.runs.values().filter_map(|r| r.git.as_ref()) {
        let branch = git.branch.as_deref().map(|b| format!(" on {b}")).unwrap_or_default();
        let dirty = if git.dirty { ", with changes not committed (the exact code is recorded: --code)" } else { "" };
        let line = format!("{}{branch}{dirty}", text::commit(&git.commit));
        if !commits.contains(&line) {
            commits.push(line);
        }
    }
    lines.extend(told.erased.iter().map(|erased| format!("{}       {}", style.bad("erased"), escape::line(&erased.to_string()))));
    lines.extend(commits.into_iter().map(|c| format!("{}       {c}", style.dim("commit"))));
    lines.join("\n")
}

/// The trace as JSON.
pub fn json(told: &Told<'_>) -> Value {
    let commits: BTreeMap<&String, _> =
        told.runs.iter().map(|(id, r)| (id, json!({"started": r.started, "git": r.git, "by": r.by}))).collect();
    json!({
        "target": {"name": told.target.name, "path": told.target.path, "digest": told.target.digest},
        "nodes": told.trace.nodes, "edges": told.trace.edges, "ends": told.trace.ends, "runs": commits,
        "environments": told.environments, "erased": told.erased,
        "observed": told.trace.observed.iter().map(|o| super::observed::json(o, told.store, told.all)).collect::<Vec<_>>(),
    })
}

/// The trace as Graphviz.
pub fn dot(trace: &Trace) -> String {
    let quoted = escape::graphviz;
    let mut out = String::from("digraph trace {\n  rankdir=LR;\n");
    for node in &trace.nodes {
        let shape = match node.kind {
            NodeKind::Stage => "box",
            NodeKind::File | NodeKind::Folder => "note",
            NodeKind::Param => "plain",
            NodeKind::Environment => "component",
            NodeKind::Checkpoint => "cylinder",
            NodeKind::Observed => "folder",
            NodeKind::Published => "box3d",
        };
        let label = match &node.value {
            Some(value) if node.kind == NodeKind::Param => format!("{} {}", node.name, text::param(value)),
            _ => node.name.clone(),
        };
        out.push_str(&format!("  {} [label={}, shape={shape}];\n", quoted(&node.id), quoted(&label)));
    }
    for edge in &trace.edges {
        out.push_str(&format!("  {} -> {};\n", quoted(&edge.from), quoted(&edge.to)));
    }
    out.push_str("}\n");
    out
}

/// The trace as a Mermaid diagram.
pub fn mermaid(trace: &Trace) -> String {
    let number: BTreeMap<&str, usize> = trace.nodes.iter().enumerate().map(|(i, n)| (n.id.as_str(), i)).collect();
    let mut out = String::from("flowchart LR\n");
    for (i, node) in trace.nodes.iter().enumerate() {
        let value = node
            .value
            .as_ref()
            .filter(|_| node.kind == NodeKind::Param)
            .map(|v| format!(" {}", text::param(v)))
            .unwrap_or_default();
        let name = format!("{}{value}", node.name).replace('"', "#quot;");
        out.push_str(&match node.kind {
            NodeKind::Stage => format!("  n{i}[[\"{name}\"]]\n"),
            _ => format!("  n{i}[\"{name}\"]\n"),
        });
    }
    for edge in &trace.edges {
        if let (Some(from), Some(to)) = (number.get(edge.from.as_str()), number.get(edge.to.as_str())) {
            out.push_str(&format!("  n{from} --> n{to}\n"));
        }
    }
    out
}
