//! What is published: files, what it takes to use them, and where they come from.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::Number;
use textum_base::{Better, Digest, ProjectPath};

/// A file of what is published.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BundleFile {
    /// Where it stands, relative to the folder that all of them are brought to.
    pub path: ProjectPath,
    /// Its digest.
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
    /// Whether it may be executed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// What it says of itself, where it is of a kind that does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<Header>,
}

/// What a file of weights says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Header {
    /// `safetensors`, `ONNX` or `GGUF`.
    pub format: String,
    /// What it says beside its tensors, such as the opset.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facts: BTreeMap<String, String>,
    /// So many tensors.
    pub tensors: u64,
    /// So many numbers in them.
    pub values: u64,
    /// The first of them; of ONNX its inputs and outputs.
    pub some: Vec<Tensor>,
}

/// A tensor: a name, the type of its numbers and how many there are in each dimension.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tensor {
    /// Its name.
    pub name: String,
    /// The type of its numbers, in the words of its format.
    pub kind: String,
    /// Its shape; a dimension that is open has a name.
    pub shape: Vec<String>,
}

/// What the values of a column are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ColumnKind {
    /// Whole numbers.
    Integer,
    /// Numbers.
    Number,
    /// `true` and `false`.
    Boolean,
    /// Days.
    Date,
    /// Days with a time.
    Time,
    /// Anything.
    Text,
}

impl ColumnKind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            ColumnKind::Integer => "integer",
            ColumnKind::Number => "number",
            ColumnKind::Boolean => "boolean",
            ColumnKind::Date => "date",
            ColumnKind::Time => "time",
            ColumnKind::Text => "text",
        }
    }
}

/// A column of what a model takes in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// What its values are.
    pub kind: ColumnKind,
    /// Whether some may be missing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub missing: bool,
}

/// What a model takes in: columns in their order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Schema {
    /// The columns.
    pub columns: Vec<Column>,
    /// The column of the truth, which is not taken in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
}

/// Rows to try a model by, and what it answered when it was published.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Proof {
    /// The example rows, as CSV.
    pub example: Digest,
    /// So many.
    pub rows: u64,
    /// The answers, as CSV.
    pub predictions: Digest,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// The run that something comes from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunFacts {
    /// The project.
    pub project: String,
    /// The run's id.
    pub run: String,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// Who ran it, and where.
    pub by: String,
    /// Its receipt.
    pub receipt: Digest,
    /// The receipts of the stages that what is published comes from, by stage.
    pub stages: BTreeMap<String, Digest>,
    /// Every parameter that those stages used, as JSON text.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub params: BTreeMap<String, String>,
    /// The commit of the code, `+` behind it where files differed from it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
    /// Whether all those stages were sealed.
    pub sealed: bool,
}

/// A dataset that something comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DataFacts {
    /// The number of the version, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<u64>,
    /// Its digest.
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
    /// The files in it.
    pub files: u64,
}

/// A rebuild that was done before publishing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rebuilt {
    /// `identical`, `equivalent`, `different` or `failed`.
    pub verdict: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Who, and where.
    pub by: String,
}

/// All about what is published.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Bundle {
    /// What it is for, in a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// The files, sorted by path.
    pub files: Vec<BundleFile>,
    /// The command that predicts: rows come in as CSV, predictions go out as CSV. Given to `sh -c`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub predict: Option<String>,
    /// What it takes in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input: Option<Schema>,
    /// What it answered to some rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<Proof>,
    /// The interpreter that its stages used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interpreter: Option<String>,
    /// The packages that its stages used, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub packages: BTreeMap<String, String>,
    /// The digest of the environment's record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<Digest>,
    /// The run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<RunFacts>,
    /// The datasets that it comes from, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub data: BTreeMap<String, DataFacts>,
    /// The metrics of the run, those of segments among them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub metrics: BTreeMap<String, Number>,
    /// In which direction they get better.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub better: BTreeMap<String, Better>,
    /// The newest rebuild of the run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rebuilt: Option<Rebuilt>,
    /// The condition that held when it was published.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<String>,
}

impl Bundle {
    /// What makes it what it is: its files and how they are used. The digest of the canonical JSON of both.
    pub fn content(&self) -> Digest {
        let file = |f: &BundleFile| serde_json::json!({ "path": f.path, "digest": f.digest, "executable": f.executable });
        let files: Vec<serde_json::Value> = self.files.iter().map(file).collect();
        let what = serde_json::json!({ "files": files, "predict": self.predict });
        Digest::of(&serde_json_canonicalizer::to_vec(&what).unwrap_or_default())
    }

    /// Every content that it takes to use it.
    pub fn contents(&self) -> BTreeSet<Digest> {
        let proof = self.proof.iter().flat_map(|p| [p.example, p.predictions]);
        self.files.iter().map(|f| f.digest).chain(proof).collect()
    }

    /// Its size, in bytes.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|f| f.size).fold(0, u64::saturating_add)
    }

    /// What is wrong with it that its types cannot say.
    pub fn check(&self) -> Result<(), String> {
        if self.files.is_empty() {
            return Err("it has no file".to_string());
        }
        if let Some(pair) = self.files.windows(2).find(|pair| pair[0].path >= pair[1].path) {
            return Err(format!("the files {:?} and {:?} are not in order", pair[0].path.as_str(), pair[1].path.as_str()));
        }
        let paths: BTreeSet<&str> = self.files.iter().map(|f| f.path.as_str()).collect();
        for path in &paths {
            if path.match_indices('/').any(|(at, _)| paths.contains(&path[..at])) {
                return Err(format!("{path:?} lies in another file"));
            }
            if path.split('/').any(|part| part.starts_with(".textum") || part == ".git" || part.starts_with("textum.")) {
                return Err(format!("{path:?} is no place for a file of a model"));
            }
        }
        if self.input.is_some() && self.predict.is_none() {
            return Err("it takes rows in, and nothing predicts".to_string());
        }
        Ok(())
    }

    /// The value of a metric.
    pub fn metric(&self, name: &str) -> Option<f64> {
        self.metrics.get(name).and_then(Number::as_f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(paths: &[&str]) -> Bundle {
        let file = |path: &&str| BundleFile {
            path: ProjectPath::new(path).unwrap(),
            digest: Digest::of(path.as_bytes()),
            size: 1,
            executable: false,
            header: None,
        };
        Bundle { files: paths.iter().map(file).collect(), ..Bundle::default() }
    }

    #[test]
    fn the_files_of_a_bundle_can_all_stand_in_one_folder() {
        for good in [&["a"][..], &["a", "b/c", "b/d"], &["a-b", "a.b", "aa"]] {
            assert_eq!(with(good).check(), Ok(()), "{good:?}");
        }
        for bad in [&[][..], &["b", "a"], &["a", "a"], &["a", "a/b"], &["a", "a-b", "a/b"], &["textum.card.json"]] {
            assert!(with(bad).check().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn content_is_what_is_used_and_nothing_that_is_told_of_it() {
        let bundle = with(&["a"]);
        let told = Bundle { about: Some("x".into()), metrics: BTreeMap::from([("auc".into(), 1.into())]), ..bundle.clone() };
        assert_eq!(bundle.content(), told.content());
        assert_ne!(bundle.content(), Bundle { predict: Some("p".into()), ..bundle.clone() }.content());
        assert_ne!(bundle.content(), with(&["b"]).content());
    }
}
