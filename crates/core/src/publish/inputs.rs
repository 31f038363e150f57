//! Published versions as inputs of a pipeline: `[data.NAME] from = "registry:MODEL@live"`.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use textum_base::Digest;
use textum_registry::{CARD_NAME, Card, Registry, Version};

use super::{Fetch, Place, PublishError, fetch, find_version};
use crate::fsio::{self, IoError};
use crate::project::fingerprint::read_outside;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, folder_of};
use crate::store::{Item, ItemKind};

/// A dataset that a published version is.
#[derive(Clone, Debug)]
pub struct PublishedInput {
    /// The dataset.
    pub dataset: String,
    /// Its folder.
    pub path: String,
    /// What it is to be: `NAME@live`.
    pub reference: String,
    /// What that is now: `NAME@4`.
    pub version: String,
    /// What stands there: `NAME@3`; none: nothing that was fetched.
    pub was: Option<String>,
    /// The folder, and every file in it, as they are to stand.
    contents: Vec<(String, Content)>,
    /// Whether they stand so.
    pub stands: bool,
}

/// The contents of a folder that a version is brought to: it and each file in it.
fn contents_of(version: &Version, path: &str) -> Vec<(String, Content)> {
    let publication = &version.publication;
    let card = Card::of(version).text();
    let card_digest = Digest::of(&card);
    let mut items: Vec<Item<'static>> = publication
        .bundle
        .files
        .iter()
        .map(|f| Item {
            kind: if f.executable { ItemKind::Exec } else { ItemKind::File },
            digest: Some(f.digest),
            size: f.size,
            path: f.path.to_string().into(),
        })
        .collect();
    items.push(Item { kind: ItemKind::File, digest: Some(card_digest), size: card.len() as u64, path: CARD_NAME.into() });
    items.sort_by(|a, b| a.path.cmp(&b.path));
    let file = |item: &Item<'_>| {
        let kind = if item.kind == ItemKind::Exec { ContentKind::Exec } else { ContentKind::File };
        Some((format!("{path}/{}", item.path), Content { kind, ..Content::file(item.digest?, item.size) }))
    };
    let mut contents = vec![(path.to_string(), folder_of(&items))];
    contents.extend(items.iter().filter_map(file));
    contents
}

/// What datasets that are published versions are to be now.
pub fn published_inputs(project: &Project, registry: &Registry) -> Result<Vec<PublishedInput>, PublishError> {
    let mut found = Vec::new();
    for decl in &project.manifest.data {
        let Some(reference) = &decl.from else { continue };
        let (version, number) = find_version(registry, reference)?;
        let path = decl.path.to_string();
        let contents = contents_of(version, &path);
        let now = project.scanner.look(&path)?;
        let stands = now.is_some_and(|now| now.digest == contents[0].1.digest);
        found.push(PublishedInput {
            dataset: decl.name.clone(),
            was: standing(project, &path),
            path,
            reference: reference.clone(),
            version: format!("{}@{number}", version.publication.name),
            contents,
            stands,
        });
    }
    Ok(found)
}

/// The version whose card stands in a folder of the project.
pub fn standing(project: &Project, path: &str) -> Option<String> {
    Card::of_file(&project.workspace.root().join(path).join(CARD_NAME)).map(|card| card.reference)
}

/// Lets whoever looks at the project see them as they are to stand.
pub fn expect(project: &mut Project, inputs: &[PublishedInput]) {
    for input in inputs.iter().filter(|input| !input.stands) {
        project.scanner.expect(input.contents.clone());
    }
    note(project, inputs.iter().map(|i| (i.dataset.clone(), i.version.clone())));
}

fn note(project: &mut Project, versions: impl Iterator<Item = (String, String)>) {
    let all: BTreeMap<String, String> = versions.collect();
    project.published = Arc::new(all);
}

/// Brings them to where they are to stand; those that were brought.
pub fn bring_in(
    project: &mut Project,
    place: &Place,
    registry: &Registry,
    inputs: &[PublishedInput],
    progress: &(dyn Fn(u64) + Sync),
) -> Result<u64, PublishError> {
    let mut brought = 0;
    for input in inputs {
        if !input.stands {
            let folder = project.workspace.root().join(&input.path);
            let fetched = fetch(place, registry, &project.store, &Fetch { reference: &input.version, folder: &folder }, progress);
            fetched.map_err(|e| match e {
                PublishError::Wrong { what, .. } => {
                    PublishError::wrong(what, "move it away: `textum run` brings the published file in its place")
                }
                other => other,
            })?;
            brought += 1;
        }
        without_caches(&project.workspace.root().join(&input.path), &input.contents)?;
        let now = read_outside(&project.workspace.root().join(&input.path))?;
        if now.is_none_or(|now| now.digest != input.contents[0].1.digest) {
            let what = format!("{} holds other files than {}", input.path, input.version);
            return Err(PublishError::wrong(what, "move them away: the folder of a published version holds nothing else"));
        }
    }
    project.scanner.forget_lately();
    note(project, inputs.iter().map(|i| (i.dataset.clone(), i.version.clone())));
    Ok(brought)
}

/// What an interpreter leaves beside the code that it has read is no part of a version, and can be made again.
fn without_caches(folder: &Path, contents: &[(String, Content)]) -> Result<(), PublishError> {
    let is_ours = |name: &str| contents.iter().any(|(path, _)| path.split('/').any(|part| part == name));
    if is_ours("__pycache__") {
        return Ok(());
    }
    clear_caches(folder)
}

fn clear_caches(folder: &Path) -> Result<(), PublishError> {
    for entry in std::fs::read_dir(folder).map_err(IoError::of("list", folder))?.flatten() {
        if !entry.file_type().is_ok_and(|kind| kind.is_dir()) {
            continue;
        }
        if entry.file_name() == "__pycache__" {
            fsio::remove_any(&entry.path())?;
        } else {
            clear_caches(&entry.path())?;
            // One that held nothing else is none of the version's; any other refuses.
            let _ = fsio::remove_empty_folder(&entry.path());
        }
    }
    Ok(())
}

/// Where the registry cannot be asked: what stands there counts, if something does.
pub fn as_they_stand(project: &mut Project) -> Result<Vec<(String, String)>, PublishError> {
    let mut found = Vec::new();
    for decl in project.manifest.data.iter().filter(|d| d.from.is_some()) {
        match standing(project, &decl.path) {
            Some(version) => found.push((decl.name.clone(), version)),
            None => {
                let what =
                    format!("{} is to be {}, and nothing of it is here", decl.path, decl.from.as_deref().unwrap_or_default());
                return Err(PublishError::not_there(what, "run it where the registry can be reached"));
            }
        }
    }
    note(project, found.clone().into_iter());
    Ok(found)
}
