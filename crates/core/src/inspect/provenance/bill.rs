//! A bill of materials: CycloneDX 1.6 (<https://cyclonedx.org/docs/1.6/json/>), with the model, its data, code and packages.

use serde_json::{Value, json};

use super::{Provenance, purl};
use crate::inspect::lineage::{Node, NodeKind};
use crate::store::Digest;

fn reference(node: &Node) -> String {
    format!("{}#{}", super::encoded(&node.name), super::short(&node.digest))
}

fn hashes(digest: &Digest) -> Value {
    json!([{"alg": "BLAKE3", "content": digest.hex()}])
}

/// A number that looks like a random one and is the same for the same trace.
fn serial(told: &Provenance<'_>) -> String {
    let all: Vec<String> = told.trace.nodes.iter().map(|n| n.id.clone()).collect();
    let hex = Digest::of(all.join("\n").as_bytes()).hex();
    format!("urn:uuid:{}-{}-4{}-8{}-{}", &hex[..8], &hex[8..12], &hex[13..16], &hex[17..20], &hex[20..32])
}

/// The trace as a bill of materials of what was asked for.
pub fn cyclonedx(told: &Provenance<'_>) -> Value {
    let ends = told.ends();
    let sources = told.sources();
    let mut components: Vec<Value> = Vec::new();
    let mut needed: Vec<String> = Vec::new();
    for node in &sources {
        needed.push(reference(node));
        let kind = if node.dataset.is_some() { "data" } else { "file" };
        let mut one = json!({"type": kind, "bom-ref": reference(node), "name": node.name, "hashes": hashes(&node.digest)});
        if let (Some(dataset), Some(table)) = (&node.dataset, one.as_object_mut()) {
            table.insert("data".into(), json!([{"type": "dataset", "name": dataset}]));
        }
        components.push(one);
    }
    for node in told.trace.nodes.iter().filter(|n| n.kind == NodeKind::Published) {
        needed.push(reference(node));
        components.push(json!({
            "type": "machine-learning-model", "bom-ref": reference(node), "name": node.name, "hashes": hashes(&node.digest),
        }));
    }
    for (name, version) in told.packages() {
        let purl = purl(&name, &version);
        needed.push(purl.clone());
        components.push(json!({"type": "library", "bom-ref": purl, "name": name, "version": version, "purl": purl}));
    }
    let model = json!({
        "modelParameters": {
            "datasets": sources.iter().filter(|n| n.dataset.is_some()).map(|n| json!({"ref": reference(n)})).collect::<Vec<_>>(),
        },
        "quantitativeAnalysis": {
            "performanceMetrics": told.metrics().iter().map(|(n, v)| json!({"type": n, "value": v.to_string()})).collect::<Vec<_>>(),
        },
    });
    let params = told.trace.nodes.iter().filter(|n| n.kind == NodeKind::Param && n.value.is_some());
    let mut properties: Vec<Value> =
        params.map(|n| json!({"name": format!("textum:param:{}", n.name), "value": n.value})).collect();
    properties.extend(told.runs.keys().map(|run| json!({"name": "textum:run", "value": run})));
    let name = told.target.path.clone().unwrap_or_else(|| told.target.name.clone());
    let main = format!("{}#{}", super::encoded(&name), super::short(&told.target.digest));
    let mut component = json!({
        "type": "machine-learning-model", "bom-ref": main, "name": name, "hashes": hashes(&told.target.digest),
        "modelCard": model, "properties": properties,
    });
    // What was asked for may be several files: a run.
    let others: Vec<&&Node> = ends.iter().filter(|n| n.digest != told.target.digest).collect();
    if let (false, Some(table)) = (others.is_empty(), component.as_object_mut()) {
        let parts =
            others.iter().map(|n| json!({"type": "file", "bom-ref": reference(n), "name": n.name, "hashes": hashes(&n.digest)}));
        table.insert("components".into(), parts.collect());
    }
    needed.sort();
    needed.dedup();
    let mut known = std::collections::BTreeSet::new();
    components.retain(|c| known.insert(c["bom-ref"].to_string()));
    let mut dependencies = vec![json!({"ref": main, "dependsOn": needed})];
    dependencies.extend(needed.iter().map(|r| json!({"ref": r})));
    json!({
        "$schema": "http://cyclonedx.org/schema/bom-1.6.schema.json",
        "bomFormat": "CycloneDX", "specVersion": "1.6", "serialNumber": serial(told), "version": 1,
        "metadata": {
            "timestamp": told.time(),
            "tools": {"components": [{"type": "application", "name": "textum", "version": told.textum}]},
            "component": component,
        },
        "components": components, "dependencies": dependencies,
    })
}
