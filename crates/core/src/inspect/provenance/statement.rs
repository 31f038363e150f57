//! An in-toto Statement, version 1 (<https://github.com/in-toto/attestation>), with SLSA Provenance 1 (<https://slsa.dev/provenance/v1>).

use serde_json::{Map, Value, json};

use super::{Provenance, purl};
use crate::inspect::lineage::{Node, NodeKind};

/// The type of such a statement in a DSSE envelope.
pub const STATEMENT_TYPE: &str = "application/vnd.in-toto+json";

fn described(node: &Node) -> Value {
    let mut one = json!({"name": node.name, "digest": {"blake3": node.digest.hex()}});
    if let (Some(dataset), Some(table)) = (&node.dataset, one.as_object_mut()) {
        table.insert("annotations".into(), json!({"dataset": dataset}));
    }
    one
}

/// The trace as a statement about what was asked for.
pub fn statement(told: &Provenance<'_>) -> Value {
    let subject: Vec<Value> = told.ends().iter().map(|n| json!({"name": n.name, "digest": {"blake3": n.digest.hex()}})).collect();
    let params: Map<String, Value> = told
        .trace
        .nodes
        .iter()
        .filter(|n| n.kind == NodeKind::Param)
        .filter_map(|n| Some((n.name.clone(), serde_json::from_str(n.value.as_deref()?).unwrap_or(Value::Null))))
        .collect();
    let mut needed: Vec<Value> = told.sources().into_iter().map(described).collect();
    for node in
        told.trace.nodes.iter().filter(|n| matches!(n.kind, NodeKind::Published | NodeKind::Environment) && n.value.is_none())
    {
        needed.push(described(node));
    }
    needed.extend(told.packages().iter().map(|(name, version)| json!({"name": name, "uri": purl(name, version)})));
    for run in told.runs.values() {
        if let Some(git) = &run.git {
            let one = json!({"name": "commit", "digest": {"gitCommit": git.commit}, "annotations": {"changed": git.dirty}});
            if !needed.contains(&one) {
                needed.push(one);
            }
        }
    }
    let stages: Vec<Value> = told
        .trace
        .receipts
        .iter()
        .map(|(digest, receipt)| {
            let (began, ended) = Provenance::times(receipt);
            json!({
                "name": receipt.inputs.stage, "digest": {"blake3": digest.hex()},
                "annotations": {"run": receipt.run, "started": began, "finished": ended, "host": receipt.place.host},
            })
        })
        .collect();
    let times: Vec<(String, String)> = told.trace.receipts.iter().map(|(_, receipt)| Provenance::times(receipt)).collect();
    let host = told.trace.receipts.last().map_or("unknown", |(_, receipt)| receipt.place.host.as_str());
    let mut metadata = json!({"invocationId": told.trace.receipts.last().map_or("", |(_, receipt)| receipt.run.as_str())});
    if let (Some(began), Some(ended), Some(table)) =
        (times.iter().map(|t| &t.0).min(), times.iter().map(|t| &t.1).max(), metadata.as_object_mut())
    {
        table.insert("startedOn".into(), json!(began));
        table.insert("finishedOn".into(), json!(ended));
    }
    json!({
        "_type": "https://in-toto.io/Statement/v1",
        "subject": subject,
        "predicateType": "https://slsa.dev/provenance/v1",
        "predicate": {
            "buildDefinition": {
                "buildType": "urn:textum:pipeline:1",
                "externalParameters": {"project": told.project, "params": params},
                "internalParameters": {},
                "resolvedDependencies": needed,
            },
            "runDetails": {
                "builder": {"id": format!("urn:textum:host:{}", super::encoded(host)), "version": {"textum": told.textum}},
                "metadata": metadata,
                "byproducts": stages,
            },
        },
    })
}
