//! What a stage was seen to read, in a few lines.

use serde_json::{Value, json};
use textum_core::inspect::lineage::{ObservedOf, group_name};
use textum_core::observe::{Channel, ChannelKind};
use textum_core::record::receipt::{ObservedGroup, ObservedHow, ObservedInputs, ObservedKind, Unchecked};
use textum_core::store::Store;

use super::text;
use crate::ui::Style;

/// So many packages are named.
const PACKAGES: usize = 3;

/// Lines for a trace: what counts beside declared inputs, folded where it is many.
pub fn lines(of: &ObservedOf, store: &Store, all: bool, style: &Style) -> Vec<String> {
    let Some(inputs) = &of.inputs else {
        let because = of.observed.because.as_deref().unwrap_or_default();
        return match of.observed.how {
            ObservedHow::Trusted => vec![style.dim("not observed: taken for right by a person")],
            _ if because.starts_with("Textum itself") => Vec::new(),
            _ => vec![format!("{} {because}", style.bad("not observed:"))],
        };
    };
    let mut out = Vec::new();
    if of.observed.how == ObservedHow::Away {
        out.push(style.dim("seen where it was executed, whose files are not held against those here"));
    }
    match (of.observed.how, of.observed.because.as_deref()) {
        (ObservedHow::Part | ObservedHow::Away, Some(why)) => out.push(format!("{} {why}", style.bad("not wholly observed:"))),
        _ if of.observed.sealed => out.push(style.good("sealed: nothing else could be read")),
        _ => {}
    }
    match all {
        true => out.extend(every_file(inputs, store, style)),
        false => out.extend(folded(inputs).map(|line| style.dim(&line))),
    }
    let unchecked = inputs.unchecked();
    if !unchecked.connections.is_empty() {
        out.push(format!("{} {}, which cannot be checked", style.bad("connected to"), text::some(&unchecked.connections, 3)));
    }
    if !unchecked.channels.is_empty() {
        let named: Vec<String> = unchecked.channels.iter().map(channel).collect();
        out.push(format!("{} {}, which cannot be checked", style.bad("may have received data from"), text::some(&named, 3)));
    }
    if unchecked.random {
        out.push(style.dim("asked for random numbers"));
    }
    if !unchecked.times.is_empty() {
        out.push(style.dim(&format!("looked at times of files in {}, which do not count", text::some(&unchecked.times, 3))));
    }
    if !inputs.state.is_empty() {
        out.push(format!("{} {}", style.bad("keeps state in"), text::some(&inputs.state, 3)));
    }
    if !inputs.unseen.is_empty() {
        out.push(format!("{} {}", style.bad("not seen:"), text::some(&inputs.unseen, 3)));
    }
    out
}

/// `+ numpy 2.1.0, pandas 2.2.3 and 5 more, python3.11, 3 programs, 2 files elsewhere`, in one line. What is only recorded
/// is told with everything.
fn folded(inputs: &ObservedInputs) -> Option<String> {
    let packages: Vec<String> = inputs.used_packages().map(group_name).collect();
    let mut parts = Vec::new();
    if !packages.is_empty() {
        parts.push(text::some(&packages, PACKAGES));
    }
    parts.extend(inputs.of_kind(ObservedKind::Interpreter).map(group_name));
    let files = |kind: ObservedKind| inputs.of_kind(kind).map(|g| g.files).sum::<u64>();
    match files(ObservedKind::Program) {
        0 => {}
        n => parts.push(text::counted(n, "program")),
    }
    match files(ObservedKind::Elsewhere) {
        0 => {}
        n => parts.push(format!("{} elsewhere", text::counted(n, "file"))),
    }
    (!parts.is_empty()).then(|| format!("+ {}", parts.join(", ")))
}

fn every_file(inputs: &ObservedInputs, store: &Store, style: &Style) -> Vec<String> {
    let mut out = Vec::new();
    for group in inputs.groups.iter().filter(|g| g.kind != ObservedKind::Project) {
        let counts = if group.counts { "" } else { ", recorded only" };
        out.push(format!("{}  {}", group_name(group), style.dim(&format!("{}{counts}", text::counted(group.files, "file")))));
        for file in group.load_files(store).unwrap_or_default() {
            out.push(format!("  {}  {}", file.path, style.dim(&format!("{} {}", file.digest.short(), text::bytes(file.size)))));
        }
    }
    out.extend(inputs.absent.iter().map(|name| format!("{name}  {}", style.dim("was not there"))));
    out.extend(inputs.listed.iter().map(|folder| {
        let what = if folder.modules { "looked through for modules" } else { "listed" };
        format!("{}/  {}", folder.path, style.dim(what))
    }));
    out.extend(inputs.present.iter().map(|name| format!("{name}  {}", style.dim("looked at"))));
    out.extend(inputs.links.iter().map(|(name, target)| format!("{name} → {target}  {}", style.dim("link followed"))));
    out
}

/// A way by which a stage could be told something, in words.
fn channel(channel: &Channel) -> String {
    let name = &channel.name;
    match channel.kind {
        ChannelKind::Socket => format!("the socket {name}"),
        ChannelKind::Accepted => format!("a connection from {name}"),
        ChannelKind::Datagrams => format!("datagrams at {name}"),
        ChannelKind::Names => format!("names looked up at {name}"),
        ChannelKind::Fifo => format!("the FIFO {name}"),
        ChannelKind::Device => format!("the device {name}"),
        ChannelKind::Memory => format!("the shared memory {name}"),
        ChannelKind::Queue => format!("the queue or semaphore {name}"),
        ChannelKind::Process => format!("process {name}"),
        ChannelKind::Keys => format!("the kernel's {name}"),
        ChannelKind::Family => format!("a socket of the family {name}"),
    }
}

/// What stages had from where nothing can be checked, in one line: each thing with the stages that had it.
pub fn unchecked(stages: &[(String, Unchecked)], style: &Style) -> Option<String> {
    let mut found: Vec<(String, Vec<String>)> = Vec::new();
    for (stage, what) in stages {
        let connections = what.connections.iter().map(|address| format!("answers from {address}"));
        let channels = what.channels.iter().map(channel);
        let random = what.random.then(|| "random numbers".to_string());
        let times = what.times.iter().map(|folder| format!("times of files in {folder}"));
        for thing in connections.chain(channels).chain(times).chain(random) {
            match found.iter_mut().find(|(known, _)| *known == thing) {
                Some((_, by)) => by.push(stage.clone()),
                None => found.push((thing, vec![stage.clone()])),
            }
        }
    }
    if found.is_empty() {
        return None;
    }
    let named: Vec<String> = found.iter().map(|(thing, by)| format!("{thing} ({})", text::some(by, 4))).collect();
    Some(style.dim(&format!("  cannot be checked, so a rebuild may differ: {}", text::some(&named, 6))))
}

fn group_json(group: &ObservedGroup, is_held: bool, store: &Store, all: bool) -> Value {
    let files = || {
        let files = group.load_files(store).unwrap_or_default();
        files.iter().map(|f| json!({"path": f.path, "digest": f.digest, "size": f.size})).collect::<Vec<_>>()
    };
    let listed = all || matches!(group.kind, ObservedKind::Project | ObservedKind::Elsewhere | ObservedKind::Program);
    json!({
        "kind": group.kind, "name": group.name, "version": group.version, "counts": group.counts && is_held, "files": group.files,
        "size": group.size, "list": group.list, "members": listed.then(files),
    })
}

/// What is known of an execution's observed inputs, as JSON.
pub fn json(of: &ObservedOf, store: &Store, all: bool) -> Value {
    let inputs = of.inputs.as_ref();
    let is_held = of.observed.how != ObservedHow::Away;
    json!({
        "stage": of.stage, "how": of.observed.how, "because": of.observed.because, "sealed": of.observed.sealed,
        "groups": inputs.map(|i| i.groups.iter().map(|g| group_json(g, is_held, store, all)).collect::<Vec<_>>()),
        "absent": inputs.map(|i| &i.absent), "present": inputs.map(|i| &i.present),
        "listed": inputs.map(|i| i.listed.iter().map(|l| &l.path).collect::<Vec<_>>()),
        "looks": inputs.map(|i| &i.looks), "links": inputs.map(|i| &i.links), "kept": inputs.map(|i| &i.kept),
        "channels": inputs.map(|i| &i.channels), "random": inputs.map(|i| i.random), "times": inputs.map(|i| &i.times),
        "network": inputs.map(|i| &i.network), "variables": inputs.map(|i| &i.variables), "state": inputs.map(|i| &i.state),
        "changed": inputs.map(|i| &i.changed), "unseen": inputs.map(|i| &i.unseen), "processor": inputs.map(|i| &i.processor),
    })
}
