//! An environment whose files are kept: what it takes to make it again without a network.

use serde::{Deserialize, Serialize};

use super::{ObservedFile, ReceiptError, files_of_list};
use crate::store::{Digest, Store};

/// The `type` of a kept environment.
pub const KEPT: &str = "textum/kept-environment@1";

/// The interpreter of a stage, and all installed files of the packages that it used.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptEnvironment {
    /// [`KEPT`].
    pub r#type: String,
    /// Implementation and version of the interpreter, such as `CPython 3.11.7`.
    pub python: String,
    /// Where it lay: the program itself, not a link to it.
    pub interpreter: String,
    /// The packages, by name.
    pub packages: Vec<KeptPackage>,
}

/// A package whose files are kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptPackage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// How many files.
    pub files: u64,
    /// Their bytes.
    pub size: u64,
    /// The list of them, as of observed inputs; paths are relative to the folder that packages are installed in.
    pub list: Digest,
}

impl KeptEnvironment {
    /// Reads a kept environment from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<KeptEnvironment, ReceiptError> {
        Ok(super::read_document(digest, &store.read(digest)?)?)
    }

    /// All files of all packages.
    pub fn all_files(&self, store: &Store) -> Result<Vec<ObservedFile>, ReceiptError> {
        let mut all = Vec::new();
        for package in &self.packages {
            all.extend(files_of_list(&store.read(&package.list)?).unwrap_or_default());
        }
        Ok(all)
    }
}
