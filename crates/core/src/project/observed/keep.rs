//! Keeping the files of packages that a stage used.

use std::path::PathBuf;

use super::files::FileDigests;
use super::packages::Packages;
use super::places::Places;
use super::settle::SettleError;
use crate::record::receipt::{KEPT, KeptEnvironment, KeptPackage, ObservedFile, canonical, list_text};
use crate::store::{Digest, Writer};

/// Takes all installed files of packages into the store. Each package is told by name, version and one of its files. A
/// package whose files vanish meanwhile is left out: the environment is then not wholly kept, and made from versions.
pub(super) fn keep(
    (interpreter, python): &(PathBuf, String),
    used: &[(String, String, String)],
    places: &Places,
    packages: &mut Packages,
    files: &FileDigests,
    writer: &Writer<'_>,
) -> Result<Option<Digest>, SettleError> {
    let mut kept = Vec::new();
    for (name, version, file) in used {
        let Some((folder, paths)) = packages.installed_files(&places.path(file), name) else { continue };
        let full: Vec<PathBuf> = paths.iter().map(|p| folder.join(p)).collect();
        let mut list = Vec::new();
        let mut whole = true;
        for ((path, full), now) in paths.into_iter().zip(&full).zip(files.look_all(&full, Clone::clone)) {
            let Some(now) = now else {
                whole = false;
                break;
            };
            whole &= writer.contains(&now.digest)? || writer.put_file(full).is_ok_and(|stored| stored.digest == now.digest);
            list.push(ObservedFile { path, exec: now.exec, private: now.private, size: now.stat.size, digest: now.digest });
        }
        if !whole {
            continue;
        }
        list.sort_by(|a, b| a.path.cmp(&b.path));
        let (count, size) = (list.len() as u64, list.iter().map(|f| f.size).sum());
        let list = writer.put_bytes(&list_text(&list))?.digest;
        kept.push(KeptPackage { name: name.clone(), version: version.clone(), files: count, size, list });
    }
    let real = std::fs::canonicalize(interpreter).unwrap_or_else(|_| interpreter.clone());
    let document = KeptEnvironment {
        r#type: KEPT.to_string(),
        python: python.clone(),
        interpreter: real.display().to_string(),
        packages: kept,
    };
    Ok(Some(writer.put_document(&canonical(&document)?)?))
}
