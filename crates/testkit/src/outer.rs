//! A folder around a project, to see that nothing outside the project is ever touched.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use crate::Tiny;

/// A project in a folder that holds things of a person's own: beside it, and in it what is not Textum's.
pub struct Outer {
    /// The folder around.
    pub around: Tiny,
    /// The project's folder in it.
    pub project: Tiny,
}

impl Default for Outer {
    fn default() -> Outer {
        Outer::new()
    }
}

impl Outer {
    /// An empty project, with precious things around it.
    pub fn new() -> Outer {
        let around = Tiny::new();
        around.write("precious.txt", "a thesis");
        around.write("other/project/data.csv", "loom,stops\nL01,3\n");
        let project = Tiny::at(&around.path("shed"));
        project.write(".git/hooks/pre-commit", "#!/bin/sh\nexit 0\n");
        project.write(".git/config", "[core]\n");
        project.write("notes.md", "do not lose this\n");
        Outer { around, project }
    }

    /// Everything that is a person's: paths, what they are, modes and bytes. Textum's own folder is left out, and
    /// so are the paths given, which a test lets Textum write.
    pub fn persons(&self, written: &[&str]) -> Vec<String> {
        let project = self.project.root();
        let skipped: Vec<PathBuf> = written.iter().map(|p| project.join(p)).chain([project.join(".textum")]).collect();
        let mut found = Vec::new();
        visit(self.around.root(), &skipped, &mut found);
        found.sort();
        found
    }
}

fn visit(folder: &Path, skipped: &[PathBuf], found: &mut Vec<String>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if skipped.contains(&path) {
            continue;
        }
        let meta = path.symlink_metadata().unwrap();
        let bytes = if meta.is_file() { std::fs::read(&path).unwrap() } else { Vec::new() };
        found.push(format!("{} {:o} {:?}", path.display(), meta.permissions().mode(), String::from_utf8_lossy(&bytes)));
        if meta.is_dir() {
            visit(&path, skipped, found);
        }
    }
}
