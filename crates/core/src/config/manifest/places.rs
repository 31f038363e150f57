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
    /// What it is: "slurm", a cluster, which shares a folder with this machine unless it has an `address`; "ssh", a machine
    /// that is reached by SSH; "command", any other engine, by three commands.
    pub kind: PlaceKind,
    /// Options of its engine, as in { partition = "main", account = "weavers" }; of ssh, as in { Port = 2222 }.
    #[serde(default)]
    pub options: IndexMap<String, PlaceOptionForm>,
    /// So many jobs at once at most; 50 unless said, of a machine that is reached by SSH 1.
    pub jobs: Option<u32>,
    /// So often a stage is tried again that was lost or had to make room, from its last checkpoint if it has one; 0 unless said.
    pub retries: Option<u32>,
    /// The command that hands {script} to the engine and prints what the engine calls the job.
    pub submit: Option<String>,
    /// The command that prints a line for each of {jobs}: what it is called, and a word for how it stands.
    pub state: Option<String>,
    /// The command that ends {job}; where it says {signal} that is INT, when the job is asked to end, or KILL.
    pub cancel: Option<String>,
    /// What the engine's words mean: "waiting", "running", "over", "cancelled", "lost", "preempted", "time" or "memory".
    #[serde(default)]
    pub words: IndexMap<String, String>,
    /// The machine, as ssh takes it: loom@box.shed. Of a cluster: its login machine, where nothing is shared with this one.
    pub address: Option<String>,
    /// Options of ssh to the login machine of a cluster, as in { Port = 2222 }.
    #[serde(default)]
    pub ssh: IndexMap<String, PlaceOptionForm>,
    /// The depot through which what stages read goes there, so that only what is not there yet travels; it is sent unless said.
    pub depot: Option<String>,
    /// The folder there in which stages work, which the nodes of a cluster see too; .textum-work in the home unless said.
    pub folder: Option<String>,
    /// The command that rents a machine and prints its address, and in further lines its host keys; {hold} names it.
    pub begin: Option<String>,
    /// The command that gives {address}, which was rented as {hold}, back.
    pub end: Option<String>,
    /// So long jobs go on there when nobody asks for them; 15m unless said, and for ever on a machine that is not rented.
    pub lease: Option<String>,
    /// What is executed there when nobody has asked for so long, to end the machine.
    pub lapse: Option<String>,
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
    /// A machine that is reached by SSH.
    Ssh,
    /// Any other engine that shares a folder with this machine.
    Command,
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
    /// So often a stage that was lost is tried again.
    pub retries: u32,
    /// The commands of a place of kind "command".
    pub commands: Option<EngineCommands>,
    /// The machine of a place of kind "ssh", or through which a cluster is reached.
    pub machine: Option<MachineDecl>,
}

impl PlaceDecl {
    /// Whether the project's folder is the same there.
    pub fn shares_folder(&self) -> bool {
        self.machine.is_none()
    }
}

/// How an engine is asked that is known by its commands alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EngineCommands {
    /// Hands a job over.
    pub submit: String,
    /// Says how jobs stand.
    pub state: String,
    /// Ends a job.
    pub cancel: String,
    /// What the engine's words mean.
    pub words: Vec<(String, String)>,
}

/// A machine that is reached by SSH.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MachineDecl {
    /// Options of ssh, each a word of its command line.
    pub options: Vec<String>,
    /// The depot through which what stages read goes there; none: it is sent.
    pub depot: Option<String>,
    /// Its address, where it stands there; else it is rented.
    pub address: Option<String>,
    /// The folder there in which stages work.
    pub folder: String,
    /// Rents it.
    pub begin: Option<String>,
    /// Gives it back.
    pub end: Option<String>,
    /// So many seconds jobs go on when nobody asks for them.
    pub lease: Option<u64>,
    /// What ends the machine from within.
    pub lapse: Option<String>,
}

/// What a word of an engine can mean.
pub const ENGINE_WORDS: [&str; 8] = ["waiting", "running", "over", "cancelled", "lost", "preempted", "time", "memory"];

/// The folder on a machine in which stages work, unless said.
const FOLDER_THERE: &str = ".textum-work";
/// So long jobs go on on a rented machine when nobody asks for them, in seconds.
const LEASE: u64 = 15 * 60;

/// What Textum says itself to Slurm, out of `needs` and of what a stage is.
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

/// What Textum says itself to ssh.
const OWN_OF_SSH: [&str; 5] = ["BatchMode", "ControlMaster", "ControlPath", "ControlPersist", "RequestTTY"];

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
            self.place_keys(name, place);
            let is_ssh = place.kind == PlaceKind::Ssh;
            let options = self.place_options(name, ("options", &place.options), is_ssh, place.kind);
            let of_ssh = self.place_options(name, ("ssh", &place.ssh), true, place.kind);
            let commands = self.engine_commands(name, place);
            let machine = self.machine(name, place, if is_ssh { &options } else { &of_ssh });
            let most = if place.kind == PlaceKind::Ssh { 1 } else { JOBS };
            let (jobs, retries) = (place.jobs.unwrap_or(most).max(1), place.retries.unwrap_or(0));
            found.push(PlaceDecl { name: name.clone(), kind: place.kind, options, jobs, retries, commands, machine });
        }
        found
    }

    /// Keys that belong to another kind of place, and those that a kind cannot do without.
    fn place_keys(&mut self, name: &str, place: &PlaceForm) {
        let of_command = [("submit", &place.submit), ("state", &place.state), ("cancel", &place.cancel)];
        let of_ssh = [("begin", &place.begin), ("end", &place.end), ("lease", &place.lease), ("lapse", &place.lapse)];
        let mut wrong: Vec<(&str, &str)> = Vec::new();
        if place.kind != PlaceKind::Command {
            wrong.extend(of_command.iter().filter(|(_, said)| said.is_some()).map(|(key, _)| (*key, "command")));
            wrong.extend((!place.words.is_empty()).then_some(("words", "command")));
        }
        if place.kind != PlaceKind::Ssh {
            wrong.extend(of_ssh.iter().filter(|(_, said)| said.is_some()).map(|(key, _)| (*key, "ssh")));
        } else if !place.ssh.is_empty() {
            let span = self.at(&[Step::Key("place"), Step::Key(name), Step::Key("ssh")]);
            let help = "write them into `options`: this place has no others";
            self.mistakes.push(Diagnostic::new(span, "`ssh` is for a cluster that is reached by SSH", "this key", help));
        }
        for (key, kind) in wrong {
            let span = self.at(&[Step::Key("place"), Step::Key(name), Step::Key(key)]);
            let help = format!("leave it out, or write kind = \"{kind}\"");
            self.mistakes.push(Diagnostic::new(span, format!("`{key}` is for places of kind \"{kind}\""), "this key", help));
        }
        let span = self.document.key_place(&["place", name]);
        let mut lacks = |what: &str, help: &str| {
            self.mistakes.push(Diagnostic::new(
                span.clone(),
                format!("[place.{name}] has no {what}"),
                "this place",
                help.to_string(),
            ));
        };
        if place.kind != PlaceKind::Ssh && place.address.is_none() {
            let said = [("folder", place.folder.is_some()), ("ssh", !place.ssh.is_empty()), ("depot", place.depot.is_some())];
            for (key, _) in said.iter().filter(|(_, said)| *said) {
                let help = format!("`{key}` is of a cluster that is reached by SSH: write its login machine as ssh takes it");
                lacks("`address`", &help);
            }
        }
        match place.kind {
            PlaceKind::Slurm => {}
            PlaceKind::Command => {
                for (key, _) in of_command.iter().filter(|(_, said)| said.is_none()) {
                    lacks(
                        &format!("`{key}`"),
                        "a place of kind \"command\" has `submit`, `state` and `cancel`: docs/places.md has examples",
                    );
                }
            }
            PlaceKind::Ssh => match (&place.address, &place.begin, &place.end) {
                (Some(_), None, None) | (None, Some(_), Some(_)) => {}
                (None, None, _) => lacks("`address`", "write the machine as ssh takes it, or `begin` and `end` to rent one"),
                (Some(_), ..) => {
                    lacks("one meaning", "write `address` for a machine that stands there, or `begin` and `end` to rent one")
                }
                (None, Some(_), None) => lacks("`end`", "write the command that gives the machine back, so that none is forgotten"),
            },
        }
    }

    /// The options of an engine, each a word of its command line.
    fn place_options(
        &mut self,
        name: &str,
        (key, said): (&str, &IndexMap<String, PlaceOptionForm>),
        is_ssh: bool,
        kind: PlaceKind,
    ) -> Vec<String> {
        let mut options = Vec::new();
        for (option, value) in said {
            let steps = [Step::Key("place"), Step::Key(name), Step::Key(key), Step::Key(option)];
            let fine = match is_ssh {
                true => option.chars().all(|c| c.is_ascii_alphanumeric()),
                false => {
                    option.starts_with(|c: char| c.is_ascii_lowercase())
                        && option.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
                }
            };
            let own = if is_ssh { &OWN_OF_SSH[..] } else { &OWN[..] };
            let (title, help) = match (kind, fine) {
                (PlaceKind::Command, _) if !is_ssh => (format!("`{option}` has no meaning here"), "write options into `submit`"),
                (_, false) if is_ssh => {
                    (format!("`{option}` is no option"), "write an option as `man ssh_config` names it, as in `Port`")
                }
                (_, false) => {
                    (format!("`{option}` is no option"), "write an option's long name without its dashes, as in `partition`")
                }
                (_, true) if own.iter().any(|o| o.eq_ignore_ascii_case(option)) => {
                    let help = match is_ssh {
                        true => "leave it out: how connections are kept and shared is Textum's",
                        false => "say what a stage needs in its `needs` (cpus, memory, gpus, time); the rest Textum says itself",
                    };
                    (format!("`{option}` is said by Textum"), help)
                }
                _ => (String::new(), ""),
            };
            if !title.is_empty() {
                self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this one", help));
            }
            let text = match value {
                PlaceOptionForm::Switch(false) => continue,
                PlaceOptionForm::Switch(true) => (if is_ssh { "yes" } else { "" }).to_string(),
                PlaceOptionForm::Whole(number) => number.to_string(),
                PlaceOptionForm::Text(text) if text.contains(['\n', '\0']) => {
                    self.mistakes.push(Diagnostic::new(self.at(&steps), "an option is one line", "this text", "write one line"));
                    continue;
                }
                PlaceOptionForm::Text(text) => text.clone(),
            };
            options.push(match (is_ssh, matches!(value, PlaceOptionForm::Switch(true))) {
                (true, _) => format!("-o{option}={text}"),
                (false, true) => format!("--{option}"),
                (false, false) => format!("--{option}={text}"),
            });
        }
        options
    }

    fn engine_commands(&mut self, name: &str, place: &PlaceForm) -> Option<EngineCommands> {
        let (PlaceKind::Command, Some(submit), Some(state), Some(cancel)) =
            (place.kind, &place.submit, &place.state, &place.cancel)
        else {
            return None;
        };
        let known: [(&str, &str, &[&str]); 3] = [
            ("submit", submit, &["script", "name", "folder", "cpus", "memory", "gpus", "minutes", "seconds"]),
            ("state", state, &["jobs"]),
            ("cancel", cancel, &["job", "signal"]),
        ];
        for (key, text, names) in known {
            self.placeholders(name, key, text, names);
            if !text.contains(&format!("{{{}}}", names[0])) {
                let span = self.at(&[Step::Key("place"), Step::Key(name), Step::Key(key)]);
                let title = format!("`{key}` does not say {{{}}}", names[0]);
                self.mistakes.push(Diagnostic::new(span, title, "this command", "docs/places.md has examples"));
            }
        }
        for (word, meaning) in place.words.iter().filter(|(_, meaning)| !ENGINE_WORDS.contains(&meaning.as_str())) {
            let span = self.at(&[Step::Key("place"), Step::Key(name), Step::Key("words"), Step::Key(word)]);
            let help = format!("write one of {}", ENGINE_WORDS.join(", "));
            self.mistakes.push(Diagnostic::new(span, format!("`{meaning}` is no meaning of a word"), "this one", help));
        }
        let words = place.words.iter().map(|(word, meaning)| (word.clone(), meaning.clone())).collect();
        Some(EngineCommands { submit: submit.clone(), state: state.clone(), cancel: cancel.clone(), words })
    }

    /// Placeholders of a place's command that stand for nothing.
    fn placeholders(&mut self, name: &str, key: &str, text: &str, known: &[&str]) {
        for (from, to) in super::substitute::spans(text) {
            let placeholder = &text[from + 1..to - 1];
            if !known.contains(&placeholder) {
                let span = self.at(&[Step::Key("place"), Step::Key(name), Step::Key(key)]);
                let all: Vec<String> = known.iter().map(|k| format!("{{{k}}}")).collect();
                let help = format!("`{key}` can say {}", all.join(", "));
                self.mistakes.push(Diagnostic::new(span, format!("{{{placeholder}}} stands for nothing"), "in this command", help));
            }
        }
    }

    fn machine(&mut self, name: &str, place: &PlaceForm, options: &[String]) -> Option<MachineDecl> {
        if place.kind != PlaceKind::Ssh && place.address.is_none() {
            return None;
        }
        let at = |key| [Step::Key("place"), Step::Key(name), Step::Key(key)];
        for (key, text) in [("begin", &place.begin), ("end", &place.end)] {
            let known: &[&str] = if key == "end" { &["address", "hold"] } else { &["hold"] };
            if let Some(text) = text {
                self.placeholders(name, key, text, known);
            }
        }
        let lease = place.lease.as_deref().map(|text| (text, super::rules::parse_time(text)));
        if let Some((text, None)) = lease {
            let title = format!("`{text}` is no time");
            self.mistakes.push(Diagnostic::new(self.at(&at("lease")), title, "this one", "write a time such as 90s, 15m or 2h"));
        }
        let folder = place.folder.clone().unwrap_or_else(|| FOLDER_THERE.to_string());
        for (key, text) in [("folder", Some(&folder)), ("address", place.address.as_ref())] {
            let wrong = |t: &&String| t.is_empty() || t.starts_with('-') || t.chars().any(|c| c.is_control() || c.is_whitespace());
            if text.as_ref().is_some_and(wrong) {
                let title = format!("this cannot be the {key} of a machine");
                self.mistakes.push(Diagnostic::new(
                    self.at(&at(key)),
                    title,
                    "this text",
                    "write it without blanks and not with a dash first",
                ));
            }
        }
        let of_rented = place.begin.as_ref().map(|_| LEASE);
        Some(MachineDecl {
            options: options.to_vec(),
            depot: place.depot.clone(),
            address: place.address.clone(),
            folder,
            begin: place.begin.clone(),
            end: place.end.clone(),
            lease: lease.and_then(|(_, seconds)| seconds).or(of_rented),
            lapse: place.lapse.clone(),
        })
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
