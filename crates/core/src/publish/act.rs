//! Publishing, and what is done with what is published: each an entry of the log.

use std::collections::BTreeMap;

use textum_base::{Digest, Identity};
use textum_depot::Depot;
use textum_expr::{Known, Rule};
use textum_registry::entry::{COMMON, OnlyIf};
use textum_registry::log::Appended;
use textum_registry::{Action, Bundle, Entry, Kind, LogError, Proof, Publication, Registry, Signed, Signer, is_name};

use super::{Answers, Home, Place, PublishError, bundle_of_data, bundle_of_run, predict};
use crate::config::manifest::ModelDecl;
use crate::data::version_with;
use crate::fsio::IoError;
use crate::project::fingerprint::stage_variables;
use crate::project::tree::write_new;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, PUBLISH_RECEIPT, PublishReceipt, canonical};
use crate::share::{Direction, Progress, SyncOptions, Wanted, adding, sync};
use crate::store::Store;

/// What is to be published.
pub enum Asked<'a> {
    /// A model as a run has made it; none: the newest finished one.
    Model {
        /// What the manifest says of it.
        model: &'a ModelDecl,
        /// The run.
        run: Option<&'a str>,
    },
    /// A version of a dataset.
    Data {
        /// The dataset.
        name: &'a str,
        /// The version.
        number: u64,
    },
}

/// What came of it.
pub struct Published {
    /// The name.
    pub name: String,
    /// The version.
    pub version: u64,
    /// The entry that was made; none: the same content was published before.
    pub entry: Option<Box<Entry>>,
    /// What the registry says now.
    pub registry: Registry,
    /// What the condition asked for, and what it found.
    pub checked: Vec<(String, Option<f64>)>,
}

/// A file of a bundle as content.
pub(super) fn content_of(file: &textum_registry::BundleFile) -> Content {
    let kind = if file.executable { ContentKind::Exec } else { ContentKind::File };
    Content { kind, ..Content::file(file.digest, file.size) }
}

/// Puts the files of a bundle below a folder.
pub(super) fn put_files(store: &Store, bundle: &Bundle, folder: &std::path::Path) -> Result<(), PublishError> {
    let tree = crate::fsio::TreeDir::create(folder)?;
    for file in &bundle.files {
        let content = content_of(file);
        write_new(store, &content, &tree, &file.path)?;
    }
    Ok(())
}

/// What the command answers to the example, tried with nothing but the bundle's files.
fn prove(
    project: &Project,
    bundle: &Bundle,
    model: &ModelDecl,
    example: &[u8],
    rows: u64,
) -> Result<(Proof, Vec<u8>), PublishError> {
    let command = bundle.predict.as_deref().unwrap_or_default();
    let scratch = tempfile::tempdir().map_err(IoError::of("make a folder in", &std::env::temp_dir()))?;
    let folder = scratch.path().join("model");
    put_files(&project.store, bundle, &folder)?;
    let variables = predicting_variables(&project.variables);
    let predicted = predict(command, &folder, &variables, example, model.time)?;
    let first = Answers::read(&predicted.answers, rows, command)?;
    // A model that answers otherwise each time could never be told from another.
    let again = predict(command, &folder, &variables, example, model.time)?;
    let second = Answers::read(&again.answers, rows, command)?;
    if let Some(first) = super::compare_answers(&first, &second, 0.0).first() {
        let row = first.row.map_or(String::new(), |row| format!(" row {row},"));
        let what = format!(
            "`{command}` answers the same rows otherwise each time:{row} {} was {} and is {}",
            first.column, first.was, first.is
        );
        return Err(PublishError::refused(what, "let it predict the same for the same rows: fix what it draws at random"));
    }
    let proof =
        Proof { example: Digest::of(example), rows, predictions: Digest::of(&predicted.answers), seconds: predicted.seconds };
    Ok((proof, predicted.answers))
}

/// The variables that a command that predicts gets.
pub(super) fn predicting_variables(own: &[(String, String)]) -> Vec<(String, String)> {
    let counted = BTreeMap::from([
        ("PYTHONHASHSEED".to_string(), Some("0".to_string())),
        ("PYTHONDONTWRITEBYTECODE".to_string(), Some("1".to_string())),
    ]);
    stage_variables(own, &counted)
}

/// What a condition finds: a metric of what is to be published, or `ALIAS.METRIC` of the version that an alias names.
fn values_of(registry: &Registry, name: &str, bundle: &Bundle, rule: &Rule) -> BTreeMap<String, Known> {
    let model = registry.models.get(name);
    let find = |metric: &str| {
        if let Some(value) = bundle.metric(metric) {
            return Known::Value(value);
        }
        let Some((alias, rest)) = metric.split_once('.') else { return Known::Unknown };
        let named = model.and_then(|m| m.version(m.aliases.get(alias)?.version));
        match named {
            Some(version) => version.publication.bundle.metric(rest).map_or(Known::Unknown, Known::Value),
            // Whether the metric is there at all is asked of what is to be published.
            None if bundle.metric(rest).is_some() => Known::NothingToCompare,
            None => Known::Unknown,
        }
    };
    rule.names().into_iter().map(|n| (n.to_string(), find(n))).collect()
}

/// Whether what must hold for something to be published holds; all figures that it asks for.
pub fn check_values(
    registry: &Registry,
    name: &str,
    bundle: &Bundle,
    rule: &Rule,
) -> Result<Vec<(String, Option<f64>)>, PublishError> {
    let known = values_of(registry, name, bundle, rule);
    let value = |known: &Known| match known {
        Known::Value(value) => Some(*value),
        _ => None,
    };
    let values: Vec<(String, Option<f64>)> = known.iter().map(|(n, k)| (n.clone(), value(k))).collect();
    if rule.truth(&|n| known.get(n).copied().unwrap_or(Known::Unknown)).is_held() {
        return Ok(values);
    }
    let figure = |(name, known): (&String, &Known)| match known {
        Known::Value(value) => format!("{name} is {value}"),
        Known::NothingToCompare => format!("there is no {name} yet"),
        Known::Unknown => format!("there is no {name}"),
    };
    let figures: Vec<String> = known.iter().map(figure).collect();
    let what = format!("{name} is not published: `{}` does not hold: {}", rule.text, figures.join(", "));
    Err(PublishError::refused(what, "publish a run that meets it, or change `check` of the model"))
}

struct Offer<'a> {
    name: &'a str,
    section: &'a str,
    kind: Kind,
    check: Option<&'a Rule>,
}

/// What the next version would be; none where the same is published already.
fn decide(registry: &Registry, offer: &Offer<'_>, bundle: &Bundle) -> Result<Option<Action>, PublishError> {
    let content = bundle.content();
    if registry.with_content(offer.name, &content).is_some() {
        return Ok(None);
    }
    let mut bundle = bundle.clone();
    if let Some(rule) = offer.check {
        check_values(registry, offer.name, &bundle, rule)?;
        bundle.check = Some(rule.text.clone());
    }
    let version = registry.models.get(offer.name).map_or(0, |m| m.versions.len()) + 1;
    let (name, section) = (offer.name.to_string(), offer.section.to_string());
    Ok(Some(Action::Publish(Box::new(Publication { name, section, version, kind: offer.kind, content, bundle }))))
}

fn contents_of(bundle: &Bundle) -> Vec<Digest> {
    bundle.contents().into_iter().collect()
}

/// Sends what is published to a depot, with the run or version that it is made of, and makes sure that it is there: the log
/// speaks of it afterwards.
fn send(
    project: &Project,
    depot: &Depot,
    (name, made_of): (&str, &str),
    contents: &[Digest],
    progress: Progress<'_>,
) -> Result<(), PublishError> {
    let plan = depot.plan_to_send(&project.store, contents)?;
    depot.send(&project.store, &plan, &adding(progress, "sending", Some(plan.bytes)))?;
    // With all that it was made of: whoever relies on it may have to make it again.
    let options = SyncOptions { direction: Direction::Up, wanted: Wanted::Of(vec![made_of.to_string()]), dry_run: false };
    sync(project, depot, &options, progress)?;
    // What was relied on may have been marked meanwhile by somebody who drops content.
    let again = depot.plan_to_send(&project.store, contents)?;
    depot.send(&project.store, &again, &|_| ())?;
    let there = depot.has(contents)?;
    match contents.iter().find(|digest| !there.contains_key(digest)) {
        Some(missing) => {
            let what = format!("{} of {name} is neither here nor in {}", missing.short(), depot.name());
            Err(PublishError::not_there(what, "`textum verify` tells what is lost"))
        }
        None => Ok(()),
    }
}

/// Publishes the next version of a model or a dataset. The same content is the same version.
pub fn publish(
    project: &Project,
    place: &Place,
    asked: &Asked<'_>,
    section: Option<&str>,
    signer: Option<&Signer>,
    by: &Identity,
    progress: Progress<'_>,
) -> Result<Published, PublishError> {
    let (name, kind, check, said) = match asked {
        Asked::Model { model, .. } => (model.name.as_str(), Kind::Model, model.check.as_ref(), model.section.as_deref()),
        Asked::Data { name, .. } => (*name, Kind::Data, None, None),
    };
    if !is_name(name) {
        let help = "a published name begins with a letter and has letters, digits, `-` and `_`";
        return Err(PublishError::wrong(format!("`{name}` cannot be published under this name"), help));
    }
    let writer = project.store.writer()?;
    let (mut bundle, example) = match asked {
        Asked::Model { model, run } => bundle_of_run(project, model, *run, &writer)?,
        Asked::Data { name, number } => (bundle_of_data(project, &version_with(&project.ledger, name, *number)?)?, None),
    };
    // Code that was taken in must be readable before it is tried.
    writer.publish()?;
    let registry = place.registry()?;
    place.must_be_fit(&registry)?;
    let known = registry.models.get(name).map(|m| m.section.clone());
    let section = section.or(said).map(str::to_string).or(known).unwrap_or_else(|| COMMON.to_string());
    let offer = Offer { name, section: &section, kind, check };
    if let Some(same) = registry.with_content(name, &bundle.content()) {
        let version = same.publication.version;
        return Ok(Published { name: name.to_string(), version, entry: None, registry, checked: Vec::new() });
    }
    // What is refused is refused before anything is tried or sent.
    if let Some(action) = decide(&registry, &offer, &bundle)? {
        registry.may(&registry.next(by, action), &Signed::of(signer)).map_err(LogError::NoEffect)?;
    }
    // What nobody has any more cannot be relied on.
    let contents = contents_of(&bundle);
    project.store.bring(&contents)?;
    for digest in &contents {
        if !project.store.contains(digest)? {
            let path = bundle.files.iter().find(|f| f.digest == *digest).map_or(String::new(), |f| f.path.to_string());
            let what = format!("`{path}` of {name} ({}) is no longer in the store", digest.short());
            return Err(PublishError::not_there(what, "`textum rebuild` makes it again, if it is an output"));
        }
    }
    if let (Asked::Model { model, .. }, Some(command)) = (asked, &bundle.predict) {
        match &example {
            Some((rows, count)) => {
                progress("predicting the example", 0, None);
                let (proof, answers) = prove(project, &bundle, model, rows, *count)?;
                for bytes in [rows, &answers] {
                    writer.put_bytes(bytes)?;
                }
                bundle.proof = Some(proof);
            }
            None => {
                let what = format!("the model `{name}` predicts by `{command}`, and has no rows to be tried by");
                return Err(PublishError::wrong(what, "add `input`, a table like those that it predicts for"));
            }
        }
    }
    let receipt = PublishReceipt {
        r#type: PUBLISH_RECEIPT.to_string(),
        name: name.to_string(),
        at: textum_base::clock::now().to_string(),
        by: by.to_string(),
        bundle: bundle.clone(),
    };
    writer.put_document(&canonical(&receipt)?)?;
    writer.publish()?;
    drop(writer);
    project.ledger.catch_up(&project.store)?;
    if let Home::Depot(depot) = &place.home {
        let made_of = match asked {
            Asked::Data { name, number } => format!("{name}@{number}"),
            Asked::Model { .. } => bundle.run.as_ref().map(|r| r.run.clone()).unwrap_or_default(),
        };
        send(project, depot, (name, &made_of), &contents_of(&bundle), progress)?;
    }
    let (registry, appended) = place.log.append(signer, by, |registry| decide(registry, &offer, &bundle))?;
    let version = registry.with_content(name, &bundle.content()).map_or(0, |v| v.publication.version);
    let checked = match check {
        Some(rule) => check_values(&registry, name, &bundle, rule).unwrap_or_default(),
        None => Vec::new(),
    };
    let entry = match appended {
        Appended::Made(entry) => Some(entry),
        Appended::Nothing => None,
    };
    Ok(Published { name: name.to_string(), version, entry, registry, checked })
}

/// Appends one action; none where `decide` finds that all is so already.
pub fn append(
    place: &Place,
    signer: Option<&Signer>,
    by: &Identity,
    mut decide: impl FnMut(&Registry) -> Result<Option<Action>, PublishError>,
) -> Result<(Registry, Option<Entry>), PublishError> {
    let fit_and_decided = |registry: &Registry| {
        place.must_be_fit(registry)?;
        decide(registry)
    };
    let (registry, appended) = place.log.append(signer, by, fit_and_decided)?;
    Ok(match appended {
        Appended::Made(entry) => (registry, Some(*entry)),
        Appended::Nothing => (registry, None),
    })
}

/// The action that makes an alias name a version, or nothing; none where it does already.
pub fn alias(registry: &Registry, name: &str, version: Option<u64>, alias: &str, only_if: Option<OnlyIf>) -> Option<Action> {
    let now = registry.models.get(name).and_then(|m| m.aliases.get(alias)).map(|a| a.version);
    if now.is_some() && now == version && only_if.is_none() {
        return None;
    }
    Some(Action::Alias { name: name.to_string(), alias: alias.to_string(), version, only_if })
}
