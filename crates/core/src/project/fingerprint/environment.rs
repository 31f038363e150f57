//! The environment of stages: which variables they get, and what of interpreter and packages counts.

use std::collections::BTreeMap;
use std::path::Path;

use super::python::{MayStart, PythonError, python};
use super::secret::{SecretKey, is_secret, recorded};
use crate::config::manifest::{EnvironmentDecl, Packages};
use crate::record::receipt::{COUNTED, CountedEnvironment, ENVIRONMENT, EnvironmentRecord};

/// Variables that every stage gets if they are set: what programs need to be found and to find their
/// libraries, terminal language and time zone. They are handed on but do not count.
const HANDED_ON: [&str; 22] = [
    "PATH",
    "HOME",
    "USER",
    "LOGNAME",
    "SHELL",
    "LANG",
    "LANGUAGE",
    "TZ",
    "TMPDIR",
    "VIRTUAL_ENV",
    "CONDA_PREFIX",
    "CONDA_DEFAULT_ENV",
    "LD_LIBRARY_PATH",
    "DYLD_LIBRARY_PATH",
    "LIBRARY_PATH",
    "PKG_CONFIG_PATH",
    "JAVA_HOME",
    "R_HOME",
    "R_LIBS_USER",
    "JULIA_DEPOT_PATH",
    "SSL_CERT_FILE",
    "XDG_CACHE_HOME",
];
/// What stands in the place of a secret's value where it does not count: also where it is not set.
const NOT_COUNTED: &str = "secret: passed on, not counted";

/// Families of them.
const HANDED_ON_PREFIXES: [&str; 4] = ["LC_", "CUDA_", "NVIDIA_", "ROCM_"];

/// The variables that a stage gets, from those of this process: the fixed list, `PYTHONHASHSEED=0`, and
/// those that count with the given values (`None`: not set).
pub fn stage_variables(own: &[(String, String)], counted: &BTreeMap<String, Option<String>>) -> Vec<(String, String)> {
    let handed = |name: &str| HANDED_ON.contains(&name) || HANDED_ON_PREFIXES.iter().any(|p| name.starts_with(p));
    let mut variables: BTreeMap<String, String> = own.iter().filter(|(name, _)| handed(name)).cloned().collect();
    for (name, value) in counted {
        // What is recorded of a secret is not the secret: that is had from where it is set.
        let own = || own.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
        match if value.is_some() && is_secret(name) { own() } else { value.clone() } {
            Some(value) => variables.insert(name.clone(), value),
            None => variables.remove(name),
        };
    }
    // Whether a terminal, a timer or another machine set the one or the other says nothing of who it is.
    if let Some(user) = variables.get("USER").or(variables.get("LOGNAME")).cloned() {
        for name in ["USER", "LOGNAME"].into_iter().filter(|name| !counted.contains_key(*name)) {
            variables.insert(name.to_string(), user.clone());
        }
    }
    variables.into_iter().collect()
}

/// The variables that count, with their values now; of secrets a hash with this key. `PYTHONHASHSEED` is 0 unless
/// declared.
pub fn counted_variables(
    decl: &EnvironmentDecl,
    own: &[(String, String)],
    key: Option<&SecretKey>,
) -> BTreeMap<String, Option<String>> {
    let value = |name: &str| {
        let value = own.iter().find(|(n, _)| n == name).map(|(_, v)| v)?;
        Some(if is_secret(name) { recorded(value, key) } else { value.clone() })
    };
    let value = |name: &str| match is_secret(name) && !decl.count_secrets {
        true => Some(NOT_COUNTED.to_string()),
        false => value(name),
    };
    let mut counted = BTreeMap::from([("PYTHONHASHSEED".to_string(), Some("0".to_string()))]);
    counted.extend(decl.vars.iter().map(|name| (name.clone(), value(name))));
    counted
}

/// The environment as it is now: all that is known, and the part that counts.
#[derive(Clone, Debug)]
pub struct EnvironmentNow {
    /// All of it.
    pub record: EnvironmentRecord,
    /// What counts, if an interpreter is declared.
    pub counted: Option<CountedEnvironment>,
    /// What counts of it for a stage of which it is seen which packages it uses; none where those that count are
    /// declared.
    pub interpreter: Option<CountedEnvironment>,
    /// Variables that count.
    pub variables: BTreeMap<String, Option<String>>,
}

impl EnvironmentNow {
    /// The interpreter that is declared.
    pub fn executable(&self) -> Option<&Path> {
        self.record.python.as_ref().map(|python| Path::new(&python.executable))
    }
}

/// Looks at the environment of the project in a folder; a program that lies in it is started only if it `may` be.
pub fn environment(
    decl: &EnvironmentDecl,
    folder: &Path,
    own: &[(String, String)],
    key: Option<&SecretKey>,
    cache: Option<&Path>,
    may: MayStart,
) -> Result<EnvironmentNow, PythonError> {
    let variables = counted_variables(decl, own, key);
    let python = match &decl.python {
        Some(command) => Some(python(command, folder, &stage_variables(own, &variables), cache, may)?),
        None => None,
    };
    let interpreter = python.as_ref().map(|found| CountedEnvironment {
        r#type: COUNTED.to_string(),
        python: found.version.clone(),
        packages: BTreeMap::new(),
    });
    let counted = python.as_ref().map(|found| CountedEnvironment {
        r#type: COUNTED.to_string(),
        python: found.version.clone(),
        packages: match &decl.packages {
            Packages::Used | Packages::All => found.packages.iter().map(|(n, v)| (n.clone(), Some(v.clone()))).collect(),
            Packages::These(names) => names.iter().map(|n| (n.clone(), found.packages.get(&normal_name(n)).cloned())).collect(),
        },
    });
    let record = EnvironmentRecord { r#type: ENVIRONMENT.to_string(), python, system: system() };
    let used = decl.packages == Packages::Used;
    Ok(EnvironmentNow { record, counted, interpreter: interpreter.filter(|_| used), variables })
}

/// A package's name as installers compare it (PEP 503).
pub fn normal_name(name: &str) -> String {
    let mut out = String::new();
    for c in name.chars() {
        if matches!(c, '-' | '_' | '.') {
            if !out.ends_with('-') {
                out.push('-');
            }
        } else {
            out.extend(c.to_lowercase());
        }
    }
    out
}

/// Operating system, its version and the architecture, such as `Linux 6.18.44 x86_64`.
pub fn system() -> String {
    let uname = rustix::system::uname();
    let text = |s: &std::ffi::CStr| s.to_string_lossy().into_owned();
    format!("{} {} {}", text(uname.sysname()), text(uname.release()), text(uname.machine()))
}

/// The machine's name.
pub fn host() -> String {
    textum_base::host()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_readme_names_every_variable_that_is_passed_on() {
        let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../README.md")).unwrap();
        let families = HANDED_ON_PREFIXES.iter().map(|prefix| format!("`{prefix}*`"));
        for name in HANDED_ON.iter().map(|name| format!("`{name}`")).chain(families) {
            assert!(text.contains(&name), "{name} is passed on, and README.md does not say so");
        }
    }
}
