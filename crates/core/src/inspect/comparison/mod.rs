//! In what runs differ, and what is the same in all of them: parameters, data, code, commands, environment,
//! metrics, durations. Each difference is told with every run's value.

mod code;
mod pair;

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

pub use code::{CodeChange, Hunk, HunkLine, LineKind};
pub use pair::{Pair, PairError, PairOptions, pair};

use crate::config::manifest::{Better, command_text};
use crate::data::{Change, Version, change_between, find_data, versions};
use crate::project::workspace::Project;
use crate::record::ledger::LedgerError;
use crate::record::receipt::{
    ContentKind, EnvironmentRecord, Metric, ObservedInputs, ObservedKind, ReceiptError, RunReceipt, RunStageState, StageReceipt,
};
use crate::store::{Digest, Store, StoreError};

/// Why runs could not be compared.
#[derive(Debug, thiserror::Error)]
pub enum CompareError {
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

/// Something by its name, and its value in each run; none where the run has no such thing.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Differing {
    /// Its name.
    pub name: String,
    /// The values, in the order of the runs.
    pub values: Vec<Option<String>>,
}

/// A dataset whose state is not the same in all runs.
#[derive(Clone, Debug, Serialize)]
pub struct DataDiffers {
    /// The dataset.
    pub name: String,
    /// The version in each run, as `shifts@2`; a digest where no version is known.
    pub values: Vec<Option<String>>,
    /// What changed from the first run that has it to each later one, where both are there.
    pub changes: Vec<Option<Change>>,
}

/// A metric in each run.
#[derive(Clone, Debug, Serialize)]
pub struct MetricRow {
    /// Its name.
    pub name: String,
    /// Its values.
    pub values: Vec<Option<Metric>>,
    /// Which direction is better, if declared: `higher` or `lower`.
    pub better: Option<&'static str>,
    /// The run with the best value, by its place; none when there is none, or several are as good.
    pub best: Option<usize>,
}

/// A stage in each run.
#[derive(Clone, Debug, Serialize)]
pub struct StageRow {
    /// Its name.
    pub name: String,
    /// How it ended in each run.
    pub states: Vec<Option<RunStageState>>,
    /// Seconds that the execution took whose result the run has, in that run or an earlier one.
    pub seconds: Vec<Option<f64>>,
    /// Whether all runs have the result of one and the same execution.
    pub same_result: bool,
}

/// How many things are the same in all runs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Same {
    /// Parameters.
    pub params: usize,
    /// Datasets.
    pub datasets: usize,
    /// Code and other files that no stage writes.
    pub files: usize,
    /// Commands of stages.
    pub commands: usize,
    /// Installed packages.
    pub packages: usize,
    /// Metrics.
    pub metrics: usize,
}

/// Everything in which runs differ.
#[derive(Clone, Debug, Serialize)]
pub struct Comparison {
    /// The runs.
    pub runs: Vec<String>,
    /// Parameters, as JSON texts.
    pub params: Vec<Differing>,
    /// Datasets.
    pub data: Vec<DataDiffers>,
    /// Code and other files that no stage writes and that are no dataset.
    pub code: Vec<CodeChange>,
    /// Commands of stages before parameters are filled in where they differ otherwise than by them.
    pub commands: Vec<Differing>,
    /// Interpreter, packages, system and variables.
    pub environment: Vec<Differing>,
    /// Checkpoints that stages went on from.
    pub from: Vec<Differing>,
    /// Metrics; those that are the same too.
    pub metrics: Vec<MetricRow>,
    /// Stages; those that are the same too.
    pub stages: Vec<StageRow>,
    /// What is the same.
    pub same: Same,
}

impl Comparison {
    /// Whether the runs had the same inputs, as far as they are recorded.
    pub fn same_inputs(&self) -> bool {
        let nothing = self.params.is_empty() && self.data.is_empty() && self.code.is_empty() && self.commands.is_empty();
        nothing && self.environment.is_empty() && self.from.is_empty()
    }
}

/// A run with the receipts of its stages.
pub struct Side {
    /// Its receipt.
    pub run: RunReceipt,
    /// The stage receipts, in its order; none for a stage that was not begun.
    pub stages: Vec<Option<StageReceipt>>,
    /// What they were seen to read beside what they declare.
    pub observed: Vec<ObservedInputs>,
}

impl Side {
    /// Reads a run with the receipts of its stages.
    pub fn load(project: &Project, run: RunReceipt) -> Result<Side, ReceiptError> {
        let load = |digest: &Digest| StageReceipt::load(&project.store, digest);
        let stages: Vec<Option<StageReceipt>> =
            run.stages.iter().map(|s| s.receipt.as_ref().map(load).transpose()).collect::<Result<_, _>>()?;
        let digests: BTreeSet<Digest> =
            stages.iter().flatten().filter_map(|s: &StageReceipt| s.observed.as_ref()?.inputs).collect();
        let observed = digests.iter().map(|d| ObservedInputs::load(&project.store, d)).collect::<Result<_, _>>()?;
        Ok(Side { run, stages, observed })
    }

    fn executed(&self) -> impl Iterator<Item = &StageReceipt> {
        self.stages.iter().flatten()
    }
}

/// Splits named values of several runs into those that differ and the number of those that do not.
fn split(sides: Vec<BTreeMap<String, String>>) -> (Vec<Differing>, usize) {
    let names: BTreeSet<&String> = sides.iter().flat_map(BTreeMap::keys).collect();
    let mut differing = Vec::new();
    let mut same = 0;
    for name in names {
        let values: Vec<Option<String>> = sides.iter().map(|s| s.get(name).cloned()).collect();
        if values.windows(2).all(|w| w[0] == w[1]) {
            same += 1;
        } else {
            differing.push(Differing { name: name.clone(), values });
        }
    }
    (differing, same)
}

/// Compares runs.
pub fn compare(project: &Project, sides: &[Side]) -> Result<Comparison, CompareError> {
    let (params, same_params) = split(sides.iter().map(|s| s.run.params.clone()).collect());
    let (data, same_data) = data(project, sides)?;
    let (code, same_files) = code::compare(&project.store, sides)?;
    let (commands, same_commands) = split(sides.iter().map(commands).collect());
    // A command that differs by its parameters only is told of by them.
    let by_params = |d: &Differing| params.iter().any(|p| d.values.iter().zip(&p.values).all(|(c, v)| says(c, v)));
    let commands: Vec<Differing> = commands.into_iter().filter(|d| !by_params(d) && !only_not_begun(d, sides)).collect();
    let (environment, packages) = environment(project, sides)?;
    let (from, _) = split(sides.iter().map(from).collect());
    let metrics = metrics(sides, &project.manifest.metrics);
    let same_metrics = metrics.iter().filter(|m| m.values.windows(2).all(|w| w[0] == w[1])).count();
    Ok(Comparison {
        runs: sides.iter().map(|s| s.run.run.clone()).collect(),
        params,
        data,
        code,
        commands,
        environment,
        from,
        metrics,
        stages: stages(sides),
        same: Same {
            params: same_params,
            datasets: same_data,
            files: same_files,
            commands: same_commands,
            packages,
            metrics: same_metrics,
        },
    })
}

/// Whether a command is the same wherever the stage was begun: that it was not is told elsewhere.
fn only_not_begun(command: &Differing, sides: &[Side]) -> bool {
    let there: BTreeSet<&String> = command.values.iter().flatten().collect();
    let has = |side: &Side| side.run.stages.iter().any(|s| s.stage == command.name);
    there.len() == 1 && command.values.iter().zip(sides).all(|(value, side)| value.is_some() || has(side))
}

/// Whether a command has the value of a parameter in it.
fn says(command: &Option<String>, value: &Option<String>) -> bool {
    match (command, value) {
        (Some(command), Some(value)) => {
            let plain = serde_json::from_str::<String>(value).unwrap_or_else(|_| value.clone());
            command.contains(&plain)
        }
        _ => false,
    }
}

fn commands(side: &Side) -> BTreeMap<String, String> {
    side.executed().map(|r| (r.inputs.stage.clone(), command_text(&r.inputs.run))).collect()
}

fn from(side: &Side) -> BTreeMap<String, String> {
    let said = |r: &StageReceipt| r.from.as_ref().map(|f| (r.inputs.stage.clone(), format!("{}#{}", f.run, f.step)));
    side.executed().filter_map(said).collect()
}

fn data(project: &Project, sides: &[Side]) -> Result<(Vec<DataDiffers>, usize), CompareError> {
    let names: BTreeSet<&String> = sides.iter().flat_map(|s| s.run.data.keys()).collect();
    let mut differing = Vec::new();
    let mut same = 0;
    for name in names {
        let states: Vec<_> = sides.iter().map(|s| s.run.data.get(name)).collect();
        let digests: Vec<Option<Digest>> = states.iter().map(|s| s.map(|s| s.content.digest)).collect();
        if digests.windows(2).all(|w| w[0] == w[1]) {
            same += 1;
            continue;
        }
        let known = versions(&project.ledger, name)?;
        let version = |digest: &Digest| known.iter().find(|v| v.content.digest == *digest);
        let first = digests.iter().flatten().next().and_then(version);
        let mut changes = Vec::new();
        for digest in &digests {
            let now = digest.as_ref().and_then(version);
            let side = |v: &Version| find_data(project, &v.name(), project.workspace.root()).ok();
            // A state whose bytes are no longer there still differs; only how cannot be said.
            changes.push(match (first, now) {
                (Some(old), Some(new)) if old.number != new.number => {
                    side(old).zip(side(new)).and_then(|(old, new)| change_between(project, &old, &new, None).ok().flatten())
                }
                _ => None,
            });
        }
        let value = |digest: &Option<Digest>| digest.map(|d| version(&d).map_or_else(|| d.short(), |v| v.name()));
        differing.push(DataDiffers { name: name.clone(), values: digests.iter().map(value).collect(), changes });
    }
    Ok((differing, same))
}

fn environment(project: &Project, sides: &[Side]) -> Result<(Vec<Differing>, usize), CompareError> {
    let mut all = Vec::new();
    let mut packages_of = Vec::new();
    for side in sides {
        let mut found = BTreeMap::new();
        let mut packages = BTreeMap::new();
        let mut seen = BTreeSet::new();
        for receipt in side.executed() {
            for (name, value) in &receipt.inputs.vars {
                found.insert(format!("${name}"), value.clone().unwrap_or_else(|| "not set".into()));
            }
            let Some(digest) = receipt.environment.filter(|d| receipt.inputs.environment.is_some() && seen.insert(*d)) else {
                continue;
            };
            let record = EnvironmentRecord::load(&project.store, &digest)?;
            found.insert("system".into(), record.system);
            if let Some(python) = record.python {
                found.insert("python".into(), python.version);
                packages.extend(python.packages);
            }
        }
        for inputs in &side.observed {
            found.extend(inputs.variables.iter().filter_map(|(name, value)| Some((format!("${name}"), value.clone()?))));
            // By name each, as what differs is to be seen: a file elsewhere, a program.
            for group in inputs.groups.iter().filter(|g| matches!(g.kind, ObservedKind::Elsewhere | ObservedKind::Program)) {
                let files = group.load_files(&project.store)?;
                found.extend(files.into_iter().map(|file| (file.path, file.digest.short())));
            }
            // A package that was used, even if the record of the whole does not know it.
            let used = inputs.used_packages().filter_map(|g| Some((g.name.clone(), g.version.clone()?)));
            packages.extend(used);
        }
        all.push(found);
        packages_of.push(packages);
    }
    let (mut differing, _) = split(all);
    let (packages, same) = split(packages_of);
    differing.extend(packages);
    Ok((differing, same))
}

fn metrics(sides: &[Side], declared: &[(String, Better)]) -> Vec<MetricRow> {
    let mut better: BTreeMap<String, Better> = BTreeMap::new();
    for side in sides {
        better.extend(side.run.better.iter().map(|(n, b)| (n.clone(), *b)));
    }
    let names: BTreeSet<&String> = sides.iter().flat_map(|s| s.run.metrics.keys()).collect();
    // Those of the manifest first, in its order, then others with a direction: somebody cares for them.
    let mut names: Vec<&String> = names.into_iter().collect();
    let place = |name: &String| declared.iter().position(|(n, _)| n == name).unwrap_or(usize::MAX);
    names.sort_by_key(|n| (place(n), !better.contains_key(*n)));
    let row = |name: &String| {
        let values: Vec<Option<Metric>> = sides.iter().map(|s| s.run.metrics.get(name).copied()).collect();
        let direction = better.get(name).copied();
        let finite = || values.iter().enumerate().filter_map(|(i, v)| Some((i, v.map(|m| m.0).filter(|v| v.is_finite())?)));
        let top = direction.and_then(|d| {
            let sign = if d == Better::Higher { 1.0 } else { -1.0 };
            finite().max_by(|a, b| (sign * a.1).total_cmp(&(sign * b.1)))
        });
        let best = top.filter(|(_, v)| finite().filter(|(_, w)| w == v).count() == 1 && finite().count() > 1).map(|(i, _)| i);
        let word = direction.map(|d| if d == Better::Higher { "higher" } else { "lower" });
        MetricRow { name: name.clone(), values, better: word, best }
    };
    names.into_iter().map(row).collect()
}

/// How a stage ended in a run, its receipt, and the seconds of its execution.
type StageOfRun = (RunStageState, Option<Digest>, Option<f64>);

fn stages(sides: &[Side]) -> Vec<StageRow> {
    let mut names: Vec<&String> = Vec::new();
    for stage in sides.iter().flat_map(|s| &s.run.stages) {
        if !names.contains(&&stage.stage) {
            names.push(&stage.stage);
        }
    }
    let row = |name: &String| {
        let of: Vec<Option<StageOfRun>> = sides
            .iter()
            .map(|side| {
                let at = side.run.stages.iter().position(|s| s.stage == *name)?;
                let stage = &side.run.stages[at];
                Some((stage.state, stage.receipt, side.stages[at].as_ref().map(|r| r.seconds)))
            })
            .collect();
        let results: Vec<Option<Digest>> = of.iter().map(|o| o.as_ref().and_then(|o| o.1)).collect();
        StageRow {
            name: name.clone(),
            states: of.iter().map(|o| o.as_ref().map(|o| o.0)).collect(),
            seconds: of.iter().map(|o| o.as_ref().and_then(|o| o.2)).collect(),
            same_result: results.iter().all(Option::is_some) && results.windows(2).all(|w| w[0] == w[1]),
        }
    };
    names.into_iter().map(row).collect()
}

/// Files that a run read, declared or not, that no stage wrote and that are no dataset, with their digests.
fn sources(store: &Store, side: &Side) -> Result<BTreeMap<String, (Digest, ContentKind, u64)>, ReceiptError> {
    let reads = side.executed().flat_map(|r| &r.reads).filter(|r| r.by.is_empty() && r.dataset.is_none() && !r.params);
    let declared = reads.map(|r| (r.at.path.to_string(), (r.at.content.digest, r.at.content.kind, r.at.content.size)));
    let mut found = BTreeMap::new();
    for inputs in &side.observed {
        let files = inputs.project_files(store)?;
        found.extend(files.into_iter().map(|f| (f.path.clone(), (f.digest, f.content().kind, f.size))));
    }
    found.extend(declared);
    Ok(found)
}
