//! What is recorded of interpreters and packages: all of it, and apart from it what counts.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// The `type` of a record of the whole environment.
pub const ENVIRONMENT: &str = "textum/environment@1";
/// The `type` of the part of it that counts.
pub const COUNTED: &str = "textum/counted-environment@1";

/// Everything known of the environment that stages were executed in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct EnvironmentRecord {
    /// [`ENVIRONMENT`].
    pub r#type: String,
    /// The interpreter, if one is declared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub python: Option<PythonRecord>,
    /// Operating system, its version and the architecture.
    pub system: String,
}

/// A Python interpreter and what is installed for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PythonRecord {
    /// As the manifest names it.
    pub command: String,
    /// Where it was found.
    pub executable: String,
    /// Implementation and version, such as `CPython 3.11.7`.
    pub version: String,
    /// Installed packages and their versions.
    pub packages: BTreeMap<String, String>,
}

/// The part of an environment that decides results.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CountedEnvironment {
    /// [`COUNTED`].
    pub r#type: String,
    /// Implementation and version of the interpreter.
    pub python: String,
    /// The packages that count; `null` for one that is not installed.
    pub packages: BTreeMap<String, Option<String>>,
}
