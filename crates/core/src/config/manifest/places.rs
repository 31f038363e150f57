//! `[place.NAME]`: where stages execute beside this machine.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::check::Checker;
use super::document::Step;
use super::form::{ManifestForm, StageForm};
use super::{Diagnostic, nearest};

/// What this machine is called among places.
pub const THIS_MACHINE: &str = "local";
/// So many jobs at once are given to a place, unless said.
const JOBS: u32 = 50;

/// A place where stages execute.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlaceForm {
    /// What it is: "slurm", a cluster that shares a folder with this machine.
    pub kind: PlaceKind,
    /// Options of its engine, as in { partition = "main", account = "weavers" }.
    #[serde(default)]
    pub options: IndexMap<String, PlaceOptionForm>,
    /// So many jobs at once at most; 50 unless said.
    pub jobs: Option<u32>,
}

/// The value of an option.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum PlaceOptionForm {
    /// Only to be there, or not.
    Switch(bool),
    /// A number.
    Whole(i64),
    /// A text.
    Text(String),
}

/// What a place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlaceKind {
    /// A cluster of the Slurm Workload Manager.
    Slurm,
}

/// A declared place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceDecl {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: PlaceKind,
    /// Options of its engine, each a word of its command line.
    pub options: Vec<String>,
    /// So many jobs at once at most.
    pub jobs: u32,
}

/// What Textum says itself, out of `needs` and of what a stage is.
const OWN: [&str; 17] = [
    "array",
    "chdir",
    "comment",
    "cpus-per-task",
    "dependency",
    "error",
    "export",
    "gpus",
    "input",
    "job-name",
    "mem",
    "no-requeue",
    "open-mode",
    "output",
    "requeue",
    "time",
    "wait",
];

impl Checker<'_, '_> {
    /// The places, with what cannot be meant told.
    pub(super) fn places(&mut self, form: &ManifestForm) -> Vec<PlaceDecl> {
        let mut found = Vec::new();
        for (name, place) in &form.place {
            self.name("place", name, "-_");
            let at = |key| [Step::Key("place"), Step::Key(name), Step::Key(key)];
            if name == THIS_MACHINE {
                let span = self.document.key_place(&["place", name]);
                let help = "call it something else, as in [place.cluster]";
                self.mistakes.push(Diagnostic::new(span, format!("`{name}` is this machine"), "this name", help));
            }
            if place.jobs == Some(0) {
                let help = "write 1 or more";
                self.mistakes.push(Diagnostic::new(self.at(&at("jobs")), "a place without jobs executes nothing", "0 here", help));
            }
            let mut options = Vec::new();
            for (option, value) in &place.options {
                let steps = [Step::Key("place"), Step::Key(name), Step::Key("options"), Step::Key(option)];
                let fine = option.starts_with(|c: char| c.is_ascii_lowercase())
                    && option.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
                if !fine {
                    let help = "write an option's long name without its dashes, as in `partition`";
                    let title = format!("`{option}` is no option");
                    self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this one", help));
                } else if OWN.contains(&option.as_str()) {
                    let help = "say what a stage needs in its `needs` (cpus, memory, gpus, time); the rest Textum says itself";
                    self.mistakes.push(Diagnostic::new(self.at(&steps), format!("`{option}` is said by Textum"), "this one", help));
                }
                options.extend(match value {
                    PlaceOptionForm::Switch(true) => Some(format!("--{option}")),
                    PlaceOptionForm::Switch(false) => None,
                    PlaceOptionForm::Whole(number) => Some(format!("--{option}={number}")),
                    PlaceOptionForm::Text(text) if text.contains(['\n', '\0']) => {
                        let help = "write one line";
                        self.mistakes.push(Diagnostic::new(self.at(&steps), "an option is one line", "this text", help));
                        None
                    }
                    PlaceOptionForm::Text(text) => Some(format!("--{option}={text}")),
                });
            }
            let jobs = place.jobs.unwrap_or(JOBS).max(1);
            found.push(PlaceDecl { name: name.clone(), kind: place.kind, options, jobs });
        }
        found
    }

    /// Where a stage is to execute; none: on this machine.
    pub(super) fn place_of(&mut self, name: &str, form: &StageForm, all: &ManifestForm) -> Option<String> {
        let place = form.place.as_deref().filter(|p| *p != THIS_MACHINE)?;
        let span = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("place")]);
        if !all.place.contains_key(place) {
            let known = all.place.keys().map(String::as_str).chain([THIS_MACHINE]);
            let help = match nearest(place, known) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("declare it: [place.{place}] with `kind = \"slurm\"`"),
            };
            self.mistakes.push(Diagnostic::new(span, format!("there is no place `{place}`"), "this place", help));
        } else if form.run.is_none() {
            let help = "leave `place` out: Textum does it itself, here";
            self.mistakes.push(Diagnostic::new(
                span,
                format!("`{name}` has no command to be executed elsewhere"),
                "this place",
                help,
            ));
            return None;
        }
        Some(place.to_string())
    }
}
