//! W3C PROV-JSON (<https://www.w3.org/submissions/prov-json/>).

use serde_json::{Map, Value, json};

use super::Provenance;
use crate::inspect::lineage::{Node, NodeKind};

fn id(node: &Node) -> String {
    let word = match node.kind {
        NodeKind::File | NodeKind::Folder => "content",
        NodeKind::Stage => "execution",
        NodeKind::Param => "param",
        NodeKind::Environment => "environment",
        NodeKind::Checkpoint => "checkpoint",
        NodeKind::Observed => "observed",
        NodeKind::Published => "published",
    };
    // Two parameters may have one value, two paths one content.
    format!("t:{word}-{}-{}", super::short(&node.digest), super::short(&crate::store::Digest::of(node.name.as_bytes())))
}

/// The trace as PROV: contents, parameters and environments are entities, executions are activities, people are agents.
pub fn prov_json(told: &Provenance<'_>) -> Value {
    let (mut entities, mut activities, mut agents) = (Map::new(), Map::new(), Map::new());
    let (mut used, mut generated, mut associated) = (Map::new(), Map::new(), Map::new());
    let (mut members, mut derived) = (Map::new(), Map::new());
    for node in &told.trace.nodes {
        let mut facts = json!({"prov:label": node.name, "t:digest": node.digest});
        let Some(table) = facts.as_object_mut() else { continue };
        node.value.iter().for_each(|value| drop(table.insert("t:value".into(), json!(value))));
        node.dataset.iter().for_each(|dataset| drop(table.insert("t:dataset".into(), json!(dataset))));
        if let Some(size) = node.size {
            table.insert("t:size".into(), json!({"$": size.to_string(), "type": "xsd:unsignedLong"}));
        }
        if node.kind == NodeKind::Folder {
            table.insert("prov:type".into(), json!({"$": "prov:Collection", "type": "prov:QUALIFIED_NAME"}));
        }
        match (node.kind, told.receipt_of(node)) {
            (NodeKind::Stage, Some(receipt)) => {
                let (began, ended) = Provenance::times(receipt);
                table.insert("prov:startTime".into(), json!(began));
                table.insert("prov:endTime".into(), json!(ended));
                table.insert("t:run".into(), json!(receipt.run));
                table.insert("t:key".into(), json!(receipt.key));
                if let Some(run) = told.runs.get(&receipt.run) {
                    let agent = format!("t:agent-{}", super::short(&crate::store::Digest::of(run.by.as_bytes())));
                    agents.insert(agent.clone(), json!({"prov:label": run.by}));
                    let number = associated.len();
                    associated.insert(format!("_:a{number}"), json!({"prov:activity": id(node), "prov:agent": agent}));
                }
                activities.insert(id(node), facts);
            }
            (NodeKind::Stage, None) => drop(activities.insert(id(node), facts)),
            _ => drop(entities.insert(id(node), facts)),
        }
    }
    let node_of = |wanted: &str| told.trace.nodes.iter().find(|n| n.id == wanted);
    for edge in &told.trace.edges {
        let (Some(from), Some(to)) = (node_of(&edge.from), node_of(&edge.to)) else { continue };
        match (from.kind, to.kind) {
            (NodeKind::Stage, _) => {
                let number = generated.len();
                generated.insert(format!("_:g{number}"), json!({"prov:entity": id(to), "prov:activity": id(from)}));
            }
            (_, NodeKind::Stage) => {
                let number = used.len();
                let one = json!({"prov:activity": id(to), "prov:entity": id(from), "prov:role": edge.role});
                used.insert(format!("_:u{number}"), one);
            }
            _ if edge.role == "holds" => {
                let number = members.len();
                members.insert(format!("_:m{number}"), json!({"prov:collection": id(from), "prov:entity": id(to)}));
            }
            _ => {
                let number = derived.len();
                derived.insert(format!("_:d{number}"), json!({"prov:generatedEntity": id(to), "prov:usedEntity": id(from)}));
            }
        }
    }
    let mut out = Map::new();
    out.insert("prefix".into(), json!({"t": "urn:textum:", "xsd": "http://www.w3.org/2001/XMLSchema#"}));
    for (name, table) in [
        ("entity", entities),
        ("activity", activities),
        ("agent", agents),
        ("used", used),
        ("wasGeneratedBy", generated),
        ("wasAssociatedWith", associated),
        ("hadMember", members),
        ("wasDerivedFrom", derived),
    ] {
        if !table.is_empty() {
            out.insert(name.into(), Value::Object(table));
        }
    }
    Value::Object(out)
}
