//! `[depot.NAME]`: where several machines share what they have, and what one person's `textum.local.toml` says of it.

use std::collections::BTreeMap;
use std::path::Path;

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;
use textum_base::without_dots;
use textum_depot::Address;

use super::document::{Document, Step};
use super::form::{DepotForm, OptionForm};
use super::shape::check_shape;
use super::strict::read_as;
use super::{Diagnostic, LoadError, ManifestError};
use crate::fsio::IoError;

/// The file beside the manifest with what holds for one person alone. Git ignores it.
pub const LOCAL_NAME: &str = "textum.local.toml";

/// A declared depot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DepotDecl {
    /// Its name.
    pub name: String,
    /// Where it lies, as written.
    pub url: String,
    /// Where it lies.
    pub address: Address,
    /// What its kind is to know beside that.
    pub options: BTreeMap<String, String>,
    /// Whether runs at work tell it of themselves.
    pub live: bool,
}

/// `textum.local.toml`.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct LocalForm {
    /// Depots of the manifest with other settings, and depots of one's own.
    #[serde(default)]
    depot: IndexMap<String, DepotForm>,
}

/// Whether a text can be the name of a depot: it becomes part of paths.
pub fn is_depot_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
        && name.len() <= 64
}

/// Whether a depot's folder lies in the project, where each would hold the other.
pub fn is_inside(folder: &Path, project: &Path) -> bool {
    let whole = |path: &Path| without_dots(&std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf()));
    whole(folder).starts_with(whole(project)) || whole(project).starts_with(whole(folder))
}

/// What a table says of a depot, with the mistakes in it.
fn declared(
    name: &str,
    form: &DepotForm,
    document: &Document<'_>,
    project: &Path,
    mistakes: &mut Vec<Diagnostic>,
) -> Option<DepotDecl> {
    let before = mistakes.len();
    if !is_depot_name(name) {
        let help = "use letters, digits, `-` and `_`, beginning with a letter or digit";
        let span = document.key_place(&["depot", name]);
        mistakes.push(Diagnostic::new(span, format!("`{name}` cannot be the name of a depot"), "this name", help));
    }
    let at = |key: &'static str| document.place(&[Step::Key("depot"), Step::Key(name), Step::Key(key)]);
    let options: BTreeMap<String, String> = form.options.iter().map(|(name, value)| (name.clone(), value.text())).collect();
    let url = form.url.clone().unwrap_or_default();
    let address = match Address::parse(&url, project) {
        Ok(address) => address,
        Err(e) => {
            mistakes.push(Diagnostic::new(at("url"), e.what, "this url", e.help));
            return None;
        }
    };
    if let Address::Folder(folder) = &address
        && is_inside(folder, project)
    {
        let help = "name a folder beside the project, or one that the machines share";
        mistakes.push(Diagnostic::new(
            at("url"),
            format!("the depot `{name}` and the project lie inside one another"),
            "this folder",
            help,
        ));
    }
    if let Err(e) = address.check_options(&options) {
        mistakes.push(Diagnostic::new(at("options"), e.what, "these options", e.help));
    }
    (mistakes.len() == before).then(|| DepotDecl {
        name: name.to_string(),
        url,
        address,
        options,
        live: form.live.unwrap_or(false),
    })
}

/// The depots of a manifest.
pub(super) fn depots(
    forms: &IndexMap<String, DepotForm>,
    document: &Document<'_>,
    project: &Path,
) -> (Vec<DepotDecl>, Vec<Diagnostic>) {
    let mut mistakes = Vec::new();
    let found = forms.iter().filter_map(|(name, form)| declared(name, form, document, project, &mut mistakes)).collect();
    (found, mistakes)
}

/// The depots as one person has them: those of the manifest, with what `textum.local.toml` says otherwise.
pub(super) fn with_local(mut depots: Vec<DepotDecl>, project: &Path) -> Result<Vec<DepotDecl>, LoadError> {
    let path = project.join(LOCAL_NAME);
    let text = match std::fs::read_to_string(&path) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(depots),
        other => other.map_err(IoError::of("read", &path))?,
    };
    let mut mistakes = Vec::new();
    let found = read_local(&text, &depots, project, &mut mistakes);
    if !mistakes.is_empty() {
        mistakes.sort_by_key(|m| m.span.start);
        return Err(Box::new(ManifestError { path, text, mistakes }).into());
    }
    for depot in found {
        match depots.iter_mut().find(|d| d.name == depot.name) {
            Some(known) => *known = depot,
            None => depots.push(depot),
        }
    }
    Ok(depots)
}

fn read_local(text: &str, depots: &[DepotDecl], project: &Path, mistakes: &mut Vec<Diagnostic>) -> Vec<DepotDecl> {
    let document = match Document::parse(text) {
        Ok(document) => document,
        Err(wrong) => {
            mistakes.extend(wrong);
            return Vec::new();
        }
    };
    let Some(form) = read_as::<LocalForm>(&document.root) else {
        let (wrong, _) = check_shape(&document.root, &schemars::schema_for!(LocalForm).to_value());
        mistakes.extend(wrong);
        if mistakes.is_empty() {
            let wrong = toml::from_str::<LocalForm>(text).err();
            let at = wrong.as_ref().and_then(|e| e.span()).unwrap_or(0..0);
            let what = wrong.map_or_else(|| "this is no list of depots".to_string(), |e| e.message().to_string());
            mistakes.push(Diagnostic::new(at, what, "here", "a table [depot.NAME] with url, options or live can stand here"));
        }
        return Vec::new();
    };
    let mut found = Vec::new();
    for (name, form) in &form.depot {
        let known = depots.iter().find(|d| d.name == *name);
        let mut options: IndexMap<String, OptionForm> = IndexMap::new();
        // Another place has options of its own.
        if form.url.is_none() {
            options.extend(known.iter().flat_map(|d| &d.options).map(|(k, v)| (k.clone(), OptionForm::Text(v.clone()))));
        }
        options.extend(form.options.clone());
        let merged = DepotForm {
            url: form.url.clone().or_else(|| known.map(|d| d.url.clone())),
            options,
            live: form.live.or(known.map(|d| d.live)),
        };
        found.extend(declared(name, &merged, &document, project, mistakes));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_inside_one_another_are_told_apart_from_neighbours() {
        let project = Path::new("/home/ada/looms");
        for inside in ["/home/ada/looms", "/home/ada/looms/depot", "/home/ada", "/home/ada/looms/../looms/x", "/"] {
            assert!(is_inside(Path::new(inside), project), "{inside}");
        }
        for beside in ["/home/ada/depot", "/home/ada/looms/../depot", "/home/ada/looms2"] {
            assert!(!is_inside(Path::new(beside), project), "{beside}");
        }
    }

    #[test]
    fn what_holds_for_one_person_is_read_or_told_to_be_wrong_and_never_left_out_in_silence() {
        let read = |text: &str| {
            let mut mistakes = Vec::new();
            let found = read_local(text, &[], Path::new("/looms"), &mut mistakes);
            (found.into_iter().map(|d| d.name).collect::<Vec<_>>(), mistakes.len())
        };
        assert_eq!(read(""), (vec![], 0));
        assert_eq!(read("[depot.own]\nurl = \"/far\"\nlive = true"), (vec!["own".to_string()], 0));
        for wrong in [
            "depot = []",
            "depot = [[\"own\", \"/far\"]]",
            "[depot]\nown = [\"/far\", {}, true]",
            "[depot.own]\nurl = 1",
            "[depot.own]\nurl = \"/far\"\nlive = \"yes\"",
            "[depot.own]\nurl = \"/far\"\noptions = { since = 2026-01-02 }",
            "[depot.own]\nurl = \"/far\"\nroom = 1",
            "[params]\nrate = 1",
            "[depot.own",
        ] {
            let (found, mistakes) = read(wrong);
            assert!(found.is_empty() && mistakes > 0, "{wrong}: {found:?}, {mistakes}");
        }
    }
}
