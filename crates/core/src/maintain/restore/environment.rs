//! An environment as a run had it, made again in a folder of its own: from kept files, without a network, or from the
//! recorded versions by the installer.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde::Serialize;
use textum_base::ProjectPath;

use crate::fsio::{IoError, TreeDir};
use crate::project::tree::{PutError, write_new};
use crate::project::workspace::Project;
use crate::record::receipt::{EnvironmentRecord, KeptEnvironment, ObservedInputs, ObservedKind, ReceiptError, StageReceipt};

/// An environment that was made again.
#[derive(Clone, Debug, Serialize)]
pub struct RestoredEnvironment {
    /// Its folder.
    pub folder: PathBuf,
    /// The interpreter that it was made with.
    pub interpreter: String,
    /// Its version.
    pub python: String,
    /// Its packages and their versions.
    pub packages: BTreeMap<String, String>,
    /// Files written from the store.
    pub files: u64,
    /// Whether the files came from the store; else the installer fetched the versions.
    pub kept: bool,
}

/// Why an environment could not be made.
#[derive(Debug, thiserror::Error)]
pub enum EnvironmentError {
    /// No stage of the run used an interpreter.
    #[error("no stage of {0} was seen to use an interpreter's packages, so that there is no environment to make")]
    None(String),
    /// The folder holds something.
    #[error("{} is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// Two stages had other versions of one package.
    #[error("the stages of {run} had {package} in two versions, {one} and {other}: name a file, as in RUN:PATH")]
    TwoVersions {
        /// The run.
        run: String,
        /// The package.
        package: String,
        /// One version.
        one: String,
        /// The other.
        other: String,
    },
    /// The interpreter is not here.
    #[error("{python} is not here: neither at {} nor as {}", looked.join(", "), .command)]
    NoInterpreter {
        /// What is missing.
        python: String,
        /// Where it was looked for.
        looked: Vec<String>,
        /// The command of the manifest.
        command: String,
    },
    /// A command did not succeed.
    #[error("`{command}` did not succeed: {said}")]
    Command {
        /// The command.
        command: String,
        /// The last line that it printed.
        said: String,
    },
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A file.
    #[error(transparent)]
    Put(#[from] PutError),
}

/// What is to be made.
struct Wanted {
    python: String,
    interpreters: Vec<String>,
    packages: BTreeMap<String, String>,
    kept: Vec<KeptEnvironment>,
    /// Whether the files of all packages are kept.
    all_kept: bool,
}

fn wanted(project: &Project, run: &str, receipts: &[StageReceipt]) -> Result<Wanted, EnvironmentError> {
    let store = &project.store;
    let mut wanted =
        Wanted { python: String::new(), interpreters: Vec::new(), packages: BTreeMap::new(), kept: Vec::new(), all_kept: true };
    for receipt in receipts {
        let Some(observed) = receipt.observed.as_ref() else { continue };
        let Some(inputs) = observed.inputs else { continue };
        let kept = observed.environment.map(|digest| KeptEnvironment::load(store, &digest)).transpose()?;
        let inputs = ObservedInputs::load(store, &inputs)?;
        let used = inputs.of_kind(ObservedKind::Package).filter_map(|g| Some((g.name.clone(), g.version.clone()?)));
        let mut any = false;
        for (name, version) in used {
            any = true;
            wanted.all_kept &= kept.as_ref().is_some_and(|k| k.packages.iter().any(|p| p.name == name && p.version == version));
            match wanted.packages.insert(name.clone(), version.clone()) {
                Some(other) if other != version => {
                    return Err(EnvironmentError::TwoVersions { run: run.into(), package: name, one: other, other: version });
                }
                _ => {}
            }
        }
        let uses_python = any || inputs.of_kind(ObservedKind::Interpreter).next().is_some();
        let record = receipt.environment.filter(|_| uses_python).map(|d| EnvironmentRecord::load(store, &d)).transpose()?;
        if let Some(python) = record.and_then(|r| r.python) {
            wanted.python = python.version;
            wanted.interpreters.push(python.executable);
        }
        if let Some(kept) = kept {
            wanted.python.clone_from(&kept.python);
            wanted.interpreters.insert(0, kept.interpreter.clone());
            wanted.kept.push(kept);
        }
    }
    wanted.interpreters.dedup();
    match wanted.python.is_empty() {
        true => Err(EnvironmentError::None(run.to_string())),
        false => Ok(wanted),
    }
}

/// Starts a program to its end; the last line that it printed where it does not succeed.
fn run_to_end(program: &str, arguments: &[&str]) -> Result<String, EnvironmentError> {
    let command = || format!("{program} {}", arguments.join(" "));
    let output = Command::new(program).args(arguments).stdin(Stdio::null()).env_remove("PYTHONPATH").output();
    let output = output.map_err(|e| EnvironmentError::Command { command: command(), said: e.to_string() })?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).trim().to_string());
    }
    let said = [output.stderr, output.stdout].map(|text| String::from_utf8_lossy(&text).trim().to_string());
    let last = said.iter().find_map(|text| text.lines().last()).unwrap_or("it said nothing").to_string();
    Err(EnvironmentError::Command { command: command(), said: last })
}

/// The interpreter of this version: where it lay, or as the manifest names it.
fn interpreter(project: &Project, wanted: &Wanted) -> Result<String, EnvironmentError> {
    const ASK: &str = "import platform; print(platform.python_implementation(), platform.python_version())";
    let command = project.manifest.environment.python.clone().unwrap_or_else(|| "python3".to_string());
    for program in wanted.interpreters.iter().chain([&command]) {
        if run_to_end(program, &["-c", ASK]).is_ok_and(|version| version == wanted.python) {
            return Ok(program.clone());
        }
    }
    Err(EnvironmentError::NoInterpreter { python: wanted.python.clone(), looked: wanted.interpreters.clone(), command })
}

/// Makes the environment that these stages of a run had, in a folder that is not there yet or is empty.
pub fn restore_environment(
    project: &Project,
    run: &str,
    receipts: &[StageReceipt],
    folder: &Path,
) -> Result<RestoredEnvironment, EnvironmentError> {
    let folder = std::path::absolute(folder).map_err(IoError::of("look at", folder))?;
    if std::fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some()) || folder.is_file() {
        return Err(EnvironmentError::NotEmpty(folder));
    }
    let wanted = wanted(project, run, receipts)?;
    let program = interpreter(project, &wanted)?;
    let place = folder.display().to_string();
    let made = RestoredEnvironment {
        folder: folder.clone(),
        interpreter: program.clone(),
        python: wanted.python.clone(),
        packages: wanted.packages.clone(),
        files: 0,
        kept: wanted.all_kept,
    };
    if !wanted.all_kept {
        run_to_end(&program, &["-m", "venv", &place])?;
        let own = folder.join("bin/python").display().to_string();
        let exact: Vec<String> = wanted.packages.iter().map(|(name, version)| format!("{name}=={version}")).collect();
        let mut words = vec!["-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-deps"];
        words.extend(exact.iter().map(String::as_str));
        run_to_end(&own, &words)?;
        return Ok(made);
    }
    run_to_end(&program, &["-m", "venv", "--without-pip", &place])?;
    let site = run_to_end(
        &folder.join("bin/python").display().to_string(),
        &["-c", "import sysconfig; print(sysconfig.get_path('purelib'))"],
    )?;
    let tree = TreeDir::create(Path::new(&site))?;
    let mut files = 0;
    for kept in &wanted.kept {
        for file in kept.all_files(&project.store)? {
            // A name that leads elsewhere is none of a package.
            let Ok(path) = ProjectPath::new(&file.path) else { continue };
            if tree.standing(&path)?.is_none() {
                write_new(&project.store, &file.content(), &tree, &path)?;
                files += 1;
            }
        }
    }
    Ok(RestoredEnvironment { files, ..made })
}
