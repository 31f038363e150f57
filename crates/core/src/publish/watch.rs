//! Telling others what happens in a registry: each event once, in order, with a kept position.
//!
//! An event is told as a CloudEvent (version 1.0, JSON; <https://github.com/cloudevents/spec>). Its id is the digest of the
//! entry: whoever is told twice, because this machine was lost in between, can tell that it is the same.

use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use textum_registry::{Action, Judged, Registry};

use super::PublishError;
use crate::fsio::{self, FileLock, IoError, TryLock};

/// The longest pause between two tries, in seconds.
const LONGEST_PAUSE: f64 = 300.0;

/// Which events are told of.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Filter {
    /// Only those of this published name.
    pub name: Option<String>,
    /// Only moves of this alias.
    pub alias: Option<String>,
}

/// What happened.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    /// The number of its entry.
    pub entry: u64,
    /// It, as a CloudEvent.
    pub cloud: Value,
    /// What it is about: `NAME@V`, or `NAME`.
    pub subject: String,
    /// Variables for a command that is told.
    pub variables: Vec<(String, String)>,
}

/// Events of a registry that fit, behind the entry with this number.
pub fn events_after(registry: &Registry, number: u64, filter: &Filter, source: &str) -> Vec<Event> {
    // What an alias named before is known by going through all of them.
    let mut named: std::collections::BTreeMap<(String, String), u64> = std::collections::BTreeMap::new();
    let mut found = Vec::new();
    for judged in registry.entries.iter().filter(|e| e.invalid.is_none()) {
        let mut before = None;
        if let Action::Alias { name, alias, version, .. } = &judged.entry.action {
            let key = (name.clone(), alias.clone());
            before = match version {
                Some(version) => named.insert(key, *version),
                None => named.remove(&key),
            };
        }
        if judged.entry.number > number
            && let Some(event) = event_of(judged, before, filter, source)
        {
            found.push(event);
        }
    }
    found
}

fn event_of(judged: &Judged, before: Option<u64>, filter: &Filter, source: &str) -> Option<Event> {
    let entry = &judged.entry;
    let name = entry.action.name()?;
    if filter.name.as_deref().is_some_and(|wanted| wanted != name) {
        return None;
    }
    let (kind, version, alias, text) = match &entry.action {
        Action::Publish(p) => ("version.published", Some(p.version), None, None),
        Action::Alias { version, alias, .. } => ("alias.moved", *version, Some(alias), None),
        Action::Approve { version, alias, .. } => ("version.approved", Some(*version), Some(alias), None),
        Action::Retire { version, because, .. } => ("version.retired", Some(*version), None, Some(because)),
        Action::Note { version, text, .. } => ("version.noted", Some(*version), None, Some(text)),
        Action::Card { version, .. } => ("version.described", Some(*version), None, None),
        Action::Section { .. } | Action::Role { .. } => return None,
    };
    let is_move = kind == "alias.moved";
    if filter.alias.as_ref().is_some_and(|wanted| !is_move || Some(wanted) != alias) {
        return None;
    }
    let subject = version.map_or(name.to_string(), |version| format!("{name}@{version}"));
    let mut data = json!({"entry": entry.number, "name": name, "version": version, "by": entry.by});
    if let Some(table) = data.as_object_mut() {
        alias.iter().for_each(|alias| drop(table.insert("alias".into(), json!(alias))));
        text.iter().for_each(|text| drop(table.insert("text".into(), json!(text))));
        if is_move {
            table.insert("before".into(), json!(before));
        }
    }
    let kind = format!("textum.registry.{kind}");
    let cloud = json!({
        "specversion": "1.0", "id": judged.digest, "source": source, "type": kind, "subject": subject, "time": entry.at,
        "datacontenttype": "application/json", "data": data,
    });
    let text = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
    let variables = vec![
        ("TEXTUM_EVENT".to_string(), kind),
        ("TEXTUM_ENTRY".to_string(), entry.number.to_string()),
        ("TEXTUM_NAME".to_string(), name.to_string()),
        ("TEXTUM_VERSION".to_string(), text(version)),
        ("TEXTUM_ALIAS".to_string(), alias.cloned().unwrap_or_default()),
        ("TEXTUM_BEFORE".to_string(), text(before)),
    ];
    Some(Event { entry: entry.number, cloud, subject, variables })
}

/// How far a watcher is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Position {
    /// The number of the last entry that was told of, or passed over.
    pub entry: u64,
    /// Events that could not be told, with what was said the last time.
    #[serde(default)]
    pub dead: Vec<DeadLetter>,
}

/// An event that could not be told.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DeadLetter {
    /// The number of its entry.
    pub entry: u64,
    /// What went wrong the last time.
    pub why: String,
    /// When it was given up, RFC 3339 in UTC.
    pub at: String,
}

/// A watcher's place: its position, which no other process has at the same time.
pub struct Watcher {
    file: PathBuf,
    _lock: FileLock,
    /// How far it is; none: it has never been here.
    pub position: Option<Position>,
}

impl Watcher {
    /// Takes a watcher's place: `name` tells it from others that watch the same registry.
    pub fn open(folder: &Path, name: &str) -> Result<Watcher, PublishError> {
        fsio::create_folder(folder)?;
        let file = folder.join(format!("{name}.json"));
        let lock = match FileLock::try_exclusive(&folder.join(format!("{name}.lock")))? {
            TryLock::Taken(lock) => lock,
            TryLock::Held | TryLock::Absent => {
                let what = format!("a watcher `{name}` is at work already");
                return Err(PublishError::refused(what, "end it first, or give this one a name of its own: --as NAME"));
            }
        };
        let position = match std::fs::read(&file) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => None,
            Err(e) => return Err(IoError::of("read", &file)(e).into()),
            Ok(bytes) => Some(serde_json::from_slice(&bytes).map_err(|e| {
                let what = format!("{} is no watcher's position: {e}", file.display());
                PublishError::wrong(what, "remove it, and say where to begin: --from ENTRY")
            })?),
        };
        Ok(Watcher { file, _lock: lock, position })
    }

    /// Keeps how far it is.
    pub fn keep(&mut self, position: Position) -> Result<(), PublishError> {
        let text = serde_json::to_vec_pretty(&position).unwrap_or_default();
        fsio::write_atomic(&self.file, &text)?;
        self.position = Some(position);
        Ok(())
    }
}

/// How often and after which pauses something is tried.
#[derive(Clone, Copy, Debug)]
pub struct Tries {
    /// So often at most.
    pub most: u32,
    /// The first pause, in seconds; each next one is twice as long.
    pub pause: f64,
}

/// What came of telling.
#[derive(Clone, Debug, PartialEq)]
pub enum Told {
    /// It was told, at this try.
    Yes(u32),
    /// It could not be; this was said the last time.
    No(String),
    /// Somebody asked to end: it was not told.
    Stopped,
}

/// Tries to tell until it succeeds. `wait` pauses, and says whether to go on.
pub fn try_to_tell(
    tries: Tries,
    mut tell: impl FnMut() -> Result<(), String>,
    wait: &dyn Fn(Duration) -> bool,
    mut on_failure: impl FnMut(u32, &str, Option<Duration>),
) -> Told {
    let mut pause = tries.pause;
    for number in 1.. {
        match tell() {
            Ok(()) => return Told::Yes(number),
            Err(why) if number >= tries.most => {
                on_failure(number, &why, None);
                return Told::No(why);
            }
            Err(why) => {
                let next = Duration::from_secs_f64(pause.clamp(0.0, LONGEST_PAUSE));
                on_failure(number, &why, Some(next));
                if !wait(next) {
                    return Told::Stopped;
                }
                pause *= 2.0;
            }
        }
    }
    Told::Stopped
}

/// Posts a CloudEvent. A receiver that sends elsewhere has not received it.
#[cfg(feature = "remote")]
pub fn post(url: &str, event: &Value) -> Result<(), String> {
    let config = ureq::Agent::config_builder()
        .timeout_global(Some(Duration::from_secs(30)))
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .build();
    let agent = ureq::Agent::new_with_config(config);
    let body = serde_json::to_vec(event).unwrap_or_default();
    let answer = agent.post(url).header("content-type", "application/cloudevents+json; charset=utf-8").send(&body[..]);
    match answer {
        Ok(answer) if answer.status().is_success() => Ok(()),
        Ok(answer) => Err(format!("{url} answered {}", answer.status())),
        Err(e) => Err(format!("{url}: {e}")),
    }
}

/// Posts a CloudEvent.
#[cfg(not(feature = "remote"))]
pub fn post(_url: &str, _event: &Value) -> Result<(), String> {
    Err("this Textum was built without servers: build it with `--features remote`".to_string())
}
