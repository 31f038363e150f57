//! What a sealed stage may do.

use std::path::{Path, PathBuf};

use textum_observe::{Seal, to_text};

/// Folders of the system: programs, libraries, settings. They may be read by every sealed stage.
const SYSTEM: [&str; 15] = [
    "/usr", "/lib", "/lib32", "/lib64", "/libx32", "/bin", "/sbin", "/etc", "/opt", "/nix", "/gnu", "/proc", "/sys", "/var/lib",
    "/snap",
];

/// What a stage may do that works in `root`: read what it declares, its environment and the system; write into its
/// folder, and into one for temporary files that nobody else has.
pub fn seal_of(
    root: &Path,
    task_folder: &Path,
    references: impl Iterator<Item = PathBuf>,
    interpreter: Option<&Path>,
    variables: &[(String, String)],
) -> Seal {
    let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_path_buf());
    let text = |path: &Path| to_text(std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()));
    let mut read: Vec<PathBuf> = SYSTEM.iter().map(PathBuf::from).collect();
    read.extend(references);
    let home = variables.iter().find(|(name, _)| name == "HOME").map(|(_, value)| PathBuf::from(value));
    // Where programs and their libraries are looked for, with what belongs to an interpreter in such a folder.
    for (name, value) in variables {
        if matches!(name.as_str(), "PATH" | "LD_LIBRARY_PATH" | "LIBRARY_PATH") {
            for folder in value.split(':').filter(|p| p.starts_with('/')).map(PathBuf::from) {
                // What is installed in a folder of its own lies beside its programs.
                let prefix = folder.parent().filter(|p| p.components().count() > 2 && Some(*p) != home.as_deref());
                read.extend(prefix.map(Path::to_path_buf));
                read.extend(prefix.and_then(made_from));
                read.push(folder);
            }
        }
        if matches!(name.as_str(), "VIRTUAL_ENV" | "CONDA_PREFIX" | "JAVA_HOME" | "R_HOME" | "R_LIBS_USER" | "JULIA_DEPOT_PATH") {
            read.push(PathBuf::from(value));
        }
    }
    if let Some(executable) = interpreter {
        let real = std::fs::canonicalize(executable).unwrap_or_else(|_| executable.to_path_buf());
        for program in [executable, &real] {
            read.extend(program.parent().and_then(Path::parent).filter(|p| p.parent().is_some()).map(Path::to_path_buf));
        }
    }
    if let Some(program) = textum_observe::tracer() {
        read.push(program);
    }
    let write = [root, task_folder, Path::new("/dev")];
    Seal { read: read.iter().map(|p| text(&whole(p))).collect(), write: write.map(|p| text(&whole(p))).to_vec(), own: Vec::new() }
}

/// The folder of the interpreter that a virtual environment was made from (PEP 405).
fn made_from(environment: &Path) -> Option<PathBuf> {
    let text = std::fs::read_to_string(environment.join("pyvenv.cfg")).ok()?;
    let home = text.lines().find_map(|line| line.strip_prefix("home")?.trim_start().strip_prefix('='))?;
    let prefix = Path::new(home.trim()).parent()?;
    (prefix.is_absolute() && prefix.parent().is_some()).then(|| prefix.to_path_buf())
}

/// Whether this machine can seal at all.
pub fn can_seal() -> bool {
    textum_observe::can_seal()
}
