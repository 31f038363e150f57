//! Fetching what is published, wherever it is to be used.

use std::path::{Path, PathBuf};
use std::time::Duration;

use textum_base::{Digest, ProjectPath};
use textum_registry::{Bundle, CARD_NAME, Card, Registry, Version, split_reference};

use super::act::{content_of, predicting_variables};
use super::{Answers, Place, PublishError, RowDifference, check_rows, compare_answers, predict};
use crate::fsio::{self, IoError, TreeDir};
use crate::project::fingerprint::{MayStart, python, read_outside};
use crate::project::tree::write_new;
use crate::record::receipt::{Content, ContentKind};
use crate::store::Store;
use crate::table::{Origin, Table};

/// What is asked for.
pub struct Fetch<'a> {
    /// `NAME`, `NAME@V` or `NAME@ALIAS`.
    pub reference: &'a str,
    /// Where the files go.
    pub folder: &'a Path,
}

/// What came.
pub struct Fetched {
    /// The card that was left.
    pub card: Card,
    /// Files that were written.
    pub written: u64,
    /// Files that stood there already.
    pub same: u64,
}

/// What repeating the proof found.
#[derive(Debug)]
pub struct Checked {
    /// So many rows.
    pub rows: u64,
    /// Rows that are predicted otherwise.
    pub differences: Vec<RowDifference>,
    /// Packages that are not here in the version that it was made with: name, recorded, here.
    pub packages: Vec<(String, String, Option<String>)>,
    /// How long predicting took, in seconds.
    pub seconds: f64,
    /// How long it took when it was published, in seconds.
    pub recorded_seconds: f64,
}

/// The version that a reference stands for, and its number.
pub fn find_version<'r>(registry: &'r Registry, reference: &str) -> Result<(&'r Version, u64), PublishError> {
    let Some((name, which)) = split_reference(reference) else {
        let help = "write NAME, NAME@3 or NAME@live; an alias is a word, a version a number";
        return Err(PublishError::wrong(format!("`{reference}` names nothing that could be published"), help));
    };
    let Some(model) = registry.models.get(name) else {
        let near = textum_base::nearest(name, registry.models.keys().map(String::as_str));
        let near = near.map_or(String::new(), |n| format!(": did you mean `{n}`?"));
        return Err(PublishError::not_there(
            format!("nothing is published as `{name}`{near}"),
            "`textum registry list` lists what is",
        ));
    };
    let found = model.number(which).and_then(|number| Some((model.version(number)?, number)));
    found.ok_or_else(|| {
        let newest = model.versions.len();
        match which {
            Some(which) if which.bytes().all(|b| b.is_ascii_digit()) => PublishError::not_there(
                format!("there is no {name}@{which}: the newest version is {newest}"),
                format!("`textum registry show {name}` lists its versions"),
            ),
            Some(alias) => {
                let known: Vec<&str> = model.aliases.keys().map(String::as_str).collect();
                let known = if known.is_empty() { "it has none".to_string() } else { format!("it has {}", known.join(", ")) };
                let help = match model.number(None) {
                    Some(number) => format!("`textum alias {name}@{number} {alias}` makes it"),
                    None => format!("every version of {name} is retired: publish another, or name one by its number"),
                };
                PublishError::not_there(format!("{name} has no alias `{alias}`: {known}"), help)
            }
            None => PublishError::not_there(format!("every version of {name} is retired"), "name one: NAME@V"),
        }
    })
}

/// What the card of the version before is called while its files give way: a fetch that was cut off goes on from it.
const BEFORE: &str = "textum.card.before.json";

/// The files that a card of this folder speaks of, if there is one: they may be replaced.
fn known_files(folder: &Path) -> Vec<(ProjectPath, Digest)> {
    let cards = [CARD_NAME, BEFORE].into_iter().filter_map(|name| Card::of_file(&folder.join(name)));
    cards.flat_map(|card| card.bundle.files).map(|f| (f.path, f.digest)).collect()
}

/// Brings the files of a version into a folder, each checked by its digest, with a card beside them. Files of an earlier
/// version that nobody has touched are replaced; anything else that stands in the way is left, and told.
pub fn fetch(
    place: &Place,
    registry: &Registry,
    store: &Store,
    asked: &Fetch<'_>,
    progress: &(dyn Fn(u64) + Sync),
) -> Result<Fetched, PublishError> {
    let (version, _) = find_version(registry, asked.reference)?;
    let publication = &version.publication;
    let bundle = &publication.bundle;
    let folder = asked.folder;
    let known = known_files(folder);
    let mut same = Vec::new();
    let mut old: Vec<ProjectPath> = Vec::new();
    for file in &bundle.files {
        let full = folder.join(&file.path);
        match read_outside(&full)? {
            None => {}
            Some(now) if now.digest == file.digest && (now.kind == ContentKind::Exec) == file.executable => {
                same.push(file.path.clone());
            }
            // The same bytes, and only whether they may be executed is other.
            Some(now) if now.digest == file.digest => old.push(file.path.clone()),
            Some(now) if known.iter().any(|(path, digest)| *path == file.path && *digest == now.digest) => {
                old.push(file.path.clone())
            }
            Some(_) => {
                let what = format!("{} stands in the way, and is no file that was fetched", full.display());
                return Err(PublishError::wrong(what, "move it away, or fetch into another folder: -o DIR"));
            }
        }
    }
    // Files of an earlier version that this one does not have.
    for (path, digest) in &known {
        let gone = bundle.files.iter().all(|f| f.path != *path);
        if gone && read_outside(&folder.join(path))?.is_some_and(|now| now.digest == *digest) {
            old.push(path.clone());
        }
    }
    let wanted: Vec<Digest> = bundle.files.iter().filter(|f| !same.contains(&f.path)).map(|f| f.digest).collect();
    let proof: Vec<Digest> = bundle.proof.iter().flat_map(|p| [p.example, p.predictions]).collect();
    match (place.bring(store, &wanted, progress), &version.retired) {
        (Err(PublishError::NotThere { what, .. }), Some(note)) => {
            let what = format!("{what}; it is retired: {}", note.text);
            return Err(PublishError::not_there(what, "`textum registry show NAME` lists the other versions"));
        }
        (other, _) => other?,
    }
    match place.bring(store, &proof, progress) {
        // Its rows may have been erased, and the model kept: that cannot be checked, and is of use all the same.
        Err(PublishError::NotThere { .. }) => {}
        other => other?,
    }
    fsio::create_folder(folder)?;
    let tree = TreeDir::open(folder)?;
    let path = |name: &str| ProjectPath::new(name).map_err(|_| PublishError::wrong(format!("{name} is no name"), "report this"));
    let (card_path, before_path) = (path(CARD_NAME)?, path(BEFORE)?);
    let scratch = tree.scratch()?;
    for file in bundle.files.iter().filter(|f| !same.contains(&f.path)) {
        write_new(store, &content_of(file), scratch.dir(), &file.path)?;
    }
    // Fetching takes a while: what somebody has written there meanwhile is not lost.
    for file in bundle.files.iter().filter(|f| !same.contains(&f.path)) {
        let now = read_outside(&folder.join(&file.path))?;
        let is_known = |now: &Content| {
            now.digest == file.digest || known.iter().any(|(path, digest)| *path == file.path && *digest == now.digest)
        };
        if now.as_ref().is_some_and(|now| !is_known(now)) {
            let what = format!("{} was written while it was fetched", folder.join(&file.path).display());
            return Err(PublishError::wrong(what, "move it away, and fetch again; nothing was changed"));
        }
    }
    // From here to the end the folder is of no version: it has no card.
    if tree.standing(&card_path)?.is_some() {
        tree.remove(&before_path)?;
        tree.rename(&card_path, &tree, &before_path)?;
    }
    for path in &old {
        tree.remove(path)?;
    }
    for file in bundle.files.iter().filter(|f| !same.contains(&f.path)) {
        tree.create_parent(&file.path)?;
        scratch.dir().rename(&file.path, &tree, &file.path)?;
    }
    let card = Card::of(version);
    fsio::write_atomic(&folder.join(CARD_NAME), &card.text())?;
    tree.remove(&before_path)?;
    let written = (bundle.files.len() - same.len()) as u64;
    Ok(Fetched { card, written, same: same.len() as u64 })
}

/// Repeats the proof of what was fetched into a folder.
pub fn check_bundle(
    store: &Store,
    bundle: &Bundle,
    folder: &Path,
    variables: &[(String, String)],
    within: f64,
    most: Duration,
) -> Result<Checked, PublishError> {
    let (Some(proof), Some(command)) = (&bundle.proof, bundle.predict.as_deref()) else {
        return Err(PublishError::wrong(
            "it was published without a proof: there is nothing to repeat",
            "publish it with `predict` and `input`",
        ));
    };
    for file in &bundle.files {
        let full = folder.join(&file.path);
        if read_outside(&full)?.is_none_or(|now| now.digest != file.digest) {
            return Err(PublishError::refused(format!("{} is not what was published", full.display()), "fetch it anew"));
        }
    }
    for digest in [&proof.example, &proof.predictions] {
        if !store.can_have(digest)? {
            let what = "the rows that it was published with are not there: they may have been erased";
            return Err(PublishError::not_there(what, "there is nothing to repeat; the digests of its files are as they were"));
        }
    }
    let (example, answers) = (store.read(&proof.example)?, store.read(&proof.predictions)?);
    let recorded = Answers::read(&answers, proof.rows, command)?;
    let variables = predicting_variables(variables);
    let predicted = predict(command, folder, &variables, &example, most)?;
    let now = Answers::read(&predicted.answers, proof.rows, command)?;
    let differences = compare_answers(&recorded, &now, within);
    let here =
        python("python3", folder, &variables, None, MayStart::NothingOfTheProject).map(|found| found.packages).unwrap_or_default();
    let packages = bundle
        .packages
        .iter()
        .map(|(name, version)| (name.clone(), version.clone(), here.get(&crate::project::fingerprint::normal_name(name)).cloned()))
        .filter(|(_, recorded, here)| here.as_ref() != Some(recorded))
        .collect();
    Ok(Checked { rows: proof.rows, differences, packages, seconds: predicted.seconds, recorded_seconds: proof.seconds })
}

/// Holds a table of a file against what a model takes in.
pub fn rows_fit(bundle: &Bundle, rows: &Path) -> Result<(Vec<super::SchemaFault>, u64, u64), PublishError> {
    let Some(schema) = &bundle.input else {
        return Err(PublishError::wrong("it was published without an input schema", "publish it with `input`"));
    };
    let name = rows.display().to_string();
    if !rows.is_file() {
        return Err(IoError::of("find", rows)(std::io::ErrorKind::NotFound.into()).into());
    }
    let table = Table::new(&name, &name, Origin::File(PathBuf::from(rows)))?;
    check_rows(schema, &table)
}
