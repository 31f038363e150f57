//! The pure graph of stages: who reads what whom writes. Edges are never written by hand.

use std::collections::{BTreeMap, BTreeSet};

use petgraph::algo::tarjan_scc;
use petgraph::graph::{DiGraph, NodeIndex};

use crate::config::manifest::StageDecl;

/// A stage's number: its position in the manifest.
pub type StageIndex = usize;

/// The stages in an order in which each comes after all it depends on.
#[derive(Clone, Debug)]
pub struct Graph {
    names: Vec<String>,
    upstream: Vec<Vec<StageIndex>>,
    downstream: Vec<Vec<StageIndex>>,
    order: Vec<StageIndex>,
    writers: Writers,
}

/// Which stage writes a path.
#[derive(Clone, Debug, Default)]
struct Writers(BTreeMap<String, StageIndex>);

impl Writers {
    fn of(stages: &[StageDecl]) -> Writers {
        let paths = |(i, s): (usize, &StageDecl)| s.outputs().map(|p| (p.to_string(), i)).collect::<Vec<_>>();
        Writers(stages.iter().enumerate().flat_map(paths).collect())
    }

    /// The stages that write this path, a folder it is in, or something in it.
    fn touching(&self, path: &str) -> BTreeSet<StageIndex> {
        let ancestors = path.match_indices('/').map(|(at, _)| &path[..at]).chain([path]);
        let mut found: BTreeSet<StageIndex> = ancestors.filter_map(|a| self.0.get(a).copied()).collect();
        let inside = format!("{path}/");
        found.extend(self.0.range(inside.clone()..).take_while(|(p, _)| p.starts_with(&inside)).map(|(_, s)| *s));
        found
    }
}

fn edges(stages: &[StageDecl], writers: &Writers) -> Vec<Vec<StageIndex>> {
    stages
        .iter()
        .enumerate()
        .map(|(me, stage)| {
            let mut upstream: BTreeSet<_> = stage.reads.iter().flat_map(|r| writers.touching(r)).collect();
            upstream.remove(&me);
            upstream.into_iter().collect()
        })
        .collect()
}

/// A circle of stages that wait for one another, if there is one.
pub fn find_cycle(stages: &[StageDecl]) -> Option<Vec<String>> {
    let upstream = edges(stages, &Writers::of(stages));
    let mut graph = DiGraph::<(), ()>::new();
    let nodes: Vec<NodeIndex> = stages.iter().map(|_| graph.add_node(())).collect();
    for (stage, ups) in upstream.iter().enumerate() {
        for up in ups {
            graph.add_edge(nodes[*up], nodes[stage], ());
        }
    }
    let component: BTreeSet<usize> =
        tarjan_scc(&graph).into_iter().find(|c| c.len() > 1)?.into_iter().map(NodeIndex::index).collect();
    // Walk upstream within the component until a stage comes again: that is one whole circle.
    let mut way: Vec<usize> = vec![*component.first()?];
    loop {
        let next = upstream[*way.last()?].iter().copied().find(|u| component.contains(u))?;
        if let Some(start) = way.iter().position(|w| *w == next) {
            let mut circle: Vec<String> = way[start..].iter().map(|i| stages[*i].name.clone()).collect();
            circle.reverse();
            // Told from the stage that comes first in the manifest.
            let first = (0..circle.len()).min_by_key(|i| stages.iter().position(|s| s.name == circle[*i]))?;
            circle.rotate_left(first);
            return Some(circle);
        }
        way.push(next);
    }
}

impl Graph {
    /// The graph of checked stages, which have no cycle.
    pub fn build(stages: &[StageDecl]) -> Graph {
        let writers = Writers::of(stages);
        let upstream = edges(stages, &writers);
        let mut downstream = vec![Vec::new(); stages.len()];
        for (stage, ups) in upstream.iter().enumerate() {
            for up in ups {
                downstream[*up].push(stage);
            }
        }
        let order = order(&upstream, &downstream);
        Graph { names: stages.iter().map(|s| s.name.clone()).collect(), upstream, downstream, order, writers }
    }

    /// Stages in an order that fits their dependencies; among equals, as the manifest has them.
    pub fn order(&self) -> &[StageIndex] {
        &self.order
    }

    /// The stages that a stage reads from.
    pub fn upstream(&self, stage: StageIndex) -> &[StageIndex] {
        &self.upstream[stage]
    }

    /// The stages that read from a stage.
    pub fn downstream(&self, stage: StageIndex) -> &[StageIndex] {
        &self.downstream[stage]
    }

    /// A stage's name.
    pub fn name(&self, stage: StageIndex) -> &str {
        &self.names[stage]
    }

    /// A stage's number by name.
    pub fn index_of(&self, name: &str) -> Option<StageIndex> {
        self.names.iter().position(|n| n == name)
    }

    /// The stages whose writes are this path, hold it or lie in it.
    pub fn writers_of(&self, path: &str) -> Vec<StageIndex> {
        self.writers.touching(path).into_iter().collect()
    }

    /// The given stages and everything they need, as a mask over all stages; all when none is given.
    pub fn select(&self, wanted: &[StageIndex]) -> Vec<bool> {
        if wanted.is_empty() {
            return vec![true; self.names.len()];
        }
        let mut chosen = vec![false; self.names.len()];
        let mut todo = wanted.to_vec();
        while let Some(stage) = todo.pop() {
            if !std::mem::replace(&mut chosen[stage], true) {
                todo.extend(&self.upstream[stage]);
            }
        }
        chosen
    }
}

fn order(upstream: &[Vec<StageIndex>], downstream: &[Vec<StageIndex>]) -> Vec<StageIndex> {
    let mut waiting: Vec<usize> = upstream.iter().map(Vec::len).collect();
    let mut ready: BTreeSet<StageIndex> = (0..upstream.len()).filter(|s| waiting[*s] == 0).collect();
    let mut order = Vec::with_capacity(upstream.len());
    while let Some(stage) = ready.pop_first() {
        order.push(stage);
        for down in &downstream[stage] {
            waiting[*down] -= 1;
            if waiting[*down] == 0 {
                ready.insert(*down);
            }
        }
    }
    order
}
