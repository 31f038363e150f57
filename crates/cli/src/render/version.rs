//! One published version: at a look, as a card, and what publishing it found.

use serde_json::{Value, json};
use textum_base::Better;
use textum_core::publish::Published;
use textum_core::registry::{Bundle, Header, Model, Registry, Signed, Version};

use super::csv::Data;
use super::registry::signature;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::{Style, escape};

/// So many metrics are shown; the rest is counted.
const METRICS: usize = 8;
/// So many packages are shown.
const PACKAGES: usize = 8;

fn better(version: &Version, name: &str) -> Option<Better> {
    version.publication.bundle.better.get(name).copied()
}

/// The metrics: those that somebody cares for come first.
pub fn metrics_in_order(bundle: &Bundle) -> Vec<&String> {
    let held = bundle.check.as_deref().and_then(|text| textum_core::expr::parse(text).ok());
    let named = held.as_ref().map(|rule| rule.names()).unwrap_or_default();
    let mut names: Vec<&String> = bundle.metrics.keys().collect();
    names.sort_by_key(|name| (!named.contains(name.as_str()), !bundle.better.contains_key(*name)));
    names
}

/// Metrics of versions side by side, the last of them judged against those before.
pub fn metrics_table(versions: &[(String, &Version)], style: &Style) -> String {
    let Some((_, last)) = versions.last() else { return String::new() };
    let names = metrics_in_order(&last.publication.bundle);
    if names.is_empty() {
        return String::new();
    }
    let mut header = vec!["metric"];
    header.extend(versions.iter().map(|(name, _)| name.as_str()));
    let row = |name: &&String| {
        let now = last.publication.bundle.metric(name);
        let mut row = vec![Cell::from((*name).clone())];
        for (at, (_, version)) in versions.iter().enumerate() {
            let value = version.publication.bundle.metric(name);
            let shown = value.map_or("–".to_string(), text::figure);
            let before = at.checked_sub(1).and_then(|before| versions[before].1.publication.bundle.metric(name));
            let look = match (before, now, better(last, name)) {
                (Some(before), Some(now), Some(way)) if at + 1 == versions.len() && before != now => {
                    if (now > before) == (way == Better::Higher) { Look::Good } else { Look::Bad }
                }
                _ => Look::Plain,
            };
            let mark = match look {
                Look::Good => " better",
                Look::Bad => " worse",
                _ => "",
            };
            row.push(Cell::new(format!("{shown}{mark}"), look));
        }
        row
    };
    let rows: Vec<Vec<Cell>> = names.iter().take(METRICS).map(row).collect();
    let mut out = table(&header, &rows, "  ", style);
    if names.len() > METRICS {
        out.push_str(&style.dim(&format!("  and {} more\n", names.len() - METRICS)));
    }
    out
}

/// The version before, the live one, and this one; each once.
fn beside<'r>(model: &'r Model, version: &'r Version) -> Vec<(String, &'r Version)> {
    let number = version.publication.version;
    let mut found: Vec<(String, u64)> = Vec::new();
    if number > 1 {
        found.push((format!("@{}", number - 1), number - 1));
    }
    for (alias, state) in model.aliases.iter().filter(|(_, a)| a.version != number) {
        match found.iter_mut().find(|(_, n)| *n == state.version) {
            Some((name, _)) => name.push_str(&format!(" {alias}")),
            None => found.push((format!("@{} {alias}", state.version), state.version)),
        }
    }
    found.sort_by_key(|(_, n)| *n);
    let mut out: Vec<(String, &Version)> = found.into_iter().filter_map(|(name, n)| Some((name, model.version(n)?))).collect();
    out.truncate(3);
    out.push((format!("@{number}"), version));
    out
}

fn header_words(header: &Header) -> String {
    let facts: Vec<String> = header.facts.iter().take(4).map(|(k, v)| format!("{k} {v}")).collect();
    let facts = if facts.is_empty() { String::new() } else { format!(", {}", facts.join(", ")) };
    format!("{}: {}, {} values{facts}", header.format, text::counted(header.tensors, "tensor"), text::count(header.values))
}

fn columns_words(bundle: &Bundle) -> String {
    let Some(input) = &bundle.input else { return String::new() };
    let all: Vec<String> =
        input.columns.iter().map(|c| format!("{} ({}{})", c.name, c.kind.word(), if c.missing { "?" } else { "" })).collect();
    text::some(&all, 5)
}

/// Facts about a version, line by line: what they are called, and what they are.
fn facts(registry: &Registry, version: &Version) -> Vec<(&'static str, String, Look)> {
    let now = textum_base::clock::now();
    let publication = &version.publication;
    let bundle = &publication.bundle;
    let mut lines = Vec::new();
    let mut line = |name: &'static str, text: String, look: Look| lines.push((name, text, look));
    if let Some(retired) = &version.retired {
        line("retired", format!("{} ({}, {})", retired.text, text::ago(&retired.at, now), retired.by), Look::Bad);
    }
    let signed = signature(registry, &publication.section, &version.signed);
    line("published", format!("{} by {}, {signed}; entry {}", text::ago(&version.at, now), version.by, version.entry), Look::Plain);
    for approval in &version.approvals {
        let key = signature(registry, &publication.section, &Signed::By(approval.key.clone()));
        let how = format!("for {} by {}, {key}, {}", approval.alias, approval.by, text::ago(&approval.at, now));
        line("approved", how, Look::Plain);
    }
    if let Some(run) = &bundle.run {
        line("run", format!("{} of {}, {} by {}", run.run, run.project, text::ago(&run.started, now), run.by), Look::Plain);
        let commit = run.commit.as_ref().map_or("no git repository".to_string(), |c| match c.strip_suffix('+') {
            Some(commit) => format!("commit {} with changes", text::commit(commit)),
            None => format!("commit {}", text::commit(c)),
        });
        let stages: Vec<String> = run.stages.keys().cloned().collect();
        line("code", format!("{commit}; stages {}", text::some(&stages, 8)), Look::Plain);
        line(
            "sealed",
            if run.sealed { "yes: nothing undeclared could be read".to_string() } else { "no".to_string() },
            Look::Plain,
        );
    }
    let rebuilt = match &bundle.rebuilt {
        Some(rebuilt) => format!("{}, {} by {}", rebuilt.verdict, text::ago(&rebuilt.at, now), rebuilt.by),
        None => "not before it was published".to_string(),
    };
    if bundle.run.is_some() {
        line("rebuilt", rebuilt, Look::Plain);
    }
    for (name, data) in &bundle.data {
        let version = data.version.map_or(String::new(), |v| format!("@{v}"));
        line("data", format!("{name}{version}  {}  {}", data.digest.short(), text::bytes(data.size)), Look::Plain);
    }
    if bundle.interpreter.is_some() || !bundle.packages.is_empty() {
        let packages: Vec<String> = bundle.packages.iter().map(|(n, v)| format!("{n} {v}")).collect();
        let packages = if packages.is_empty() { "no packages".to_string() } else { text::some(&packages, PACKAGES) };
        line("uses", format!("{}; {packages}", bundle.interpreter.clone().unwrap_or_default()), Look::Plain);
    }
    for file in &bundle.files {
        let header = file.header.as_ref().map_or(String::new(), |h| format!("  {}", header_words(h)));
        line("file", format!("{}  {}  {}{header}", file.path, file.digest.short(), text::bytes(file.size)), Look::Plain);
    }
    if let Some(predict) = &bundle.predict {
        line("predicts", format!("{predict}  (rows as CSV in, predictions as CSV out)"), Look::Plain);
        line("takes in", columns_words(bundle), Look::Plain);
    }
    if let Some(proof) = &bundle.proof {
        let how = format!(
            "{} predicted in {}: `textum fetch {}@{} --check` repeats it",
            text::counted(proof.rows, "row"),
            text::seconds(proof.seconds),
            publication.name,
            publication.version
        );
        line("proof", how, Look::Plain);
    }
    if let Some(check) = &bundle.check {
        line("held", check.clone(), Look::Plain);
    }
    for note in &version.notes {
        line("note", format!("{} ({}, {})", note.text, note.by, text::ago(&note.at, now)), Look::Plain);
    }
    lines
}

/// All about a version.
pub fn text(registry: &Registry, version: &Version, style: &Style) -> String {
    let publication = &version.publication;
    let bundle = &publication.bundle;
    let model = registry.models.get(&publication.name);
    let aliases = model.map(|m| m.aliases_of(publication.version).join(", ")).unwrap_or_default();
    let aliases = if aliases.is_empty() { "no alias".to_string() } else { aliases };
    let mut out = format!(
        "{}  {}  {} in {}, {}, {}\n",
        style.bold(&format!("{}@{}", publication.name, publication.version)),
        style.accent(&aliases),
        publication.kind.word(),
        publication.section,
        text::counted(bundle.files.len() as u64, "file"),
        text::bytes(bundle.size())
    );
    if let Some(about) = &bundle.about {
        out.push_str(&format!("{}\n", escape::line(about)));
    }
    let mut last = "";
    let rows: Vec<Vec<Cell>> = facts(registry, version)
        .into_iter()
        .map(|(name, text, look)| {
            let shown = if name == last { "" } else { name };
            last = name;
            vec![Cell::new(shown, Look::Dim), Cell::new(text, look)]
        })
        .collect();
    out.push_str(&format!("\n{}", table(&[], &rows, "  ", style)));
    if let Some(model) = model
        && !bundle.metrics.is_empty()
    {
        out.push_str(&format!("\n{}", metrics_table(&beside(model, version), style)));
    }
    if let Some(card) = &version.card {
        out.push_str(&format!(
            "\n  its card was written by {}: `textum card {}@{}`\n",
            escape::line(&card.by),
            publication.name,
            publication.version
        ));
    }
    out
}

/// The same as JSON.
pub fn json(registry: &Registry, version: &Version) -> Value {
    let publication = &version.publication;
    let model = registry.models.get(&publication.name);
    json!({
        "name": publication.name, "version": publication.version, "section": publication.section, "kind": publication.kind,
        "aliases": model.map(|m| m.aliases_of(publication.version)), "content": publication.content,
        "published": version.at, "by": version.by, "signed": version.signed, "entry": version.entry,
        "approvals": version.approvals, "retired": version.retired, "notes": version.notes, "card": version.card,
        "bundle": publication.bundle,
    })
}

/// Its facts as CSV.
pub fn csv(registry: &Registry, version: &Version) -> String {
    let mut data = Data::new(["what", "value"]);
    for (name, text, _) in facts(registry, version) {
        data.add([name.to_string(), text]);
    }
    for (name, value) in &version.publication.bundle.metrics {
        data.add([format!("metric {name}"), value.to_string()]);
    }
    data.text()
}

/// Its card in Markdown: the one that a person wrote, or the facts with room for what only a person knows.
pub fn card(registry: &Registry, version: &Version) -> String {
    if let Some(card) = &version.card {
        return card.text.clone();
    }
    let publication = &version.publication;
    let bundle = &publication.bundle;
    let plain = |text: &str| escape::markdown(text).replace('|', "\\|");
    let mut out = format!("# {}@{}\n\n", publication.name, publication.version);
    out.push_str(&bundle.about.as_ref().map_or(String::new(), |about| format!("{}\n\n", plain(about))));
    out.push_str("## What it is for, and what not\n\n_To be written by a person: who should use it, for what; where it must not be used; what is known to go wrong._\n\n");
    out.push_str("## Facts\n\n| | |\n|---|---|\n");
    for (name, text, _) in facts(registry, version) {
        out.push_str(&format!("| {name} | {} |\n", plain(&text)));
    }
    if let Some(run) = &bundle.run
        && !run.params.is_empty()
    {
        out.push_str("\n## Parameters\n\n| parameter | value |\n|---|---|\n");
        for (name, value) in &run.params {
            out.push_str(&format!("| {} | {} |\n", plain(name), plain(&text::param(value))));
        }
    }
    if !bundle.metrics.is_empty() {
        out.push_str("\n## Metrics\n\n| metric | value | better |\n|---|---|---|\n");
        for (name, value) in &bundle.metrics {
            let way = match better(version, name) {
                Some(Better::Higher) => "higher",
                Some(Better::Lower) => "lower",
                None => "",
            };
            out.push_str(&format!("| {} | {} | {way} |\n", plain(name), value.as_f64().map_or(String::new(), text::figure)));
        }
    }
    if let Some(input) = &bundle.input {
        out.push_str("\n## What it takes in\n\n| column | type | may be missing |\n|---|---|---|\n");
        for column in &input.columns {
            let missing = if column.missing { "yes" } else { "no" };
            out.push_str(&format!("| {} | {} | {missing} |\n", plain(&column.name), column.kind.word()));
        }
    }
    out
}

/// What publishing found.
pub fn published_text(published: &Published, version: &Version, at: &str, style: &Style) -> String {
    let name = format!("{}@{}", published.name, published.version);
    let bundle = &version.publication.bundle;
    if published.entry.is_none() {
        let when = text::ago(&version.at, textum_base::clock::now());
        return format!("{} is the same content: it was published {when} by {}\n", style.bold(&name), escape::line(&version.by));
    }
    let mut out = format!(
        "{} is published at {}: {}, {}\n",
        style.bold(&name),
        escape::line(at),
        text::counted(bundle.files.len() as u64, "file"),
        text::bytes(bundle.size())
    );
    if let Some(proof) = &bundle.proof {
        out.push_str(&format!(
            "  proof: {} predicted, twice the same, in {}\n",
            text::counted(proof.rows, "example row"),
            text::seconds(proof.seconds)
        ));
    }
    if let Some(check) = &bundle.check {
        let figures: Vec<String> =
            published.checked.iter().filter_map(|(n, v)| v.map(|v| format!("{n} {}", text::figure(v)))).collect();
        out.push_str(&format!("  held: {}  ({})\n", escape::line(check), figures.join(", ")));
    }
    let model = published.registry.models.get(&published.name);
    if let Some(model) = model {
        let beside = beside(model, version);
        if beside.len() > 1 {
            out.push_str(&metrics_table(&beside, style));
        }
        if model.aliases_of(published.version).is_empty() {
            out.push_str(&format!("  next: textum alias {name} live\n"));
        }
    }
    out
}

/// The same as JSON.
pub fn published_json(published: &Published, version: &Version) -> Value {
    let bundle = &version.publication.bundle;
    json!({
        "name": published.name, "version": published.version, "new": published.entry.is_some(),
        "entry": version.entry, "content": version.publication.content, "files": bundle.files.len(), "bytes": bundle.size(),
        "proof": bundle.proof, "check": bundle.check, "signed": version.signed,
    })
}
