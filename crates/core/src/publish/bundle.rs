//! What is published, out of what is recorded: files, and all facts about them.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::Number;
use textum_base::ProjectPath;
use textum_registry::{Bundle, BundleFile, DataFacts, Rebuilt, RunFacts};

use super::header::header_of;
use super::{PublishError, schema_of};
use crate::config::manifest::ModelDecl;
use crate::data::{DataRef, Version, version_of};
use crate::inspect::lineage::{InRun, Origin, Target, Trace, content_in_run, trace};
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, ObservedKind, RunReceipt, RunState, StorageMode};
use crate::store::{ItemKind, Store, Writer, items_of_listing};

/// A file, or the files of a folder, at a path.
fn files_of(store: &Store, path: &ProjectPath, content: &Content, out: &mut Vec<BundleFile>) -> Result<(), PublishError> {
    let mut add = |path: ProjectPath, digest, size, executable| {
        let header = header_of(store, &path, &digest);
        out.push(BundleFile { path, digest, size, executable, header });
    };
    if content.kind != ContentKind::Folder {
        add(path.clone(), content.digest, content.size, content.kind == ContentKind::Exec);
        return Ok(());
    }
    let listing = store.listing(&content.digest)?;
    for item in items_of_listing(store, &content.digest, &listing)? {
        let full = format!("{path}/{}", item.path);
        match (item.kind, item.digest) {
            (ItemKind::File | ItemKind::Exec, Some(digest)) => {
                let path = ProjectPath::new(&full)
                    .map_err(|_| PublishError::wrong(format!("{full:?} cannot be published"), "rename it"))?;
                add(path, digest, item.size, item.kind == ItemKind::Exec);
            }
            (ItemKind::Link, _) => {
                return Err(PublishError::wrong(
                    format!("{full} is a link: what it points to may be missing elsewhere"),
                    "publish the file itself",
                ));
            }
            _ => {}
        }
    }
    Ok(())
}

/// What is known of the stages that something comes from.
#[derive(Default)]
struct Facts {
    stages: BTreeMap<String, textum_base::Digest>,
    params: BTreeMap<String, String>,
    data: BTreeMap<String, DataFacts>,
    packages: BTreeMap<String, String>,
    interpreter: Option<String>,
    environment: Option<textum_base::Digest>,
    unsealed: bool,
}

impl Facts {
    fn take(&mut self, project: &Project, found: &Trace) -> Result<(), PublishError> {
        for (digest, receipt) in &found.receipts {
            self.stages.insert(receipt.inputs.stage.clone(), *digest);
            self.params.extend(receipt.inputs.params.clone());
            self.unsealed |= !receipt.observed.as_ref().is_some_and(|o| o.sealed);
            self.environment = receipt.environment.or(self.environment);
            for read in &receipt.reads {
                let Some(name) = &read.dataset else { continue };
                let content = &read.at.content;
                let version = version_of(&project.ledger, name, &content.digest)?.map(|v| v.number);
                let files = content.files.unwrap_or(1);
                self.data.insert(name.clone(), DataFacts { version, digest: content.digest, size: content.size, files });
            }
        }
        for group in found.observed.iter().filter_map(|o| o.inputs.as_ref()).flat_map(|i| &i.groups) {
            match group.kind {
                ObservedKind::Package if !group.metadata => {
                    self.packages.insert(group.name.clone(), group.version.clone().unwrap_or_default());
                }
                ObservedKind::Interpreter => self.interpreter = Some(group.name.clone()),
                _ => {}
            }
        }
        Ok(())
    }
}

/// The finished run that something is published of: the one named, or the newest.
fn finished_run(project: &Project, named: Option<&str>) -> Result<(textum_base::Digest, RunReceipt), PublishError> {
    let id = match named {
        Some(name) => project.ledger.resolve_run(name, &project.manifest.metrics)?,
        None => project
            .ledger
            .last_done_run()?
            .ok_or_else(|| PublishError::not_there("there is no finished run yet", "`textum run` makes one"))?,
    };
    let row = project.ledger.run(&id)?;
    let row = row.ok_or_else(|| PublishError::not_there(format!("there is no run {id}"), "`textum runs` lists the runs"))?;
    let run = RunReceipt::load(&project.store, &row.receipt)?;
    if run.state != RunState::Done {
        let what = format!("the run {id} is {}: only what a finished run has made is published", run.state.word());
        return Err(PublishError::wrong(what, "name another run, or `textum run` again"));
    }
    Ok((row.receipt, run))
}

fn of_run(project: &Project, run: &RunReceipt, path: &ProjectPath) -> Result<InRun, PublishError> {
    let found = content_in_run(&project.store, run, path)?;
    found.ok_or_else(|| {
        let what = format!("the run {} neither wrote nor read `{path}`", run.run);
        PublishError::not_there(what, format!("`textum show {}` lists what it has", run.run))
    })
}

/// Rows as CSV, and how many.
pub type Example = (Vec<u8>, u64);

/// The bundle of a model as a run has made it, and its example rows where there are some. Files of the project that it takes
/// to use it are taken in as they are.
pub fn bundle_of_run(
    project: &Project,
    model: &ModelDecl,
    run: Option<&str>,
    writer: &Writer<'_>,
) -> Result<(Bundle, Option<Example>), PublishError> {
    let (receipt, run) = finished_run(project, run)?;
    let store = &project.store;
    let mut bundle = Bundle { about: model.about.clone(), predict: model.predict.clone(), ..Bundle::default() };
    let mut facts = Facts::default();
    for path in &model.files {
        let found = of_run(project, &run, path)?;
        if matches!(found.origin, Origin::Source { .. }) {
            let what = format!("no stage of the run {} wrote `{path}`", run.run);
            return Err(PublishError::wrong(what, "publish a run of the pipeline that writes it"));
        }
        files_of(store, path, &found.content, &mut bundle.files)?;
        let target =
            Target { name: path.to_string(), path: Some(path.to_string()), digest: found.content.digest, origin: found.origin };
        facts.take(project, &trace(store, &target)?)?;
    }
    for path in &model.code {
        let content = project.scanner.record(path, writer)?;
        let content = content.ok_or_else(|| {
            PublishError::not_there(format!("`{path}`, which the model needs, does not exist"), "correct `code` of the model")
        })?;
        files_of(store, path, &content, &mut bundle.files)?;
    }
    bundle.files.sort_by(|a, b| a.path.cmp(&b.path));
    bundle.files.dedup_by(|a, b| a.path == b.path);
    let example = match &model.input {
        None => None,
        Some(path) => {
            let content = of_run(project, &run, path)?.content;
            let (name, path) = (path.to_string(), path.to_string());
            let (key, dialect) = Default::default();
            let table = DataRef { name, dataset: None, version: None, path, content, file: None, key, dialect };
            let (schema, rows, count) = schema_of(&table.table(project)?, model.target.as_deref(), model.rows)?;
            bundle.input = Some(schema);
            Some((rows, count))
        }
    };
    let finite = |(name, metric): (&String, &crate::record::receipt::Metric)| Some((name.clone(), Number::from_f64(metric.0)?));
    bundle.metrics = run.metrics.iter().filter_map(finite).collect();
    bundle.better = run.better.clone();
    bundle.rebuilt = newest_rebuild(project, &run)?;
    bundle.run = Some(RunFacts {
        project: run.project.clone(),
        run: run.run.clone(),
        started: run.started.clone(),
        by: run.by.clone(),
        receipt,
        stages: facts.stages,
        params: facts.params,
        commit: run.git.as_ref().map(|git| format!("{}{}", git.commit, if git.dirty { "+" } else { "" })),
        sealed: !facts.unsealed,
    });
    (bundle.data, bundle.packages) = (facts.data, facts.packages);
    (bundle.interpreter, bundle.environment) = (facts.interpreter, facts.environment);
    bundle.check().map_err(|what| {
        PublishError::wrong(format!("{} cannot be published: {what}", model.name), "correct [model] in textum.toml")
    })?;
    Ok((bundle, example))
}

fn newest_rebuild(project: &Project, run: &RunReceipt) -> Result<Option<Rebuilt>, PublishError> {
    let newest = project.ledger.rebuilds_of(&run.run)?.into_iter().max_by(|a, b| a.started.cmp(&b.started));
    Ok(newest.map(|row| Rebuilt { verdict: row.verdict, at: row.started, by: row.by }))
}

/// The bundle of a version of a dataset.
pub fn bundle_of_data(project: &Project, version: &Version) -> Result<Bundle, PublishError> {
    let name = version.name();
    if version.hold == StorageMode::Reference {
        let what = format!("of {name} only the digests are kept: there is nothing that others could fetch");
        return Err(PublishError::wrong(what, "keep the dataset in the store: take `hold = \"reference\"` out"));
    }
    let last = Path::new(version.path.as_str()).file_name().and_then(|n| n.to_str()).unwrap_or("data");
    let path = ProjectPath::new(last).map_err(|_| PublishError::wrong(format!("{last:?} cannot be published"), "rename it"))?;
    let about = project.manifest.data.iter().find(|d| d.name == version.dataset).and_then(|d| d.about.clone());
    let mut bundle = Bundle { about, ..Bundle::default() };
    files_of(&project.store, &path, &version.content, &mut bundle.files)?;
    bundle.files.sort_by(|a, b| a.path.cmp(&b.path));
    let content = &version.content;
    let facts =
        DataFacts { version: Some(version.number), digest: content.digest, size: content.size, files: content.files.unwrap_or(1) };
    bundle.data.insert(version.dataset.clone(), facts);
    bundle.check().map_err(|what| PublishError::wrong(format!("{name} cannot be published: {what}"), "name another version"))?;
    Ok(bundle)
}
