//! The graph of stages: drawn in the terminal, as Graphviz, as Mermaid.

use renderdag::{Ancestor, GraphRowRenderer, Renderer};
use textum_core::config::graph::Graph;

use crate::ui::{Style, escape};

/// The graph drawn in characters, data flowing down; `label` says what stands beside each stage.
pub fn drawn(graph: &Graph, label: impl Fn(usize) -> String) -> String {
    let mut renderer = GraphRowRenderer::new().output().with_min_row_height(1).build_box_drawing();
    let mut out = String::new();
    for &stage in graph.order() {
        let below = graph.downstream(stage).iter().map(|d| Ancestor::Parent(*d)).collect();
        out.push_str(&renderer.next_row(stage, below, "o".to_string(), label(stage)));
    }
    out
}

/// The graph as Graphviz.
pub fn dot(graph: &Graph, name: &str) -> String {
    let quoted = escape::graphviz;
    let mut out = format!("digraph {} {{\n  rankdir=LR;\n  node [shape=box];\n", quoted(name));
    for &stage in graph.order() {
        out.push_str(&format!("  {};\n", quoted(graph.name(stage))));
        for down in graph.downstream(stage) {
            out.push_str(&format!("  {} -> {};\n", quoted(graph.name(stage)), quoted(graph.name(*down))));
        }
    }
    out.push_str("}\n");
    out
}

/// The graph as a Mermaid diagram.
pub fn mermaid(graph: &Graph) -> String {
    let mut out = String::from("flowchart LR\n");
    for &stage in graph.order() {
        out.push_str(&format!("  s{stage}[\"{}\"]\n", graph.name(stage)));
        for down in graph.downstream(stage) {
            out.push_str(&format!("  s{stage} --> s{down}\n"));
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
