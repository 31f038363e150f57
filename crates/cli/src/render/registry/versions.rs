//! The versions of a published name.

use serde_json::{Value, json};
use textum_core::registry::{Model, Registry, Version};

use super::super::csv::Data;
use super::super::table::{Cell, Look, markdown, table};
use super::super::{text, version};
use super::aliases_json;
use crate::ui::{Style, escape};

const VERSIONS: [&str; 6] = ["version", "aliases", "published", "by", "run", "state"];

/// The metrics that a name's versions are told by: those that had to hold, then those with a direction; at most three.
fn told_metrics(model: &Model) -> Vec<String> {
    let newest = model.versions.last().map(|v| &v.publication.bundle);
    let order = newest.map(version::metrics_in_order).unwrap_or_default();
    let directed = order.into_iter().filter(|name| newest.is_some_and(|b| b.better.contains_key(*name)));
    directed.take(3).cloned().collect()
}

fn version_state(version: &Version) -> (String, Look) {
    match &version.retired {
        Some(retired) => (format!("retired: {}", escape::line(&retired.text)), Look::Bad),
        None => (String::new(), Look::Plain),
    }
}

fn version_rows(model: &Model, metrics: &[String]) -> (Vec<String>, Vec<Vec<Cell>>) {
    let now = textum_base::clock::now();
    let mut header: Vec<String> = VERSIONS[..2].iter().map(ToString::to_string).collect();
    header.extend(metrics.iter().cloned());
    header.extend(VERSIONS[2..].iter().map(ToString::to_string));
    let row = |version: &Version| {
        let publication = &version.publication;
        let mut row = vec![
            Cell::new(format!("@{}", publication.version), Look::Bold),
            Cell::new(model.aliases_of(publication.version).join(", "), Look::Accent),
        ];
        let figure = |name: &String| publication.bundle.metric(name).map_or("–".to_string(), text::figure);
        row.extend(metrics.iter().map(|name| Cell::from(figure(name))));
        let (state, look) = version_state(version);
        row.extend([
            Cell::from(text::ago(&version.at, now)),
            Cell::new(version.by.clone(), Look::Dim),
            Cell::new(publication.bundle.run.as_ref().map_or(String::new(), |r| r.run.clone()), Look::Dim),
            Cell::new(state, look),
        ]);
        row
    };
    (header, model.versions.iter().rev().map(row).collect())
}

/// The versions of a name, the newest first.
pub fn versions_text(registry: &Registry, name: &str, style: &Style) -> String {
    let Some(model) = registry.models.get(name) else { return String::new() };
    let count = text::counted(model.versions.len(), "version");
    let about = model.versions.last().and_then(|v| v.publication.bundle.about.clone());
    let mut out = format!("{} of {}, in the section {}\n", style.bold(&count), style.bold(name), model.section);
    if let Some(about) = about {
        out.push_str(&format!("{}\n", style.dim(&escape::line(&about))));
    }
    let (header, rows) = version_rows(model, &told_metrics(model));
    let header: Vec<&str> = header.iter().map(String::as_str).collect();
    out.push_str(&format!("\n{}", table(&header, &rows, "  ", style)));
    out
}

/// The same in Markdown.
pub fn versions_markdown(registry: &Registry, name: &str) -> String {
    let Some(model) = registry.models.get(name) else { return String::new() };
    let (header, rows) = version_rows(model, &told_metrics(model));
    markdown(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows)
}

/// The same as CSV.
pub fn versions_csv(registry: &Registry, name: &str) -> String {
    let Some(model) = registry.models.get(name) else { return String::new() };
    let metrics = told_metrics(model);
    let columns = ["version", "aliases", "published", "by", "run", "retired", "content"];
    let mut data = Data::new(columns.iter().map(ToString::to_string).chain(metrics.iter().cloned()));
    for version in model.versions.iter() {
        let p = &version.publication;
        let mut row = vec![
            p.version.to_string(),
            model.aliases_of(p.version).join(" "),
            version.at.clone(),
            version.by.clone(),
            p.bundle.run.as_ref().map_or(String::new(), |r| r.run.clone()),
            version.retired.as_ref().map_or(String::new(), |r| r.text.clone()),
            p.content.to_string(),
        ];
        row.extend(metrics.iter().map(|name| p.bundle.metric(name).map_or(String::new(), |v| v.to_string())));
        data.add(row);
    }
    data.text()
}

/// The same as JSON.
pub fn versions_json(registry: &Registry, name: &str) -> Value {
    let Some(model) = registry.models.get(name) else { return Value::Null };
    let version = |v: &Version| {
        let p = &v.publication;
        json!({
            "version": p.version, "aliases": model.aliases_of(p.version), "published": v.at, "by": v.by,
            "run": p.bundle.run.as_ref().map(|r| &r.run), "metrics": p.bundle.metrics, "content": p.content,
            "retired": v.retired.as_ref().map(|r| &r.text), "entry": v.entry,
        })
    };
    let versions: Vec<Value> = model.versions.iter().map(version).collect();
    json!({"name": name, "section": model.section, "aliases": aliases_json(model), "versions": versions})
}
