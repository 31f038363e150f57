//! A disk of its own for a project: what a machine that loses its power leaves of it is what was made durable, and no more.

use std::path::{Path, PathBuf};
use std::process::Command;

/// The size of a disk in bytes.
const SIZE: u64 = 160 << 20;

/// How a disk keeps what is on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileSystem {
    /// Names come to the disk in the order in which they were made: all before one that is made durable.
    Ext4,
    /// What is made durable comes to the disk before all else.
    Btrfs,
}

/// A file system in a file, mounted. It is unmounted when it goes.
pub struct Disk {
    _folder: tempfile::TempDir,
    image: PathBuf,
    mounted: PathBuf,
    file_system: FileSystem,
}

fn succeeds(program: &str, words: &[&str]) {
    let ran = Command::new(program).args(words).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    let said = String::from_utf8_lossy(&ran.stderr);
    assert!(ran.status.success(), "{program} {words:?}: {said}");
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap()
}

impl Disk {
    /// Whether disks can be made here: by `TEXTUM_DISKS`, which says so; it takes the rights of root.
    pub fn can_be() -> bool {
        std::env::var_os("TEXTUM_DISKS").is_some()
    }

    /// An empty disk.
    pub fn new(file_system: FileSystem) -> Disk {
        let (folder, image, mounted) = Disk::place();
        std::fs::File::create(&image).unwrap().set_len(SIZE).unwrap();
        match file_system {
            FileSystem::Ext4 => succeeds("mkfs.ext4", &["-q", "-F", text(&image)]),
            FileSystem::Btrfs => succeeds("mkfs.btrfs", &["-q", "-f", text(&image)]),
        }
        Disk { _folder: folder, image, mounted, file_system }.mount()
    }

    /// The image lies in memory where that can be: it is not what is tried.
    fn place() -> (tempfile::TempDir, PathBuf, PathBuf) {
        let memory = Path::new("/dev/shm");
        let base = if memory.is_dir() { memory.to_path_buf() } else { std::env::temp_dir() };
        let folder = tempfile::Builder::new().prefix("textum-disk-").tempdir_in(base).unwrap();
        let image = folder.path().join("image");
        let mounted = tempfile::Builder::new().prefix("textum-disk-").tempdir().unwrap().keep();
        (folder, image, mounted)
    }

    /// Nothing is written back by itself for as long as a test takes.
    fn mount(self) -> Disk {
        succeeds("mount", &["-o", "loop,commit=900", text(&self.image), text(&self.mounted)]);
        self
    }

    /// The folder that the disk is mounted at.
    pub fn root(&self) -> &Path {
        &self.mounted
    }

    /// Another disk with what is on this one now, all of it.
    pub fn copy(&self) -> Disk {
        succeeds("sync", &["-f", text(&self.mounted)]);
        self.after_power_cut()
    }

    /// Another disk, as this one would be found if the power were cut now.
    pub fn after_power_cut(&self) -> Disk {
        let (folder, image, mounted) = Disk::place();
        succeeds("cp", &["--sparse=always", text(&self.image), text(&image)]);
        Disk { _folder: folder, image, mounted, file_system: self.file_system }.mount()
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = Command::new("umount").args(["-l", text(&self.mounted)]).output();
        let _ = std::fs::remove_dir(&self.mounted);
    }
}
