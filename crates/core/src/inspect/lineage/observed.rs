//! What stages were seen to read, in a trace: files of the project as nodes of their own, all else in groups.

use super::find::TraceError;
use super::graph::{Node, NodeKind, Tracer, plain, short};
use crate::record::receipt::{Observed, ObservedGroup, ObservedHow, ObservedInputs, ObservedKind, PathContent, StageReceipt};
use textum_base::is_within;

/// What is known of one execution's observed inputs.
#[derive(Clone, Debug)]
pub struct ObservedOf {
    /// The node of the execution.
    pub stage: String,
    /// Whether it was observed.
    pub observed: Observed,
    /// What it was seen to read, if it was.
    pub inputs: Option<ObservedInputs>,
}

/// What a group is called: `numpy 2.1.0`, `programs of the system`.
pub fn group_name(group: &ObservedGroup) -> String {
    match (group.kind, &group.version) {
        (ObservedKind::Package, Some(version)) => format!("{} {version}", group.name),
        (ObservedKind::Package | ObservedKind::Interpreter, _) => group.name.clone(),
        (ObservedKind::Project, _) => "files of the project".to_string(),
        (ObservedKind::Elsewhere, _) => "files elsewhere".to_string(),
        (ObservedKind::Program, _) => "programs of the system".to_string(),
        (ObservedKind::System, _) => "libraries and data of the system".to_string(),
    }
}

impl Tracer<'_> {
    /// Adds what an execution was seen to read.
    pub(super) fn observed(&mut self, stage: &str, receipt: &StageReceipt, observed: &Observed) -> Result<(), TraceError> {
        // What is lost of it takes nothing away from all else that is known.
        let inputs = observed.inputs.and_then(|digest| ObservedInputs::load(self.store, &digest).ok());
        for group in inputs.iter().flat_map(|i| &i.groups) {
            if group.kind == ObservedKind::Project {
                // What was declared afterwards is declared.
                let declared = |path: &str| receipt.reads.iter().any(|r| is_within(path, &r.at.path));
                for file in group.load_files(self.store).unwrap_or_default().into_iter().filter(|f| !declared(&f.path)) {
                    let at = PathContent { path: file.path.clone(), content: file.content() };
                    let from = self.content(&at, None);
                    self.edge(&from, stage, "observed");
                }
                continue;
            }
            let name = group_name(group);
            let id = format!("observed:{name}@{}", short(&group.list));
            let node = plain(id, NodeKind::Observed, &name, group.list);
            let counts = group.counts && observed.how != ObservedHow::Away;
            let from = self.add(Node { size: Some(group.size), files: Some(group.files), counts: Some(counts), ..node });
            self.edge(&from, stage, "observed");
        }
        self.trace.observed.push(ObservedOf { stage: stage.to_string(), observed: observed.clone(), inputs });
        Ok(())
    }
}
