//! How a run ends: what is said of its stages as a whole, its receipt, and that of the tree.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashSet};
use std::time::Instant;
use textum_base::Identity;

use textum_base::SourcePath;

use super::ExecError;
use super::active_run::ActiveRun;
use super::gates::Gates;
use super::live::LiveRun;
use super::metrics::metrics_of;
use super::outcome::{Execution, RunOutcome, SettledStage};
use crate::data::recorded_anew;
use crate::event::{Event, EventSink};
use crate::pipeline::plan::{Decision, Plan};
use crate::project::workspace::Project;
use crate::record::receipt::{
    Content, DatasetState, GateRecord, RunReceipt, RunStage, RunStageState, RunState, StageReceipt, TREE_RECEIPT, TreeReceipt,
    TreeStage, canonical,
};
use crate::store::{Digest, Writer};

/// What a run comes to that has nothing to do: no run of its own, but a tree that says what stands in it.
pub(super) fn nothing_to_do(
    project: &Project,
    plan: Plan,
    tree: Option<TreeReceipt>,
    draft: &RunReceipt,
    checker: &Gates,
    events: &dyn EventSink,
    clock: Instant,
) -> Result<RunOutcome, ExecError> {
    let mut tree = tree.unwrap_or_default();
    let settled = plan.decisions.into_iter().map(|d| settled_by_record(project, d, RunStageState::UpToDate));
    let stages: Vec<SettledStage> = settled.collect::<Result<_, _>>()?;
    // The tree may have come to this state by hand: its receipt says what stands there, and of which run that is.
    let before = tree.clone();
    tree.data.clone_from(&draft.data);
    fill_tree(project, &mut tree, &stages);
    let results: Vec<(&str, Digest)> = tree.stages.iter().map(|(name, s)| (name.as_str(), s.receipt)).collect();
    let run = project.ledger.run_with_results(&results, &draft.data)?;
    tree.run = run.or_else(|| tree.stages.values().map(|s| s.run.clone()).max());
    let run = tree.run.clone();
    if tree != before {
        tree.save(project.workspace.root())?;
    }
    let metrics = metrics_of(&project.manifest, &stages);
    // What is there already must hold all the same.
    let settled: Vec<&SettledStage> = stages.iter().collect();
    let mut gates: Vec<GateRecord> = Vec::new();
    for stage in &stages {
        for gate in checker.after(&stage.stage, &settled, draft)? {
            // A gate after `each` would be looked at after each.
            if !gates.contains(&gate) {
                gates.push(gate);
            }
        }
    }
    gates.iter().for_each(|gate| events.event(Event::Gate { gate: gate.clone() }));
    let reason = gate_reason(&gates);
    let state = if reason.is_some() { RunState::Failed } else { RunState::Done };
    let seconds = clock.elapsed().as_secs_f64();
    Ok(RunOutcome { run, recorded: false, state, stages, metrics, gates, reason, seconds, sandbox: None, left: Vec::new() })
}

/// A stage whose result was there already. Only one that has metrics needs its receipt.
pub(super) fn settled_by_record(project: &Project, decision: Decision, state: RunStageState) -> Result<SettledStage, ExecError> {
    let execution = match decision.result {
        Some(recorded) => Some(Execution {
            metrics: if recorded.has_metrics {
                StageReceipt::load(&project.store, &recorded.receipt)?.metrics
            } else {
                BTreeMap::new()
            },
            receipt: recorded.receipt,
            elsewhere: match recorded.made.elsewhere {
                true => project.ledger.run(&recorded.run)?.map(|run| (run.by, run.started)),
                false => None,
            },
            run: recorded.run,
            outputs: recorded.outputs,
            reason: None,
            undeclared: Vec::new(),
            log: None,
        }),
        None => None,
    };
    Ok(SettledStage { stage: decision.stage, state, key: decision.key, execution, seconds: 0.0 })
}

/// What is said of the first gate that does not hold.
fn gate_reason(gates: &[GateRecord]) -> Option<String> {
    gates.iter().find(|g| !g.held).map(|g| format!("the gate after {} does not hold: {}", g.after, g.check))
}

/// Makes the receipt of a run of which nothing is left to do. It is safe with the next publishing. `chain` is the
/// receipt of the run before it, if this process has made that.
pub(super) fn end(
    mut ended: ActiveRun<'_>,
    writer: &Writer<'_>,
    chain: &RefCell<Option<Digest>>,
) -> Result<(RunOutcome, RunReceipt, LiveRun), ExecError> {
    let stages: Vec<SettledStage> = ended.order.iter().filter_map(|s| ended.done.remove(s)).collect();
    let mut draft = ended.draft;
    let any = |wanted: &[RunStageState]| stages.iter().any(|s| wanted.contains(&s.state));
    let cancelled = ended.stage_context.cancel.asked();
    draft.state = if cancelled && any(&[RunStageState::Stopped, RunStageState::Skipped]) {
        RunState::Stopped
    } else if any(&[RunStageState::Failed]) || draft.gates.iter().any(|g| !g.held) {
        RunState::Failed
    } else if any(&[RunStageState::Stopped]) {
        RunState::Stopped
    } else if any(&[RunStageState::Skipped]) {
        RunState::Failed
    } else {
        RunState::Done
    };
    let of_stage = stages.iter().find_map(|s| s.execution.as_ref()?.reason.as_ref().map(|why| format!("{}: {why}", s.stage)));
    let of_person =
        ended.stage_context.cancel.reason().map(str::to_string).filter(|_| cancelled && draft.state == RunState::Stopped);
    draft.reason = of_person.or(of_stage).or_else(|| gate_reason(&draft.gates));
    draft.seconds = ended.clock.elapsed().as_secs_f64();
    draft.metrics = metrics_of(&ended.project.manifest, &stages);
    draft.stages = stages
        .iter()
        .map(|s| RunStage {
            stage: s.stage.clone(),
            state: s.state,
            key: s.key,
            receipt: s.execution.as_ref().map(|e| e.receipt),
            seconds: s.seconds,
        })
        .collect();
    let before = *chain.borrow();
    draft.after = match before {
        Some(before) => Some(before),
        None => ended.project.ledger.newest_run_receipts(1)?.pop(),
    };
    record_states_read(ended.project, &draft, writer, &ended.options.by, ended.events)?;
    draft.log = ended.live.keep_log(writer)?;
    *chain.borrow_mut() = Some(writer.put_document(&canonical(&draft)?)?);
    let outcome = RunOutcome {
        run: Some(draft.run.clone()),
        recorded: true,
        state: draft.state,
        stages,
        metrics: draft.metrics.clone(),
        gates: draft.gates.clone(),
        reason: draft.reason.clone(),
        seconds: draft.seconds,
        sandbox: ended.apart.as_ref().map(|a| a.folder.clone()),
        left: ended.left.into_values().flatten().map(|output| output.path).collect(),
    };
    Ok((outcome, draft, ended.live))
}

/// States of datasets that stages have read and that did not stand there when the run began: versions like others.
fn record_states_read(
    project: &Project,
    draft: &RunReceipt,
    writer: &Writer<'_>,
    by: &Identity,
    events: &dyn EventSink,
) -> Result<(), ExecError> {
    let rounds = draft.also.values().map(Vec::len).max().unwrap_or(0);
    for round in 0..=rounds {
        let state = |(name, last): (&String, &DatasetState)| {
            let earlier = draft.also.get(name).map_or(&[][..], Vec::as_slice);
            earlier.get(round).or((round == earlier.len()).then_some(last)).map(|s| (s.path.clone(), s.content.clone()))
        };
        let contents: BTreeMap<SourcePath, Content> = draft.data.iter().filter_map(state).collect();
        for v in recorded_anew(project, &contents, writer, by, None).map_err(Box::new)?.iter().filter(|v| v.new) {
            events.event(Event::NewVersion { dataset: v.name.clone(), number: v.number, rows: v.rows });
        }
    }
    Ok(())
}

/// Brings the tree's receipt to what stands there after these stages were settled.
pub(super) fn fill_tree(project: &Project, tree: &mut TreeReceipt, stages: &[SettledStage]) {
    tree.r#type = TREE_RECEIPT.to_string();
    let names: HashSet<&str> = project.manifest.stages.iter().map(|s| s.name.as_str()).collect();
    tree.stages.retain(|name, _| names.contains(name.as_str()));
    tree.data.retain(|name, _| project.manifest.data.iter().any(|d| d.name == *name));
    for stage in stages {
        match (&stage.execution, stage.key, stage.state) {
            (Some(done), Some(key), RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate) => {
                let writes = done.outputs.iter().map(|o| (o.path.clone(), o.content.clone())).collect();
                tree.stages.insert(stage.stage.clone(), TreeStage { key, receipt: done.receipt, run: done.run.clone(), writes });
            }
            (_, _, RunStageState::Failed | RunStageState::Stopped) => drop(tree.stages.remove(&stage.stage)),
            _ => {}
        }
    }
}
