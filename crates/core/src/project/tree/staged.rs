//! Many contents brought into the tree as one: all are written out before the first is put in place, and when
//! that fails midway, what stood there stands there again.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use rayon::prelude::*;
use textum_base::{ProjectPath, is_within};

use super::clear::{Moved, TreeCleaner};
use super::put::{PutError, bring, links_stay, listed, make_folders, write_items, write_new};
use crate::fsio::{Scratch, Standing, TreeDir, same_disk};
use crate::project::fingerprint::{Seen, walk};
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, Item, ItemKind, hash_file, items_of_listing};

/// One step of bringing content in place.
enum Step {
    /// What stands there goes.
    Away(ProjectPath),
    /// A folder is made.
    Folder(ProjectPath),
    /// What was written out is put in place.
    Place { scratch: usize, from: ProjectPath, to: ProjectPath },
    /// A folder goes if nothing is left in it.
    Tidy(ProjectPath),
    /// Links in a folder must stay in it.
    Links(ProjectPath, Vec<String>),
}

/// What has been done, to be undone when a later step fails.
enum Done {
    Away(Moved),
    Folder(ProjectPath),
    Placed(ProjectPath),
}

/// Contents written out, ready to be put in place.
pub struct Staged<'c, 'a> {
    cleaner: &'c TreeCleaner<'a>,
    scratches: Vec<Scratch>,
    steps: Vec<Step>,
}

impl<'c, 'a> Staged<'c, 'a> {
    /// Nothing yet.
    pub fn new(cleaner: &'c TreeCleaner<'a>) -> Staged<'c, 'a> {
        Staged { cleaner, scratches: Vec::new(), steps: Vec::new() }
    }

    fn tree(&self) -> &'a TreeDir {
        self.cleaner.tree
    }

    /// A scratch folder from which a rename to the path is possible: out of sight where that can be, else
    /// beside it.
    fn scratch(&mut self, path: &ProjectPath) -> Result<usize, PutError> {
        let tree = self.tree();
        tree.create_parent(path)?;
        let incoming = self.cleaner.incoming()?;
        let parent = path.parent().map(listed).transpose()?;
        let beside = parent.as_ref().map_or(tree.path().to_path_buf(), |p| tree.full(p));
        let scratch = match (same_disk(incoming.path(), &beside), &parent) {
            (true, _) => incoming.scratch()?,
            (false, Some(parent)) => tree.folder(parent)?.scratch()?,
            (false, None) => tree.scratch()?,
        };
        self.scratches.push(scratch);
        Ok(self.scratches.len() - 1)
    }

    /// Writes out what a path is to hold; the tree is only looked at.
    pub fn add(&mut self, path: &ProjectPath, content: &Content) -> Result<(), PutError> {
        let standing = self.tree().standing(path)?;
        if content.kind == ContentKind::Folder && standing == Some(Standing::Folder) {
            return self.update_folder(path, content);
        }
        self.replace(path, content, standing.is_some())
    }

    fn replace(&mut self, path: &ProjectPath, content: &Content, stands: bool) -> Result<(), PutError> {
        let scratch = self.scratch(path)?;
        let from = listed("content")?;
        write_new(self.cleaner.store, content, self.scratches[scratch].dir(), &from)?;
        if stands {
            self.steps.push(Step::Away(path.clone()));
        }
        self.steps.push(Step::Place { scratch, from, to: path.clone() });
        Ok(())
    }

    /// A folder where one stands: what agrees already stays.
    fn update_folder(&mut self, path: &ProjectPath, content: &Content) -> Result<(), PutError> {
        let store = self.cleaner.store;
        let listing = store.read(&content.digest)?;
        let items = items_of_listing(store, &content.digest, &listing)?;
        let target = self.tree().full(path);
        let Ok(standing) = walk(&target) else {
            // It holds things that cannot be recorded: all of it goes aside as one.
            return self.replace(path, content, true);
        };
        let wanted: BTreeMap<&str, &Item<'_>> = items.iter().map(|i| (&*i.path, i)).collect();
        let keeps = |seen: &Seen| -> bool {
            let Some(item) = wanted.get(seen.path.as_str()).filter(|i| i.kind == seen.kind) else { return false };
            let full = target.join(&seen.path);
            match item.kind {
                ItemKind::EmptyDir => true,
                ItemKind::Link => {
                    fs::read_link(&full).is_ok_and(|t| Some(Digest::of(t.as_os_str().as_encoded_bytes())) == item.digest)
                }
                _ => seen.stat.size == item.size && hash_file(&full).is_ok_and(|(d, _)| Some(d) == item.digest),
            }
        };
        let kept: Vec<bool> = standing.par_iter().map(keeps).collect();
        let done: BTreeSet<&str> = standing.iter().zip(&kept).filter(|(_, keep)| **keep).map(|(s, _)| s.path.as_str()).collect();
        let coming: Vec<&Item<'_>> = items.iter().filter(|i| !done.contains(&*i.path)).collect();
        let scratch = self.scratch(path)?;
        bring(store, &coming)?;
        make_folders(self.scratches[scratch].dir(), &coming)?;
        write_items(store, self.scratches[scratch].dir(), &coming, content)?;
        let below = |inner: &str| -> Result<ProjectPath, PutError> { listed(&format!("{path}/{inner}")) };
        // A folder where a file is to stand goes as a whole, with what is in it that is never recorded.
        let in_the_way: BTreeSet<&str> = folders_of(&standing)
            .chain(standing.iter().filter(|s| s.kind == ItemKind::EmptyDir).map(|s| s.path.as_str()))
            .filter(|f| wanted.get(f).is_some_and(|i| i.kind != ItemKind::EmptyDir))
            .collect();
        for folder in &in_the_way {
            self.steps.push(Step::Away(below(folder)?));
        }
        let goes_so = |path: &str| in_the_way.iter().any(|f| is_within(path, f));
        for seen in standing.iter().filter(|s| !done.contains(s.path.as_str()) && !goes_so(&s.path)) {
            // An empty folder may hold what is never recorded, such as compiled files: then it stays.
            let gone = below(&seen.path)?;
            self.steps.push(if seen.kind == ItemKind::EmptyDir { Step::Tidy(gone) } else { Step::Away(gone) });
        }
        for folder in emptied_folders(&standing, &wanted) {
            self.steps.push(Step::Tidy(below(folder)?));
        }
        let mut made = BTreeSet::new();
        for item in &coming {
            let folder =
                if item.kind == ItemKind::EmptyDir { Some(&*item.path) } else { item.path.rsplit_once('/').map(|(f, _)| f) };
            if let Some(folder) = folder.filter(|f| made.insert(*f)) {
                self.steps.push(Step::Folder(below(folder)?));
            }
        }
        for item in coming.iter().filter(|i| i.kind != ItemKind::EmptyDir) {
            self.steps.push(Step::Place { scratch, from: listed(&item.path)?, to: below(&item.path)? });
        }
        let links: Vec<String> = coming.iter().filter(|i| i.kind == ItemKind::Link).map(|i| i.path.to_string()).collect();
        if !links.is_empty() {
            self.steps.push(Step::Links(path.clone(), links));
        }
        Ok(())
    }

    /// Puts everything in place. After a failure all stands as before.
    pub fn apply(mut self) -> Result<(), PutError> {
        let mut done = Vec::new();
        for step in std::mem::take(&mut self.steps) {
            if let Err(e) = self.take(step, &mut done) {
                self.undo(done);
                return Err(e);
            }
        }
        for step in &done {
            if let Done::Away(moved) = step {
                self.cleaner.settle(moved)?;
            }
        }
        Ok(())
    }

    fn take(&self, step: Step, done: &mut Vec<Done>) -> Result<(), PutError> {
        let tree = self.tree();
        match step {
            Step::Away(path) => done.extend(self.cleaner.move_away(&path)?.map(Done::Away)),
            Step::Tidy(path) => tree.remove_if_empty(&path),
            Step::Folder(path) => {
                if tree.standing(&path)?.is_none() {
                    tree.create_folder(&path)?;
                    done.push(Done::Folder(path));
                }
            }
            Step::Place { scratch, from, to } => {
                tree.create_parent(&to)?;
                self.scratches[scratch].dir().rename(&from, tree, &to)?;
                done.push(Done::Placed(to));
            }
            Step::Links(path, links) => {
                let item = |link: &String| Item { kind: ItemKind::Link, digest: None, size: 0, path: link.clone().into() };
                let items: Vec<Item<'_>> = links.iter().map(item).collect();
                links_stay(&tree.folder(&path)?, &items.iter().collect::<Vec<_>>())?;
            }
        }
        Ok(())
    }

    fn undo(&self, done: Vec<Done>) {
        for step in done.into_iter().rev() {
            match step {
                Done::Placed(path) => drop(self.tree().remove(&path)),
                Done::Folder(path) => self.tree().remove_if_empty(&path),
                Done::Away(moved) => self.cleaner.move_back(&moved),
            }
        }
    }
}

/// The folders that things stand in.
fn folders_of(standing: &[Seen]) -> impl Iterator<Item = &str> {
    standing.iter().flat_map(|seen| seen.path.match_indices('/').map(|(at, _)| &seen.path[..at]))
}

/// Folders that only held what goes, innermost first.
fn emptied_folders<'s>(standing: &'s [Seen], wanted: &BTreeMap<&str, &Item<'_>>) -> Vec<&'s str> {
    let folders: BTreeSet<&str> = folders_of(standing).collect();
    folders.into_iter().rev().filter(|f| !wanted.contains_key(f)).collect()
}
