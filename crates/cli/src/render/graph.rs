//! The graph of stages: drawn in the terminal, as Graphviz, as Mermaid.

use std::collections::{BTreeSet, HashMap};

use renderdag::{Ancestor, GraphRowRenderer, Renderer};
use textum_core::config::graph::Graph;

use super::each::{self, Line};
use crate::ui::{Style, escape};

/// A stage in the graph, or all that come out of one.
pub struct Node {
    /// How it is called.
    pub name: String,
    /// The stages.
    pub stages: Vec<usize>,
    /// The nodes that read from it, by number.
    downstream: BTreeSet<usize>,
}

/// The graph with one node for all stages out of one.
pub struct Folded(Vec<Node>);

impl Folded {
    /// Folds a graph, unless each is to have a node of its own, or they wait for one another.
    pub fn of(graph: &Graph, open: bool) -> Folded {
        let nodes = nodes(graph, open);
        let in_order = nodes.iter().enumerate().all(|(at, node)| node.downstream.iter().all(|d| *d > at));
        Folded(if in_order { nodes } else { self::nodes(graph, true) })
    }
}

fn nodes(graph: &Graph, open: bool) -> Vec<Node> {
    let lines = each::lines(graph.order(), |s| graph.name(*s), open);
    let node_of: HashMap<usize, usize> =
        lines.iter().enumerate().flat_map(|(at, line)| line.items.iter().map(move |s| (**s, at))).collect();
    let of = |(at, line): (usize, &Line<'_, usize>)| {
        let stages: Vec<usize> = line.items.iter().map(|s| **s).collect();
        let downstream = stages.iter().flat_map(|s| graph.downstream(*s)).map(|d| node_of[d]).filter(|d| *d != at).collect();
        Node { name: line.title(), stages, downstream }
    };
    lines.iter().enumerate().map(of).collect()
}

/// The graph drawn in characters, data flowing down; `label` says what stands beside each stage.
pub fn drawn(graph: &Folded, label: impl Fn(&Node) -> String) -> String {
    let mut renderer = GraphRowRenderer::new().output().with_min_row_height(1).build_box_drawing();
    let mut out = String::new();
    for (at, node) in graph.0.iter().enumerate() {
        let below = node.downstream.iter().map(|d| Ancestor::Parent(*d)).collect();
        out.push_str(&renderer.next_row(at, below, "o".to_string(), label(node)));
    }
    out
}

/// The graph as Graphviz.
pub fn dot(graph: &Folded, name: &str) -> String {
    let quoted = escape::graphviz;
    let mut out = format!("digraph {} {{\n  rankdir=LR;\n  node [shape=box];\n", quoted(name));
    for node in &graph.0 {
        out.push_str(&format!("  {};\n", quoted(&node.name)));
        for down in &node.downstream {
            out.push_str(&format!("  {} -> {};\n", quoted(&node.name), quoted(&graph.0[*down].name)));
        }
    }
    out.push_str("}\n");
    out
}

/// The graph as a Mermaid diagram.
pub fn mermaid(graph: &Folded) -> String {
    let mut out = String::from("flowchart LR\n");
    for (at, node) in graph.0.iter().enumerate() {
        out.push_str(&format!("  s{at}[\"{}\"]\n", node.name));
        for down in &node.downstream {
            out.push_str(&format!("  s{at} --> s{down}\n"));
        }
    }
    out
}

/// The graph as JSON: stages in order, each with the ones it reads from.
pub fn json(graph: &Graph) -> serde_json::Value {
    let stages: Vec<_> = graph
        .order()
        .iter()
        .map(|s| {
            let after: Vec<&str> = graph.upstream(*s).iter().map(|u| graph.name(*u)).collect();
            serde_json::json!({"stage": graph.name(*s), "after": after})
        })
        .collect();
    serde_json::json!({ "stages": stages })
}

/// A label's first line in the accent, for stages that would run.
pub fn marked(text: &str, mark: bool, style: &Style) -> String {
    if mark { style.accent(text) } else { text.to_string() }
}
