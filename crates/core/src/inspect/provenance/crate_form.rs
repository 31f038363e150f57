//! A Workflow Run RO-Crate (<https://www.researchobject.org/workflow-run-crate/profiles/workflow_run_crate/>, 0.5, on RO-Crate 1.1):
//! the text of `ro-crate-metadata.json`.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};

use super::Provenance;
use crate::inspect::lineage::{Node, NodeKind};

/// A file or folder of the crate; two states of one path have names of their own.
fn names<'t>(nodes: &[&'t Node]) -> BTreeMap<&'t str, String> {
    let mut taken = BTreeSet::new();
    let mut found = BTreeMap::new();
    for node in nodes {
        let slash = if node.kind == NodeKind::Folder { "/" } else { "" };
        let path = super::encoded(node.name.trim_start_matches('/'));
        let mut name = format!("{path}{slash}");
        if !taken.insert(name.clone()) {
            name = format!("{path}.{}{slash}", super::short(&node.digest));
            taken.insert(name.clone());
        }
        found.insert(node.id.as_str(), name);
    }
    found
}

fn refs(ids: &BTreeSet<String>) -> Vec<Value> {
    ids.iter().map(|id| json!({ "@id": id })).collect()
}

/// The crate as it comes about.
struct Crate<'p> {
    told: &'p Provenance<'p>,
    names: BTreeMap<&'p str, String>,
    /// Files, executions, tools, people: entities that are named by others.
    things: Vec<Value>,
    actions: BTreeSet<String>,
    tools: BTreeSet<String>,
    agents: BTreeSet<String>,
    params: BTreeSet<String>,
    inputs: BTreeSet<String>,
    results: BTreeSet<String>,
}

impl Crate<'_> {
    /// A file, folder, checkpoint or published version.
    fn content(&mut self, node: &Node) -> String {
        let name = self.names[node.id.as_str()].clone();
        let kind = if node.kind == NodeKind::Folder { "Dataset" } else { "File" };
        let mut one = json!({"@id": name, "@type": kind, "name": node.name, "identifier": format!("b3:{}", node.digest.hex())});
        if let (Some(size), Some(table)) = (node.size, one.as_object_mut()) {
            table.insert("contentSize".into(), json!(size.to_string()));
        }
        self.things.push(one);
        name
    }

    /// What goes into an execution, and what it wrote.
    fn around(&mut self, node: &Node) -> (BTreeSet<String>, BTreeSet<String>) {
        let (mut objects, mut made) = (BTreeSet::new(), BTreeSet::new());
        for edge in &self.told.trace.edges {
            if edge.to == node.id {
                if let Some(name) = self.names.get(edge.from.as_str()) {
                    objects.insert(name.clone());
                } else if let Some(param) = self.told.trace.nodes.iter().find(|n| n.id == edge.from && n.kind == NodeKind::Param) {
                    let id = format!("#param-{}-{}", super::encoded(&param.name), super::short(&param.digest));
                    if self.params.insert(id.clone()) {
                        let one = json!({"@id": id, "@type": "PropertyValue", "name": param.name, "value": param.value});
                        self.things.push(one);
                    }
                    objects.insert(id);
                }
            } else if edge.from == node.id
                && let Some(name) = self.names.get(edge.to.as_str())
            {
                made.insert(name.clone());
            }
        }
        (objects, made)
    }

    /// An execution of a stage, the stage as a tool, and who ran it.
    fn execution(&mut self, node: &Node) {
        let Some(receipt) = self.told.receipt_of(node) else { return };
        let (began, ended) = Provenance::times(receipt);
        let action = format!("#execution-{}", super::short(&node.digest));
        let tool = format!("#stage-{}", super::encoded(&node.name));
        let (objects, made) = self.around(node);
        let mut one = json!({
            "@id": action, "@type": "CreateAction", "name": format!("{} in run {}", node.name, receipt.run),
            "instrument": {"@id": tool}, "startTime": began, "endTime": ended, "object": refs(&objects), "result": refs(&made),
            "actionStatus": {"@id": "http://schema.org/CompletedActionStatus"},
        });
        if let (Some(run), Some(table)) = (self.told.runs.get(&receipt.run), one.as_object_mut()) {
            let agent = format!("#agent-{}", super::encoded(&run.by));
            table.insert("agent".into(), json!({ "@id": agent }));
            if self.agents.insert(agent.clone()) {
                self.things.push(json!({"@id": agent, "@type": "Person", "name": run.by}));
            }
        }
        self.things.push(one);
        self.actions.insert(action);
        if self.tools.insert(tool.clone()) {
            let one = json!({"@id": tool, "@type": "SoftwareApplication", "name": node.name, "description": node.value});
            self.things.push(one);
        }
        self.inputs.extend(objects);
        self.results.extend(made);
    }

    /// The pipeline's run as a whole.
    fn whole(&mut self) {
        let told = self.told;
        let sources: BTreeSet<String> = self.inputs.difference(&self.results).cloned().collect();
        let ends: BTreeSet<String> = told.ends().iter().filter_map(|n| self.names.get(n.id.as_str()).cloned()).collect();
        let run = "#pipeline-run".to_string();
        let began = told.trace.receipts.iter().map(|(_, r)| r.started.clone()).min().unwrap_or_else(|| told.time());
        self.things.push(json!({
            "@id": run, "@type": "CreateAction", "name": format!("{} made {}", told.project, told.target.name),
            "instrument": {"@id": "textum.toml"}, "startTime": began, "endTime": told.time(), "object": refs(&sources),
            "result": refs(&ends), "actionStatus": {"@id": "http://schema.org/CompletedActionStatus"},
        }));
        self.actions.insert(run);
    }
}

const PROFILES: [&str; 2] = ["https://w3id.org/ro/wfrun/process/0.5", "https://w3id.org/ro/wfrun/workflow/0.5"];
const WORKFLOW: &str = "https://w3id.org/workflowhub/workflow-ro-crate/1.0";

/// The trace as a crate.
pub fn ro_crate(told: &Provenance<'_>) -> Value {
    let is_content = |n: &&Node| matches!(n.kind, NodeKind::File | NodeKind::Folder | NodeKind::Checkpoint | NodeKind::Published);
    let contents: Vec<&Node> = told.trace.nodes.iter().filter(is_content).collect();
    let empty = BTreeSet::new;
    let mut made = Crate {
        told,
        names: names(&contents),
        things: Vec::new(),
        actions: empty(),
        tools: empty(),
        agents: empty(),
        params: empty(),
        inputs: empty(),
        results: empty(),
    };
    let mut parts: BTreeSet<String> = contents.iter().map(|node| made.content(node)).collect();
    parts.insert("textum.toml".to_string());
    told.trace.nodes.iter().filter(|n| n.kind == NodeKind::Stage).for_each(|node| made.execution(node));
    made.whole();
    let conforming: Vec<Value> = PROFILES.iter().chain([&WORKFLOW]).map(|p| json!({ "@id": p })).collect();
    let mut graph = vec![
        json!({
            "@id": "ro-crate-metadata.json", "@type": "CreativeWork", "about": {"@id": "./"},
            "conformsTo": [{"@id": "https://w3id.org/ro/crate/1.1"}, {"@id": WORKFLOW}],
        }),
        json!({
            "@id": "./", "@type": "Dataset", "name": told.project,
            "description": told.about.unwrap_or("A pipeline of Textum's, and what it made"), "datePublished": told.time(),
            "license": "none is stated", "conformsTo": conforming, "hasPart": refs(&parts), "mainEntity": {"@id": "textum.toml"},
            "mentions": refs(&made.actions),
        }),
    ];
    for profile in PROFILES {
        graph.push(json!({"@id": profile, "@type": "CreativeWork", "name": "Workflow Run RO-Crate profile", "version": "0.5"}));
    }
    graph.push(json!({"@id": WORKFLOW, "@type": "CreativeWork", "name": "Workflow RO-Crate", "version": "1.0"}));
    graph.push(json!({
        "@id": "textum.toml", "@type": ["File", "SoftwareSourceCode", "ComputationalWorkflow"],
        "name": format!("{}, the pipeline", told.project), "programmingLanguage": {"@id": "#textum"}, "hasPart": refs(&made.tools),
    }));
    graph.push(json!({"@id": "#textum", "@type": "ComputerLanguage", "name": "Textum manifest", "version": told.textum}));
    graph.extend(made.things);
    json!({
        "@context": ["https://w3id.org/ro/crate/1.1/context", "https://w3id.org/ro/terms/workflow-run/context"],
        "@graph": graph,
    })
}
