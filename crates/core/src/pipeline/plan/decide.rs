//! The decision for one stage. There is no second rule book: whoever wants to know what is to be done
//! for a stage asks here.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;

use textum_base::SourcePath;

use super::observed::HowMade;
use super::reads::{ReadState, missing_reads, read_state, state_apart};
use super::{Action, PlanError};
use crate::config::graph::StageIndex;
use crate::config::manifest::{Command, StageDecl};
use crate::data::{DataError, split_name, version_with};
use crate::project::fingerprint::{EnvironmentNow, Reason, ReasonKind, inputs_of, reasons};
use crate::project::observed::ObservedCheck;
use crate::project::workspace::Project;
use crate::record::receipt::{
    BranchedFrom, Content, CountedEnvironment, Inputs, ObservedInputs, PathContent, Read, StageReceipt, TreeReceipt,
};
use crate::store::{Digest, StoreError};

/// Everything that decisions are made from.
pub struct PlanContext<'p> {
    /// The project.
    pub project: &'p Project,
    /// Its environment.
    pub environment: EnvironmentNow,
    /// What the tree's receipt says stands there.
    pub tree: Option<TreeReceipt>,
    /// Stages to be executed whatever is recorded.
    pub forced: BTreeSet<StageIndex>,
    /// The checkpoints that stages are to go on from.
    pub from: BTreeMap<StageIndex, BranchedFrom>,
    /// For stages apart from the working tree: everything that no stage writes, as it was taken in.
    pub sources: Option<Rc<BTreeMap<SourcePath, Content>>>,
    /// Results, by key, that the ledger does not know of yet.
    pub fresh: Option<&'p RefCell<HashMap<Digest, Recorded>>>,
    /// What holds observed inputs against the present.
    pub observed: Rc<ObservedCheck>,
    /// Documents of observed inputs that were read.
    pub documents: Documents,
    /// Stages from which others were seen to read without declaring it.
    pub learned: RefCell<HashMap<StageIndex, BTreeSet<StageIndex>>>,
    /// Whether any stage was ever seen to read something without declaring it.
    pub has_undeclared: OnceCell<bool>,
    /// Whether results from before stages were observed are taken for right.
    pub trust_old: bool,
    /// Whether all stages are sealed.
    pub sealed: bool,
    /// Where stages are to execute, by their names and all others, whatever the manifest says.
    pub places: (BTreeMap<String, String>, Option<String>),
}

/// Documents of observed inputs, by digest.
pub type Documents = Rc<RefCell<HashMap<Digest, Rc<ObservedInputs>>>>;

/// What is known of an upstream stage.
#[derive(Clone, Debug)]
pub enum Settled {
    /// Its result is known.
    Result {
        /// Its outputs.
        outputs: Vec<PathContent>,
        /// Whether they stand in the tree already.
        in_place: bool,
    },
    /// It will be executed.
    Pending,
}

/// A recorded result.
#[derive(Clone, Debug)]
pub struct Recorded {
    /// The stage receipt.
    pub receipt: Digest,
    /// The run that executed it.
    pub run: String,
    /// What was brought forth, sorted by path.
    pub outputs: Vec<PathContent>,
    /// Whether it has metrics.
    pub has_metrics: bool,
    /// How it was made.
    pub made: HowMade,
}

/// What is to be done for a stage, and why.
#[derive(Clone, Debug)]
pub struct Decision {
    /// The stage's name.
    pub stage: String,
    /// The stage's number.
    pub index: StageIndex,
    /// What is to be done.
    pub action: Action,
    /// The stage's inputs, unless something it reads is yet to be written.
    pub inputs: Option<Inputs>,
    /// Their digest.
    pub key: Option<Digest>,
    /// What stands at its reads, as far as known.
    pub reads: BTreeMap<SourcePath, Content>,
    /// Recorded versions that it is held against.
    pub versions: Vec<Read>,
    /// Why.
    pub reasons: Vec<Reason>,
    /// The recorded result, if there is one for the key.
    pub result: Option<Recorded>,
    /// How long the stage took the last time it was done, in seconds.
    pub before: Option<f64>,
}

impl Decision {
    /// What later stages can know of this one before anything is executed.
    pub fn plan_context(&self) -> Settled {
        match (&self.result, self.action) {
            (Some(recorded), Action::Reuse | Action::UpToDate) => {
                Settled::Result { outputs: recorded.outputs.clone(), in_place: self.action == Action::UpToDate }
            }
            _ => Settled::Pending,
        }
    }
}

/// What stands at all reads of a stage.
#[derive(Default)]
struct AllReads {
    contents: BTreeMap<SourcePath, Content>,
    inputs: BTreeMap<SourcePath, crate::record::receipt::ReadInput>,
    pending: Vec<(SourcePath, StageIndex)>,
    absent: Vec<SourcePath>,
}

impl<'p> PlanContext<'p> {
    /// The context on a project as it is now; reads that cannot come about are mistakes of the manifest.
    pub fn new(project: &'p Project, selected: &[bool], forced: BTreeSet<StageIndex>) -> Result<PlanContext<'p>, PlanError> {
        missing_reads(project, selected)?;
        let environment = project.environment()?;
        let tree = TreeReceipt::load(project.workspace.root())?;
        let installed = environment.record.python.as_ref().map(|python| python.packages.clone()).unwrap_or_default();
        Ok(PlanContext {
            project,
            environment,
            tree,
            forced,
            from: BTreeMap::new(),
            sources: None,
            fresh: None,
            observed: Rc::new(project.observed_check().with_installed(installed)),
            documents: Rc::default(),
            learned: RefCell::default(),
            has_undeclared: OnceCell::new(),
            trust_old: false,
            sealed: false,
            places: Default::default(),
        })
    }

    /// Decides for one stage, given what is known of those it reads from.
    pub fn decide(&self, stage: StageIndex, settled: &BTreeMap<StageIndex, Settled>) -> Result<Decision, PlanError> {
        let decl = &self.project.manifest.stages[stage];
        let _span = tracing::trace_span!("decide", stage = %decl.name).entered();
        let reads = self.all_reads(stage, settled)?;
        let mut decision = Decision {
            stage: decl.name.clone(),
            index: stage,
            action: Action::Run,
            inputs: None,
            key: None,
            reads: reads.contents,
            versions: Vec::new(),
            reasons: Vec::new(),
            result: None,
            before: None,
        };
        let mut inputs = inputs_of(decl, &self.project.params, reads.inputs, &self.environment, self.from.get(&stage))?;
        decision.versions = self.versions_of(&mut inputs)?;
        if !reads.pending.is_empty() || !reads.absent.is_empty() {
            let baseline = self.baseline(&decl.name)?;
            decision.before = self.took_before(decl, baseline.as_ref())?;
            decision.reasons = self.pending_reasons(inputs, baseline.as_ref(), &reads.pending, &reads.absent);
            return Ok(decision);
        }
        let key = inputs.key()?;
        self.settle(&mut decision, &key, &inputs, settled)?;
        decision.inputs = Some(inputs);
        decision.key = Some(key);
        Ok(decision)
    }

    /// The recorded versions that a stage is held against: what they are counts, not what they are called.
    fn versions_of(&self, inputs: &mut Inputs) -> Result<Vec<Read>, PlanError> {
        let Command::Examine(examination) = &mut inputs.run else { return Ok(Vec::new()) };
        let mut found: Vec<Read> = Vec::new();
        for table in std::iter::once(&mut examination.data).chain(examination.tables.values_mut()) {
            let Some((dataset, number)) = table.version.as_deref().and_then(split_name) else { continue };
            let version = version_with(&self.project.ledger, dataset, number).map_err(|e| match e {
                // It is declared: nothing of it has been recorded.
                DataError::NoDataset { name, .. } => Box::new(DataError::NothingRecorded(name)),
                other => Box::new(other),
            })?;
            table.digest = Some(version.content.digest);
            let at = PathContent { path: version.path.clone(), content: version.content };
            let dataset = Some(version.dataset);
            let (by, published) = (Vec::new(), None);
            let read = Read { at, by, dataset, published, for_all: false, params: false, hold: version.hold };
            if !found.contains(&read) {
                found.push(read);
            }
        }
        Ok(found)
    }

    fn all_reads(&self, stage: StageIndex, settled: &BTreeMap<StageIndex, Settled>) -> Result<AllReads, PlanError> {
        let mut all = AllReads::default();
        let declared = self.project.manifest.stages[stage].reads.iter().cloned();
        for path in declared.chain(self.project.manifest.environment.files.iter().map(SourcePath::from)) {
            let state = match &self.sources {
                Some(sources) => state_apart(self.project, &path, settled, sources)?,
                None => read_state(self.project, &path, settled)?,
            };
            match state {
                ReadState::Known(content, input) => {
                    all.contents.insert(path.clone(), content);
                    all.inputs.insert(path, input);
                }
                ReadState::Pending(writer) => all.pending.push((path, writer)),
                ReadState::Absent => all.absent.push(path),
            }
        }
        Ok(all)
    }

    /// What the stage's inputs are compared with: its result in the tree, else its last one.
    pub(super) fn baseline(&self, stage: &str) -> Result<Option<StageReceipt>, PlanError> {
        let in_tree = self.tree.as_ref().and_then(|t| t.stages.get(stage)).map(|s| s.receipt);
        let known = in_tree.filter(|d| self.project.store.contains(d).unwrap_or(false));
        let digest = match known {
            Some(digest) => Some(digest),
            None => self.project.ledger.last_done(stage)?.map(|row| row.receipt),
        };
        Ok(digest.map(|d| StageReceipt::load(&self.project.store, &d)).transpose()?)
    }

    /// How long the stage took where it would execute; else how long its last result did.
    fn took_before(&self, decl: &StageDecl, baseline: Option<&StageReceipt>) -> Result<Option<f64>, PlanError> {
        let Some(baseline) = baseline else { return Ok(None) };
        let there = match &decl.place {
            Some(place) => self.project.ledger.last_seconds_at(&decl.name, place)?,
            None => None,
        };
        Ok(Some(there.unwrap_or(baseline.seconds)))
    }

    fn counted(&self, digest: &Digest) -> Option<CountedEnvironment> {
        let is_now =
            |now: &&CountedEnvironment| crate::record::receipt::canonical(*now).is_ok_and(|bytes| Digest::of(&bytes) == *digest);
        let now = self.environment.counted.iter().chain(&self.environment.interpreter).find(is_now);
        now.cloned().or_else(|| CountedEnvironment::load(&self.project.store, digest).ok())
    }

    fn pending_reasons(
        &self,
        mut inputs: Inputs,
        baseline: Option<&StageReceipt>,
        pending: &[(SourcePath, StageIndex)],
        absent: &[SourcePath],
    ) -> Vec<Reason> {
        let mut found = Vec::new();
        if let Some(old) = baseline.map(|b| &b.inputs) {
            for (path, _) in pending {
                if let Some(read) = old.reads.get(path) {
                    inputs.reads.insert(path.clone(), read.clone());
                }
            }
            found = reasons(old, &inputs, |d| self.counted(d));
            found.retain(|r| !(r.kind == ReasonKind::Read && pending.iter().any(|(p, _)| *p == r.name)));
        } else {
            found.push(self.never_done(&inputs.stage, None));
        }
        found.extend(pending.iter().map(|(path, writer)| Reason {
            kind: ReasonKind::Upstream,
            name: path.to_string(),
            from: None,
            to: Some(self.project.graph.name(*writer).to_string()),
        }));
        found.extend(absent.iter().map(|path| Reason::plain(ReasonKind::Missing, path)));
        found
    }

    /// Of the results with a key, the newest that may be used again; and why those before it in time may not.
    fn result(&self, decision: &Decision, key: &Digest, inputs: &Inputs) -> Result<(Option<Recorded>, Vec<Reason>), PlanError> {
        let ledger = &self.project.ledger;
        let decl = &self.project.manifest.stages[decision.index];
        let mut obstacles = Vec::new();
        let fresh = self.fresh.and_then(|f| f.borrow().get(key).cloned());
        if let Some(fresh) = fresh {
            obstacles = self.obstacles(decl, &fresh.made, &decision.reads, true)?;
            if obstacles.is_empty() {
                return Ok((Some(fresh), obstacles));
            }
        }
        // Before stages were observed all packages stood in the key.
        let old_key = match self.trust_old {
            true => Some(self.key_with_all_packages(inputs)?).filter(|old| old != key),
            false => None,
        };
        let here = crate::project::fingerprint::host();
        let mut rows = ledger.results_of(key)?;
        if let Some(old) = old_key {
            rows.extend(ledger.results_of(&old)?.into_iter().filter(|row| row.observed.is_none()));
        }
        for row in rows {
            let elsewhere = row.host != here;
            let sealed = row.sealed;
            let made =
                HowMade { observed: row.observed, inputs: row.observed_inputs, environment: row.environment, elsewhere, sealed };
            // What became of the result that stands in the tree says most; else of the newest one.
            let in_tree = self.tree.as_ref().and_then(|t| t.stages.get(&decision.stage)).map(|s| s.receipt);
            let tells = obstacles.is_empty() || in_tree == Some(row.receipt);
            let found = self.obstacles(decl, &made, &decision.reads, tells)?;
            if found.is_empty() {
                let outputs = ledger.outputs_of(&row.receipt)?;
                let recorded = Recorded { receipt: row.receipt, run: row.run, outputs, has_metrics: row.has_metrics, made };
                return Ok((Some(recorded), Vec::new()));
            }
            if tells {
                obstacles = found;
            }
        }
        Ok((None, obstacles))
    }

    /// Whether a content is here, or a depot has it. One that cannot be asked now has nothing: work goes on without.
    fn can_have(&self, digest: &Digest) -> Result<bool, PlanError> {
        match self.project.store.can_have(digest) {
            Err(StoreError::Source(_)) => Ok(false),
            other => Ok(other.map_err(super::ReadError::from)?),
        }
    }

    fn key_with_all_packages(&self, inputs: &Inputs) -> Result<Digest, PlanError> {
        let counted = self.environment.counted.as_ref().filter(|_| inputs.environment.is_some());
        let environment = counted.map(|c| crate::record::receipt::canonical(c).map(|bytes| Digest::of(&bytes))).transpose()?;
        Ok(Inputs { environment, ..inputs.clone() }.key()?)
    }

    fn settle(
        &self,
        decision: &mut Decision,
        key: &Digest,
        inputs: &Inputs,
        settled: &BTreeMap<StageIndex, Settled>,
    ) -> Result<(), PlanError> {
        let (result, mut obstacles) = self.result(decision, key, inputs)?;
        decision.result = result;
        let learned = self.learned_reasons(decision.index, settled)?;
        if !learned.is_empty() {
            // What it will read is not there yet.
            decision.result = None;
            obstacles.extend(learned);
        }
        let forced = self.forced.contains(&decision.index);
        let (differing, dropped) = match &decision.result {
            Some(recorded) if !forced => self.hold_against_tree(&recorded.outputs)?,
            _ => Default::default(),
        };
        if decision.result.is_some() && !forced && differing.is_empty() {
            decision.action = Action::UpToDate;
            return Ok(());
        }
        let baseline = self.baseline(&decision.stage)?;
        decision.before = self.took_before(&self.project.manifest.stages[decision.index], baseline.as_ref())?;
        let compared = || match &baseline {
            Some(old) => reasons(&old.inputs, inputs, |d| self.counted(d)),
            None => vec![self.never_done(&decision.stage, Some(key))],
        };
        if forced {
            decision.reasons = vec![Reason::plain(ReasonKind::Forced, &decision.stage)];
        } else if decision.result.is_none() {
            decision.reasons = match &baseline {
                // Nothing that is declared differs: it is what was read beside that.
                _ if !obstacles.is_empty() => obstacles,
                Some(old) => {
                    let mut found = compared();
                    found.extend(self.baseline_changes(old, &decision.reads)?);
                    found
                }
                None => compared(),
            };
        } else {
            // What led to another recorded result than the one that stands there; else what became of it.
            let led_here = baseline.as_ref().is_some_and(|old| old.key != *key);
            decision.action = if dropped.is_empty() { Action::Reuse } else { Action::Run };
            decision.reasons = if led_here { compared() } else { differing };
            decision.reasons.extend(dropped);
        }
        Ok(())
    }

    /// Why there is no result of a stage: the committed receipt may know of one elsewhere.
    fn never_done(&self, stage: &str, key: Option<&Digest>) -> Reason {
        match self.tree.as_ref().and_then(|t| t.stages.get(stage)) {
            Some(there) => {
                let same = key == Some(&there.key);
                let to = Some(if same { "the same inputs" } else { "other inputs" }.to_string());
                Reason { kind: ReasonKind::NotHere, name: there.run.clone(), from: Some(there.key.to_string()), to }
            }
            None => Reason::plain(ReasonKind::New, stage),
        }
    }

    /// The outputs that do not stand in the tree, and those of them that the store no longer has.
    fn hold_against_tree(&self, outputs: &[PathContent]) -> Result<(Vec<Reason>, Vec<Reason>), PlanError> {
        let mut differing = Vec::new();
        let mut dropped = Vec::new();
        for output in outputs {
            // What cannot be looked at (a pipe, a link that leaves) is not what is recorded; the run moves it aside.
            let (now, strange) = match self.sources.is_some() {
                true => (None, false),
                false => match self.project.scanner.look(&output.path) {
                    Ok(now) => (now, false),
                    Err(e) if e.is_textums_own() => return Err(e.into()),
                    Err(_) => (None, true),
                },
            };
            if now.as_ref() == Some(&output.content) {
                continue;
            }
            if !self.can_have(&output.content.digest)? {
                dropped.push(Reason::plain(ReasonKind::Dropped, &output.path));
            }
            differing.push(match now {
                None if strange => Reason::plain(ReasonKind::Edited, &output.path),
                None => Reason::plain(ReasonKind::Missing, &output.path),
                Some(now) => Reason {
                    kind: ReasonKind::Edited,
                    name: output.path.to_string(),
                    from: Some(output.content.digest.to_string()),
                    to: Some(now.digest.to_string()),
                },
            });
        }
        Ok((differing, dropped))
    }
}
