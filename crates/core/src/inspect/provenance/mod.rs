//! A trace in open forms, for whoever has other tools: each says what [`super::lineage::Trace`] says, in the words of its
//! standard.

mod bill;
mod crate_form;
mod prov;
mod statement;

use std::collections::{BTreeMap, BTreeSet};

pub use bill::cyclonedx;
pub use crate_form::ro_crate;
pub use prov::prov_json;
pub use statement::{STATEMENT_TYPE, statement};

use super::lineage::{Node, NodeKind, Target, Trace};
use crate::record::receipt::{ObservedKind, RunReceipt, StageReceipt};
use crate::store::Digest;

/// What is told.
pub struct Provenance<'p> {
    /// What was traced.
    pub target: &'p Target,
    /// The trace.
    pub trace: &'p Trace,
    /// The receipts of its runs, as far as they are here.
    pub runs: &'p BTreeMap<String, RunReceipt>,
    /// The name of the project.
    pub project: &'p str,
    /// What the project is for.
    pub about: Option<&'p str>,
    /// The version of Textum.
    pub textum: &'p str,
}

impl Provenance<'_> {
    /// When an execution began and ended, RFC 3339 in UTC.
    fn times(receipt: &StageReceipt) -> (String, String) {
        let began: Option<jiff::Timestamp> = receipt.started.parse().ok();
        let seconds = receipt.seconds.clamp(0.0, 1e9);
        let ended = began.and_then(|b| b.checked_add(jiff::SignedDuration::from_millis((seconds * 1000.0).round() as i64)).ok());
        (receipt.started.clone(), ended.map_or_else(|| receipt.started.clone(), |e| e.to_string()))
    }

    /// The execution that a node of the trace is.
    fn receipt_of(&self, node: &Node) -> Option<&StageReceipt> {
        self.trace.receipts.iter().find(|(digest, _)| *digest == node.digest).map(|(_, receipt)| receipt)
    }

    /// The nodes that no execution wrote: what all of it comes from.
    fn sources(&self) -> Vec<&Node> {
        let written: BTreeSet<&str> =
            self.trace.edges.iter().filter(|e| matches!(e.role, "writes" | "holds" | "published")).map(|e| e.to.as_str()).collect();
        let is_content = |n: &&Node| matches!(n.kind, NodeKind::File | NodeKind::Folder);
        self.trace.nodes.iter().filter(is_content).filter(|n| !written.contains(n.id.as_str())).collect()
    }

    /// The nodes that were asked for.
    fn ends(&self) -> Vec<&Node> {
        self.trace.ends.iter().filter_map(|id| self.trace.nodes.iter().find(|n| n.id == *id)).collect()
    }

    /// Packages that were used, with their versions.
    fn packages(&self) -> BTreeMap<String, String> {
        let groups = self.trace.observed.iter().filter_map(|o| o.inputs.as_ref()).flat_map(|i| &i.groups);
        let packages = groups.filter(|g| g.kind == ObservedKind::Package && !g.metadata);
        packages.filter_map(|g| Some((g.name.clone(), g.version.clone()?))).collect()
    }

    /// The newest time that is spoken of: the same trace always says the same.
    fn time(&self) -> String {
        let all = self.trace.receipts.iter().map(|(_, receipt)| Provenance::times(receipt).1);
        all.max().unwrap_or_else(|| "1970-01-01T00:00:00Z".to_string())
    }

    /// The metrics of the runs that were asked for.
    fn metrics(&self) -> BTreeMap<String, f64> {
        let ends: BTreeSet<&str> = self.ends().iter().map(|n| n.id.as_str()).collect();
        let writers = self.trace.edges.iter().filter(|e| e.role == "writes" && ends.contains(e.to.as_str()));
        let runs = writers.filter_map(|e| self.trace.nodes.iter().find(|n| n.id == e.from)?.run.clone());
        let runs: BTreeSet<String> = runs.collect();
        let found = runs.iter().filter_map(|run| self.runs.get(run));
        found.flat_map(|run| run.metrics.iter().map(|(n, m)| (n.clone(), m.0))).filter(|(_, v)| v.is_finite()).collect()
    }
}

/// A name for a digest in identifiers.
fn short(digest: &Digest) -> String {
    digest.hex()[..16].to_string()
}

/// A package as a package URL (<https://github.com/package-url/purl-spec>).
fn purl(name: &str, version: &str) -> String {
    format!("pkg:pypi/{}@{}", encoded(&name.to_lowercase().replace('_', "-")), encoded(version))
}

/// Text as it may stand in a URI: RFC 3986, section 2.1.
fn encoded(text: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => out.push(byte as char),
            _ => out.push_str(&format!("%{byte:02X}")),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_packages_and_paths_are_written_as_their_standards_say() {
        assert_eq!(purl("Typing_Extensions", "4.12.2"), "pkg:pypi/typing-extensions@4.12.2");
        assert_eq!(purl("torch", "2.1.0+cu121"), "pkg:pypi/torch@2.1.0%2Bcu121");
        assert_eq!(encoded("data/shifts of May.csv"), "data/shifts%20of%20May.csv");
        assert_eq!(encoded("größe?#%"), "gr%C3%B6%C3%9Fe%3F%23%25");
        assert_eq!(encoded("ada@loom"), "ada%40loom");
    }

    #[test]
    fn an_execution_ends_as_long_after_its_beginning_as_it_took() {
        let receipt = |started: &str, seconds: f64| {
            let text = serde_json::json!({
                "type": "textum/stage-receipt@1", "run": "20261126-1000-7f3a", "key": Digest::of(b""), "state": "done",
                "inputs": {"type": "textum/inputs@1", "stage": "fit", "run": {"shell": "true"}, "params": {}, "reads": {}, "writes": [],
                           "metrics": [], "vars": {}, "environment": null},
                "started": started, "seconds": seconds, "reads": [], "writes": [], "metric_files": [], "metrics": {},
                "log": {"kind": "file", "digest": Digest::of(b""), "size": 0},
                "needs": {"cpus": 1, "memory": 0, "time": null}, "place": {"kind": "local", "host": "loom", "system": "Linux"},
                "sandbox": false,
            });
            serde_json::from_value::<StageReceipt>(text).unwrap()
        };
        let times = |started: &str, seconds: f64| Provenance::times(&receipt(started, seconds)).1;
        assert_eq!(times("2026-11-26T10:00:00Z", 61.5), "2026-11-26T10:01:01.5Z");
        assert_eq!(times("2026-11-26T10:00:00Z", 0.0), "2026-11-26T10:00:00Z");
        // What no clock could show is left as it is.
        assert_eq!(times("2026-11-26T10:00:00Z", f64::MAX), times("2026-11-26T10:00:00Z", 1e9));
        assert_eq!(times("yesterday", 5.0), "yesterday");
    }
}
