//! Why a stage's key is another than before: the differences of its inputs, as data.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::config::manifest::command_text;
use crate::record::receipt::{CountedEnvironment, EnvironmentRecord, Inputs};
use crate::store::Digest;

/// What kind of thing a reason speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReasonKind {
    /// The stage has never been done.
    New,
    /// It was done elsewhere, by the committed receipt: its result is not in the store here.
    NotHere,
    /// A parameter has another value, came or went.
    Param,
    /// A file or folder that is read has another content, came or went.
    Read,
    /// The command is another.
    Command,
    /// A declared output came or went.
    Writes,
    /// The checkpoint that it goes on from.
    Checkpoint,
    /// An environment variable that counts.
    Variable,
    /// The interpreter.
    Python,
    /// An installed package that counts.
    Package,
    /// Something that it was seen to read, without declaring it, has changed, came or went.
    Observed,
    /// What it was seen to look at without reading it, or a link, is another now.
    LookedAt,
    /// A file that it reads and changes from run to run is neither as it found nor as it left it.
    Kept,
    /// What it reads was never observed.
    Unobserved,
    /// What it did could not wholly be followed.
    NotWhole,
    /// It is to be sealed now, and was not.
    NotSealed,
    /// It is never used again.
    NotReused,
    /// An earlier stage will write anew what this one reads.
    Upstream,
    /// An output is not there.
    Missing,
    /// An output is there with another content.
    Edited,
    /// The recorded result is no longer in the store.
    Dropped,
    /// It was asked for.
    Forced,
}

/// One reason, with what it was and what it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Reason {
    /// What kind of thing.
    pub kind: ReasonKind,
    /// Its name: a parameter, a path, a package, …
    pub name: String,
    /// What it was; none when it was not.
    pub from: Option<String>,
    /// What it is; none when it is not.
    pub to: Option<String>,
}

impl Reason {
    /// A reason without values.
    pub fn plain(kind: ReasonKind, name: &str) -> Reason {
        Reason { kind, name: name.to_string(), from: None, to: None }
    }
}

/// The differences of two maps, by name.
fn differences<'m, K: Ord + std::fmt::Display, V: PartialEq>(
    kind: ReasonKind,
    old: &'m BTreeMap<K, V>,
    new: &'m BTreeMap<K, V>,
    text: impl Fn(&V) -> Option<String> + 'm,
) -> Vec<Reason> {
    let mut found = Vec::new();
    let names = old.keys().chain(new.keys().filter(|k| !old.contains_key(*k)));
    for name in names {
        let (from, to) = (old.get(name), new.get(name));
        if from != to {
            found.push(Reason { kind, name: name.to_string(), from: from.and_then(&text), to: to.and_then(&text) });
        }
    }
    found
}

fn counted_differences(old: Option<&CountedEnvironment>, new: Option<&CountedEnvironment>) -> Vec<Reason> {
    let nothing = BTreeMap::new();
    let mut found = Vec::new();
    let version = |e: Option<&CountedEnvironment>| e.map(|e| e.python.clone());
    if version(old) != version(new) {
        found.push(Reason { kind: ReasonKind::Python, name: "python".into(), from: version(old), to: version(new) });
    }
    let packages = |e: Option<&'_ CountedEnvironment>| e.map_or(nothing.clone(), |e| e.packages.clone());
    found.extend(differences(ReasonKind::Package, &packages(old), &packages(new), |v| v.clone()));
    found
}

/// Every difference between recorded inputs and those of now. `counted` finds the environment that a
/// digest stands for; what it cannot find is left out of the comparison package by package.
pub fn reasons(old: &Inputs, new: &Inputs, counted: impl Fn(&Digest) -> Option<CountedEnvironment>) -> Vec<Reason> {
    let mut found = Vec::new();
    let (from, to) = (command_text(&old.run), command_text(&new.run));
    found.extend(differences(ReasonKind::Param, &old.params, &new.params, |text| Some(text.clone())));
    if old.run != new.run {
        found.push(Reason { kind: ReasonKind::Command, name: "run".into(), from: Some(from), to: Some(to) });
    }
    found.extend(differences(ReasonKind::Read, &old.reads, &new.reads, |read: &crate::record::receipt::ReadInput| {
        Some(read.digest.to_string())
    }));
    let listed = |inputs: &Inputs| {
        let writes = inputs.writes.iter().map(ToString::to_string);
        writes.chain(inputs.metrics.iter().map(ToString::to_string)).map(|w| (w, ())).collect::<BTreeMap<String, ()>>()
    };
    found.extend(differences(ReasonKind::Writes, &listed(old), &listed(new), |()| Some("declared".into())));
    if old.from != new.from {
        let said = |inputs: &Inputs| inputs.from.as_ref().map(|f| format!("step {} ({})", f.step, f.digest.short()));
        found.push(Reason { kind: ReasonKind::Checkpoint, name: "checkpoint".into(), from: said(old), to: said(new) });
    }
    found.extend(differences(ReasonKind::Variable, &old.vars, &new.vars, |value| value.clone()));
    if old.environment != new.environment {
        let find = |digest: &Option<Digest>| digest.as_ref().and_then(&counted);
        found.extend(counted_differences(find(&old.environment).as_ref(), find(&new.environment).as_ref()));
    }
    found
}

/// Differences between two records of environments: interpreter, packages, system.
pub fn environment_differences(old: &EnvironmentRecord, new: &EnvironmentRecord) -> Vec<Reason> {
    let counted = |record: &EnvironmentRecord| {
        record.python.as_ref().map(|p| CountedEnvironment {
            r#type: String::new(),
            python: p.version.clone(),
            packages: p.packages.iter().map(|(n, v)| (n.clone(), Some(v.clone()))).collect(),
        })
    };
    counted_differences(counted(old).as_ref(), counted(new).as_ref())
}

/// A difference of the environment as a line.
pub fn in_words(reason: &Reason) -> String {
    // Of a digest its beginning tells as much as all of it.
    let short = |value: &String| value.parse::<Digest>().map_or_else(|_| value.clone(), |d| d.short());
    let side = |value: &Option<String>| value.as_ref().map_or("not there".to_string(), short);
    format!("{} {} → {}", reason.name, side(&reason.from), side(&reason.to))
}
