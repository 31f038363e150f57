//! Graph, inputs and ledger into decisions with reasons. `plan`, `--check` and `run` use the same code:
//! a run asks again for each stage once what it reads is settled.

mod decide;
mod detail;
mod observed;
mod reads;

use std::collections::BTreeMap;

use serde::Serialize;

pub use decide::{Decision, PlanContext, Recorded, Settled};
pub use detail::{ReadDetail, read_detail};
pub use observed::HowMade;
pub use reads::{ReadError, missing_reads};

use crate::config::graph::StageIndex;
use crate::config::manifest::{ManifestError, declared_name, nearest};
use crate::data::DataError;
use crate::project::fingerprint::{PythonError, Reason};
use crate::record::ledger::LedgerError;
use crate::record::receipt::{DocumentError, ReceiptError, TreeReceiptError};

/// What is to be done for a stage.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// Execute it.
    Run,
    /// Put a recorded result in place.
    Reuse,
    /// Nothing: the recorded result stands there.
    UpToDate,
}

/// What is to be done for all stages asked for, in the order of their dependencies.
#[derive(Debug)]
pub struct Plan {
    /// The decisions.
    pub decisions: Vec<Decision>,
}

/// Why no plan could be made.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// Something that is read is neither there nor written by a stage.
    #[error(transparent)]
    Mistakes(#[from] Box<ManifestError>),
    /// No stage has this name.
    #[error("there is no stage `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    NoStage {
        /// The name given.
        name: String,
        /// The most similar stage.
        near: Option<String>,
    },
    /// What stands at a read could not be looked at.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// The interpreter.
    #[error(transparent)]
    Python(#[from] PythonError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A document could not be made.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// The tree's receipt.
    #[error(transparent)]
    Tree(#[from] TreeReceiptError),
    /// A recorded version that a stage is held against.
    #[error(transparent)]
    Data(#[from] Box<DataError>),
}

/// Names of stages to their numbers; an unknown one is an error with the nearest known.
pub fn select_stages(plan_context: &crate::project::workspace::Project, names: &[String]) -> Result<Vec<StageIndex>, PlanError> {
    let stages = &plan_context.manifest.stages;
    let mut found = Vec::new();
    for name in names {
        // Of a stage that is `each` all that come out of it.
        let meant = stages.iter().enumerate().filter(|(_, s)| s.name == *name || declared_name(&s.name) == name);
        let before = found.len();
        found.extend(meant.map(|(index, _)| index));
        if found.len() == before && !plan_context.manifest.without_values.iter().any(|w| w.stage == *name) {
            let known = stages.iter().flat_map(|s| [s.name.as_str(), declared_name(&s.name)]);
            let near = nearest(name, known).map(str::to_string);
            return Err(PlanError::NoStage { name: name.clone(), near });
        }
    }
    Ok(found)
}

impl Plan {
    /// Decides for all the stages asked for and what they need, without writing anything.
    pub fn make(plan_context: &PlanContext<'_>, selected: &[bool]) -> Result<Plan, PlanError> {
        let _span = tracing::debug_span!("plan").entered();
        let decide = || plan_context.observed.at_once(|| Plan::decide_all(plan_context, selected));
        plan_context.project.ledger.at_once(decide)?
    }

    fn decide_all(plan_context: &PlanContext<'_>, selected: &[bool]) -> Result<Plan, PlanError> {
        let mut settled = BTreeMap::new();
        let mut decisions = Vec::new();
        let order = plan_context.project.graph.order();
        let mut todo: Vec<StageIndex> = order.iter().copied().filter(|s| selected[*s]).collect();
        while !todo.is_empty() {
            // What a stage was seen to read from others, without declaring it, is decided on before it. Stages that
            // do so in a circle are taken as they stand.
            let mut put_off = Vec::new();
            let before = todo.len();
            for stage in todo {
                let declared = plan_context.project.graph.upstream(stage).iter().any(|u| put_off.contains(u));
                let open = |s: &StageIndex| selected[*s] && !settled.contains_key(s);
                if declared || plan_context.learned_upstream(stage)?.iter().any(open) {
                    put_off.push(stage);
                    continue;
                }
                let decision = plan_context.decide(stage, &settled)?;
                settled.insert(stage, decision.plan_context());
                decisions.push(decision);
            }
            if put_off.len() == before {
                let stage = put_off.remove(0);
                let decision = plan_context.decide(stage, &settled)?;
                settled.insert(stage, decision.plan_context());
                decisions.push(decision);
            }
            todo = put_off;
        }
        Ok(Plan { decisions })
    }

    /// Whether anything would be executed or put in place.
    pub fn has_work(&self) -> bool {
        self.decisions.iter().any(|d| d.action != Action::UpToDate)
    }

    /// The reasons of a decision in this plan, by stage.
    pub fn reasons(&self, stage: &str) -> &[Reason] {
        self.decisions.iter().find(|d| d.stage == stage).map_or(&[], |d| &d.reasons)
    }
}
