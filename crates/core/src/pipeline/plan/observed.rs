//! Whether a recorded result may be used again, by what its stage was seen to read.

use std::collections::{BTreeMap, BTreeSet};

use textum_base::SourcePath;

use super::PlanError;
use super::decide::{PlanContext, Settled};
use crate::config::graph::StageIndex;
use crate::config::manifest::{StageDecl, Trust};
use crate::project::fingerprint::{Reason, ReasonKind};
use crate::project::observed::World;
use crate::record::receipt::{Content, EnvironmentRecord, ObservedHow, ObservedInputs, ReceiptError, StageReceipt, Unchecked};
use crate::store::Digest;

/// So many changes of one result are told.
const MOST_REASONS: usize = 20;

/// What is known of how a result was made, beside its key.
#[derive(Clone, Debug, Default)]
pub struct HowMade {
    /// `yes`, `away`, `no`, `off` or `trusted`; none for what was recorded before stages were observed.
    pub observed: Option<String>,
    /// The document of its observed inputs.
    pub inputs: Option<Digest>,
    /// The record of its whole environment.
    pub environment: Option<Digest>,
    /// Whether another machine made it.
    pub elsewhere: bool,
    /// Whether it was sealed.
    pub sealed: bool,
}

impl HowMade {
    /// As a receipt says.
    pub fn of(receipt: &StageReceipt) -> HowMade {
        let observed = receipt.observed.as_ref();
        HowMade {
            observed: observed.map(|o| crate::record::receipt::word(&o.how)),
            inputs: observed.and_then(|o| o.inputs),
            environment: receipt.environment,
            elsewhere: receipt.place.host != crate::project::fingerprint::host(),
            sealed: observed.is_some_and(|o| o.sealed),
        }
    }
}

impl PlanContext<'_> {
    /// Why a result with the same key cannot be used again; nothing if it can. `all`: not only the first reason.
    pub(super) fn obstacles(
        &self,
        decl: &StageDecl,
        made: &HowMade,
        reads: &BTreeMap<SourcePath, Content>,
        all: bool,
    ) -> Result<Vec<Reason>, PlanError> {
        if !decl.reuse {
            return Ok(vec![Reason::plain(ReasonKind::NotReused, &decl.name)]);
        }
        if decl.run.is_own() {
            return Ok(Vec::new());
        }
        // What nothing kept from reading more is no sealed result.
        if self.is_sealed(decl) && !made.sealed {
            return Ok(vec![Reason::plain(ReasonKind::NotSealed, &decl.name)]);
        }
        let never = || vec![Reason::plain(ReasonKind::Unobserved, &decl.name)];
        match (made.observed.as_deref(), &made.inputs) {
            (Some(how @ ("yes" | "part")), Some(inputs)) => {
                let trust = made.elsewhere.then_some(self.project.manifest.observe.trust);
                let found = self.observed_changes(inputs, reads, if all { MOST_REASONS } else { 1 }, trust)?;
                let is_whole = how == "yes" || !found.is_empty() || decl.no_environment;
                match is_whole || self.has_environment(made.environment.as_ref())? {
                    true => Ok(found),
                    false => Ok(vec![Reason::plain(ReasonKind::NotWhole, &decl.name)]),
                }
            }
            (Some("trusted"), _) => Ok(Vec::new()),
            _ if !decl.observe => Ok(Vec::new()),
            // Of the project there was nothing but what is declared, and files of another machine cannot be looked at here.
            // What is sent to another machine has the environment there, which is asked of nobody before.
            (Some("away"), _) if self.is_sent(decl) => Ok(Vec::new()),
            (Some("no" | "away"), _) if decl.no_environment || self.has_environment(made.environment.as_ref())? => Ok(Vec::new()),
            (None, _) if self.trust_old => Ok(Vec::new()),
            _ => Ok(never()),
        }
    }

    /// Whether a stage is sealed: by its own word, or because all are.
    pub fn is_sealed(&self, decl: &StageDecl) -> bool {
        decl.sealed || (self.sealed && !decl.run.is_own())
    }

    /// Whether a stage executes at a place that shares no folder with this machine.
    pub fn is_sent(&self, decl: &StageDecl) -> bool {
        if decl.run.is_own() {
            return false;
        }
        let (of_stages, of_all) = &self.places;
        let said = of_stages.get(&decl.name).or(of_all.as_ref()).or(decl.place.as_ref());
        said.is_some_and(|name| self.project.manifest.places.iter().any(|p| p.name == *name && !p.shares_folder()))
    }

    /// What the last result of a stage had from where nothing can be checked.
    pub fn unchecked(&self, decision: &super::Decision) -> Result<Option<Unchecked>, PlanError> {
        let known = decision.result.as_ref().and_then(|result| result.made.inputs);
        let last = || Ok::<_, PlanError>(self.baseline(&decision.stage)?.and_then(|b| b.observed.and_then(|o| o.inputs)));
        let digest = match known {
            Some(digest) => Some(digest),
            None => last()?,
        };
        let inputs = digest.and_then(|digest| self.document(&digest));
        Ok(inputs.map(|inputs| inputs.unchecked()).filter(|unchecked| *unchecked != Unchecked::default()))
    }

    /// A document of observed inputs. One that is lost or damaged tells nothing any more.
    fn document(&self, digest: &Digest) -> Option<std::rc::Rc<ObservedInputs>> {
        if let Some(known) = self.documents.borrow().get(digest) {
            return Some(known.clone());
        }
        let inputs = ObservedInputs::load(&self.project.store, digest).map(std::rc::Rc::new).ok()?;
        self.documents.borrow_mut().insert(*digest, inputs.clone());
        Some(inputs)
    }

    /// What of observed inputs has changed.
    fn observed_changes(
        &self,
        digest: &Digest,
        reads: &BTreeMap<SourcePath, Content>,
        most: usize,
        trust: Option<Trust>,
    ) -> Result<Vec<Reason>, PlanError> {
        let store = &self.project.store;
        let Some(inputs) = self.document(digest) else {
            return Ok(vec![Reason::plain(ReasonKind::Unobserved, "its record")]);
        };
        let changes = |world, most| match self.observed.changes(store, &inputs, world, trust, most) {
            Err(ReceiptError::Store(_)) => vec![Reason::plain(ReasonKind::Unobserved, "its record")],
            Err(ReceiptError::Document(_)) => vec![Reason::plain(ReasonKind::Unobserved, "its record")],
            Ok(found) => found,
        };
        if self.sources.is_none() {
            return Ok(changes(World::Tree, most));
        }
        // A result of the tree is right as long as the tree stands, though a sandbox could not make it; and one of a
        // sandbox as long as what is declared stands.
        let found = changes(World::Sandbox(reads), most);
        let holds = found.is_empty() || changes(World::Tree, 1).is_empty();
        Ok(if holds { Vec::new() } else { found })
    }

    /// What has changed of that which the result compared with was seen to read.
    pub(super) fn baseline_changes(
        &self,
        baseline: &StageReceipt,
        reads: &BTreeMap<SourcePath, Content>,
    ) -> Result<Vec<Reason>, PlanError> {
        // What another machine had is no ground to compare with.
        let seen_here = baseline.observed.as_ref().filter(|o| matches!(o.how, ObservedHow::Yes | ObservedHow::Part));
        match seen_here.and_then(|o| o.inputs) {
            Some(inputs) => self.observed_changes(&inputs, reads, MOST_REASONS, None),
            None => Ok(Vec::new()),
        }
    }

    /// Whether the interpreter and all packages are those of a record. Where nothing was observed, each may have been
    /// used.
    fn has_environment(&self, record: Option<&Digest>) -> Result<bool, PlanError> {
        let Some(record) = record else { return Ok(false) };
        let then = EnvironmentRecord::load(&self.project.store, record)?;
        let said = |record: &EnvironmentRecord| record.python.as_ref().map(|p| (p.version.clone(), p.packages.clone()));
        Ok(said(&then) == said(&self.environment.record))
    }

    fn has_undeclared(&self) -> Result<bool, PlanError> {
        if let Some(known) = self.has_undeclared.get() {
            return Ok(*known);
        }
        let found = self.project.ledger.has_undeclared()?;
        Ok(*self.has_undeclared.get_or_init(|| found))
    }

    /// The stages whose outputs a stage was last seen to read without declaring them. It is decided on after them, as
    /// long as they do not wait for it.
    pub fn learned_upstream(&self, stage: StageIndex) -> Result<BTreeSet<StageIndex>, PlanError> {
        if let Some(known) = self.learned.borrow().get(&stage) {
            return Ok(known.clone());
        }
        let mut found = BTreeSet::new();
        let has_others = self.project.manifest.stages.len() > 1;
        if has_others && self.project.manifest.stages[stage].observe && self.sources.is_none() && self.has_undeclared()? {
            let undeclared = self.project.ledger.last_undeclared(&self.project.manifest.stages[stage].name)?;
            for path in undeclared {
                found.extend(self.project.graph.writers_of(&path));
            }
            found.remove(&stage);
            found.retain(|writer| !self.comes_after(*writer, stage));
        }
        self.learned.borrow_mut().insert(stage, found.clone());
        Ok(found)
    }

    /// Whether a stage comes after another by what is declared.
    fn comes_after(&self, later: StageIndex, earlier: StageIndex) -> bool {
        let mut todo = vec![earlier];
        let mut met = BTreeSet::new();
        while let Some(stage) = todo.pop() {
            if stage == later {
                return true;
            }
            todo.extend(self.project.graph.downstream(stage).iter().filter(|s| met.insert(**s)));
        }
        false
    }

    /// Of the stages whose outputs it reads without declaring them, those that will be executed first.
    pub(super) fn learned_reasons(
        &self,
        stage: StageIndex,
        settled: &BTreeMap<StageIndex, Settled>,
    ) -> Result<Vec<Reason>, PlanError> {
        let will_write = |s: &StageIndex| matches!(settled.get(s), Some(Settled::Pending));
        let names = self.learned_upstream(stage)?.into_iter().filter(will_write);
        Ok(names
            .map(|writer| {
                let name = self.project.graph.name(writer).to_string();
                Reason { kind: ReasonKind::Upstream, name: "what it reads without declaring it".into(), from: None, to: Some(name) }
            })
            .collect())
    }
}
