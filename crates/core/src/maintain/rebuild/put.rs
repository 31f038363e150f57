//! What a rebuilt stage reads, put where it looks for it: recorded sources, rebuilt results, checkpoints, references.

use textum_base::{ProjectPath, SourcePath, link_stays};

use super::RebuildError;
use super::stages::Rebuilder;
use crate::config::manifest::is_within;
use crate::fsio::{self, IoError, Standing, TreeDir};
use crate::project::tree::write_new;
use crate::record::receipt::{CheckpointReceipt, Content, ObservedInputs, PathContent, Read, StageReceipt, StorageMode};

/// A file that is only a name has holes in place of its content, up to this size in bytes.
const MOST_STOOD_IN: u64 = 1 << 40;

impl Rebuilder<'_> {
    /// Why a reference cannot be read as it was, if it cannot: its bytes are only where they were.
    pub(super) fn reference_changed(&self, read: &Read) -> Result<Option<String>, RebuildError> {
        let now = self.project.scanner.look(&read.at.path).map_err(crate::pipeline::exec::ExecError::from)?;
        Ok(match now {
            Some(now) if now == read.at.content => None,
            now => Some(reference_differs(&read.at, now.as_ref())),
        })
    }

    /// Puts a read where the stage will look for it: sources from the store, results as rebuilt.
    pub(super) fn put_read(&self, receipt: &StageReceipt, read: &Read, tree: &TreeDir) -> Result<(), RebuildError> {
        let path = match read.at.path.in_project() {
            Some(path) if read.hold == StorageMode::Store => path,
            _ => return Ok(crate::project::sandbox::link_reference(self.project.workspace.root(), &read.at.path, tree)?),
        };
        let inside_another = receipt.reads.iter().any(|r| r.at.path != read.at.path && is_within(&read.at.path, &r.at.path));
        if inside_another && tree.standing(&path)?.is_some() {
            return Ok(());
        }
        let mut put = false;
        for by in &read.by {
            let Some(Some(made_in)) = self.done.get(by) else { continue };
            let made_in = TreeDir::open(made_in)?;
            let writer = StageReceipt::load(&self.project.store, by)?;
            for output in writer.outputs() {
                if is_within(&path, &output.path) {
                    copy_tree(&made_in, &path, tree)?;
                    put = true;
                } else if is_within(&output.path, &path) {
                    if !put {
                        write_new(&self.project.store, &read.at.content, tree, &path)?;
                        put = true;
                    }
                    tree.remove(&output.path)?;
                    copy_tree(&made_in, &output.path, tree)?;
                }
            }
        }
        if !put {
            write_new(&self.project.store, &read.at.content, tree, &path)?;
        }
        Ok(())
    }

    /// Puts files of the project that the stage was seen to read, without declaring them, where it will look for them; and
    /// what it only looked at or listed by its name. Those files that are only names.
    pub(super) fn put_observed(&self, receipt: &StageReceipt, tree: &TreeDir) -> Result<Vec<String>, RebuildError> {
        let Some(inputs) = receipt.observed.as_ref().and_then(|o| o.inputs) else { return Ok(Vec::new()) };
        let inputs = ObservedInputs::load(&self.project.store, &inputs)?;
        for file in inputs.project_files(&self.project.store)? {
            // A name that is no path of a project leads nowhere.
            let Ok(path) = ProjectPath::new(&file.path) else { continue };
            if tree.standing(&path)?.is_none() {
                write_new(&self.project.store, &file.content(), tree, &path)?;
            }
        }
        for (name, target) in &inputs.links {
            let Ok(path) = ProjectPath::new(name) else { continue };
            if link_stays(name, target) && tree.standing(&path)?.is_none() {
                tree.create_parent(&path)?;
                tree.create_link(target, &path)?;
            }
        }
        self.put_names(&inputs, tree)
    }

    /// Makes names without content: folders, and files of the size that the stage was told.
    fn put_names(&self, inputs: &ObservedInputs, tree: &TreeDir) -> Result<Vec<String>, RebuildError> {
        let mut names: Vec<String> = inputs.present.clone();
        for folder in &inputs.listed {
            let entries = self.project.store.read(&folder.entries)?;
            let below = |entry: &str| if folder.path.is_empty() { entry.to_string() } else { format!("{}/{entry}", folder.path) };
            names.extend(String::from_utf8_lossy(&entries).lines().map(below));
        }
        let mut stand_ins = Vec::new();
        for name in names {
            // A name that is no path of a project leads nowhere.
            let Ok(path) = ProjectPath::new(name.trim_end_matches('/')) else { continue };
            if tree.standing(&path)?.is_some() {
                continue;
            }
            tree.create_parent(&path)?;
            if name.ends_with('/') {
                tree.create_folder(&path)?;
                continue;
            }
            let look = inputs.looks.get(&name);
            let mode = if look.is_some_and(|look| look.exec == Some(true)) { 0o755 } else { 0o644 };
            let file = tree.create_file(&path, mode)?;
            let size = look.and_then(|look| look.size).unwrap_or_default().min(MOST_STOOD_IN);
            file.file().set_len(size).map_err(IoError::of("write", file.path()))?;
            stand_ins.push(name);
        }
        Ok(stand_ins)
    }

    /// Puts the checkpoint that a stage goes on from at its place: as it was made again, or as recorded.
    pub(super) fn put_checkpoint(&self, receipt: &StageReceipt, tree: &TreeDir) -> Result<(), RebuildError> {
        let (Some(from), Some(path)) = (&receipt.from, &receipt.inputs.checkpoints) else { return Ok(()) };
        if self.options.from_scratch {
            let made = CheckpointReceipt::load(&self.project.store, &from.checkpoint)?;
            if let Some(at) = self.repeated.get(&(made.start, made.step)) {
                return copy_tree_to(&TreeDir::open(at)?, &made.path, tree, path);
            }
        }
        Ok(write_new(&self.project.store, &from.content, tree, path)?)
    }
}

/// What is said of a reference that is no longer what was recorded.
pub fn reference_differs(recorded: &PathContent<SourcePath>, now: Option<&Content>) -> String {
    let (path, then) = (&recorded.path, recorded.content.digest.short());
    match now {
        Some(now) => format!("the reference {path} no longer matches: {then} was recorded, {} is there now", now.digest.short()),
        None => format!("the reference {path} is not there any more: {then} was recorded"),
    }
}

/// Copies what stands at a path below one folder to the same path below another, where nothing stands.
pub(super) fn copy_tree(from: &TreeDir, path: &ProjectPath, to: &TreeDir) -> Result<(), RebuildError> {
    copy_tree_to(from, path, to, path)
}

/// Copies what stands at a path below one folder to a path below another, where nothing stands.
fn copy_tree_to(from: &TreeDir, path: &ProjectPath, to: &TreeDir, at: &ProjectPath) -> Result<(), RebuildError> {
    to.create_parent(at)?;
    match from.standing(path)? {
        None | Some(Standing::Other) => {}
        Some(Standing::File) => fsio::copy_file(&from.full(path), &to.full(at))?,
        Some(Standing::Link) => to.create_link(&from.link_text(path)?.to_string_lossy(), at)?,
        Some(Standing::Folder) => {
            to.create_folder(at)?;
            let folder = from.full(path);
            for entry in std::fs::read_dir(&folder).map_err(IoError::of("list the folder", &folder))? {
                let entry = entry.map_err(IoError::of("list the folder", &folder))?;
                // A name that cannot be recorded is nothing that a later stage was recorded to read.
                let below = |above: &ProjectPath| entry.file_name().to_str().and_then(|name| above.join(name).ok());
                if let (Some(from_below), Some(to_below)) = (below(path), below(at)) {
                    copy_tree_to(from, &from_below, to, &to_below)?;
                }
            }
        }
    }
    Ok(())
}
