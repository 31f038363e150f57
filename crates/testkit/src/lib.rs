//! A sealed test environment: projects in temporary folders, made-up bytes, and the built program run
//! with nothing of the machine's own settings.

// Tests may print and give up; this crate is only ever part of them.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, clippy::expect_used, clippy::print_stderr)]

mod dav;
mod disk;
mod outer;
mod turn;

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use serde_json::Value;

pub use dav::{Dav, Request, Upset};
pub use disk::{Disk, FileSystem};
pub use outer::Outer;
use turn::Turn;

/// A project in a temporary folder that goes with it.
pub struct Tiny {
    _folder: Option<tempfile::TempDir>,
    root: PathBuf,
    _turn: Arc<Turn>,
}

impl Default for Tiny {
    fn default() -> Tiny {
        Tiny::new()
    }
}

impl Tiny {
    /// An empty folder.
    pub fn new() -> Tiny {
        let turn = Turn::of_this_thread();
        let folder = tempfile::Builder::new().prefix("textum-test-").tempdir().unwrap();
        Tiny { root: folder.path().to_path_buf(), _folder: Some(folder), _turn: turn }
    }

    /// A project in a folder that somebody else takes care of, made if it is not there.
    pub fn at(root: &Path) -> Tiny {
        std::fs::create_dir_all(root).unwrap();
        Tiny { root: root.to_path_buf(), _folder: None, _turn: Turn::of_this_thread() }
    }

    /// A folder with this manifest, after a `[project]` section.
    pub fn with(stages: &str) -> Tiny {
        let tiny = Tiny::new();
        tiny.manifest(stages);
        tiny
    }

    /// Writes the manifest: a `[project]` section and this.
    pub fn manifest(&self, stages: &str) {
        self.write("textum.toml", format!("[project]\nname = \"looms\"\n\n{stages}"));
    }

    /// The folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// A path in it.
    pub fn path(&self, below: &str) -> PathBuf {
        self.root().join(below)
    }

    /// Writes a file.
    pub fn write(&self, below: &str, text: impl AsRef<[u8]>) {
        let path = self.path(below);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }

    /// Reads a file.
    pub fn read(&self, below: &str) -> String {
        String::from_utf8(std::fs::read(self.path(below)).unwrap_or_else(|e| panic!("{below}: {e}"))).unwrap()
    }

    /// Whether something is there.
    pub fn has(&self, below: &str) -> bool {
        self.path(below).symlink_metadata().is_ok()
    }

    /// The variables that the program gets.
    pub fn variables(&self) -> Vec<(String, String)> {
        let path = std::env::var("PATH").unwrap_or_default();
        let home = self.root().parent().unwrap().display().to_string();
        [("PATH", path), ("HOME", home), ("USER", "weaver".into()), ("TZ", "UTC".into()), ("LANG", "C.UTF-8".into())]
            .map(|(k, v)| (k.to_string(), v))
            .to_vec()
    }

    fn command(&self, program: &str, words: &[&str]) -> Command {
        let mut command = Command::new(program);
        command.args(words).current_dir(self.root()).env_clear().envs(self.variables()).stdin(Stdio::null());
        command
    }

    /// Runs the built program to its end.
    pub fn textum(&self, program: &str, words: &[&str]) -> Ran {
        self.textum_with(program, words, &[])
    }

    /// Runs the built program to its end with variables of the test's own, which others do not get.
    pub fn textum_with(&self, program: &str, words: &[&str], variables: &[(&str, &str)]) -> Ran {
        let output = self.command(program, words).envs(variables.iter().copied()).output().unwrap();
        Ran {
            words: words.join(" "),
            status: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Starts the built program and returns at once.
    pub fn start(&self, program: &str, words: &[&str]) -> Child {
        self.command(program, words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Every file below a folder with its bytes, every link with its text, sorted; Textum's own folder left out.
    pub fn snapshot(&self) -> Vec<(String, Vec<u8>)> {
        let mut found = Vec::new();
        let mut todo = vec![self.root().to_path_buf()];
        while let Some(folder) = todo.pop() {
            for entry in std::fs::read_dir(folder).unwrap().flatten() {
                let path = entry.path();
                if path.file_name().is_some_and(|n| n == ".textum") {
                    continue;
                }
                let name = path.strip_prefix(self.root()).unwrap().display().to_string();
                match std::fs::read_link(&path) {
                    Ok(to) => found.push((name, to.into_os_string().into_encoded_bytes())),
                    Err(_) if path.is_dir() => todo.push(path),
                    Err(_) => found.push((name, std::fs::read(&path).unwrap())),
                }
            }
        }
        found.sort();
        found
    }
}

/// A program that has ended.
pub struct Ran {
    words: String,
    /// Its exit status.
    pub status: i32,
    /// What it printed.
    pub out: String,
    /// What it said on standard error.
    pub err: String,
}

impl Ran {
    /// Fails the test unless the status is this one.
    #[track_caller]
    pub fn expect(self, status: i32) -> Ran {
        assert_eq!(self.status, status, "textum {}\n--- out\n{}\n--- err\n{}", self.words, self.out, self.err);
        self
    }

    /// Fails the test unless standard output has this.
    #[track_caller]
    pub fn says(self, text: &str) -> Ran {
        assert!(self.out.contains(text), "textum {}: `{text}` is not in\n{}\n--- err\n{}", self.words, self.out, self.err);
        self
    }

    /// Fails the test unless standard error has this.
    #[track_caller]
    pub fn warns(self, text: &str) -> Ran {
        assert!(self.err.contains(text), "textum {}: `{text}` is not in\n{}", self.words, self.err);
        self
    }

    /// Standard output as JSON.
    #[track_caller]
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("textum {}: {e}\n{}\n{}", self.words, self.out, self.err))
    }
}

/// The files below a folder in which these bytes stand, as they are or packed with Zstandard: whatever the format, any frame
/// in them is unpacked.
pub fn holding(folder: &Path, needle: &str) -> Vec<String> {
    let (mut found, mut todo) = (Vec::new(), vec![folder.to_path_buf()]);
    let is_in = |bytes: &[u8]| memchr::memmem::find(bytes, needle.as_bytes()).is_some();
    while let Some(at) = todo.pop() {
        for entry in std::fs::read_dir(&at).unwrap().map(Result::unwrap) {
            let path = entry.path();
            if entry.file_type().unwrap().is_dir() {
                todo.push(path);
                continue;
            }
            let bytes = std::fs::read(&path).unwrap_or_default();
            let frames = memchr::memmem::find_iter(&bytes, &[0x28, 0xB5, 0x2F, 0xFD]);
            let packed = frames.filter_map(|at| {
                let mut out = Vec::new();
                let frame = zstd::stream::read::Decoder::new(&bytes[at..]).ok()?.single_frame();
                // What is damaged is looked at as far as it goes.
                let _ = std::io::Read::read_to_end(&mut std::io::Read::take(frame, 64 << 20), &mut out);
                Some(out)
            });
            if is_in(&bytes) || packed.into_iter().any(|out| is_in(&out)) {
                found.push(path.strip_prefix(folder).unwrap().display().to_string());
            }
        }
    }
    found.sort();
    found
}

/// Bytes that look random and cannot be compressed, the same for the same seed (xorshift64*).
pub fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut out = Vec::with_capacity(length + 8);
    while out.len() < length {
        state ^= state >> 12;
        state ^= state << 25;
        state ^= state >> 27;
        out.extend_from_slice(&state.wrapping_mul(0x2545_F491_4F6C_DD1D).to_le_bytes());
    }
    out.truncate(length);
    out
}

/// A number from the environment, for tests that can be made longer.
pub fn many(variable: &str, default: u32) -> u32 {
    std::env::var(variable).ok().and_then(|v| v.parse().ok()).unwrap_or(default)
}

/// The steps at which a fault is tried, of several faults that are tried in turn: with `TEXTUM_EVERY_FAULT` each fault at each
/// step, else each step with half of the faults.
pub fn fault_steps(fault: usize) -> impl Iterator<Item = u32> {
    let stride = if std::env::var_os("TEXTUM_EVERY_FAULT").is_some() { 1 } else { 2 };
    (1 + (fault % stride) as u32..).step_by(stride)
}

/// A project that an earlier Textum wrote, to be copied before it is used; `state` in it is its `.textum`.
pub fn fixture(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("fixtures").join(name)
}
