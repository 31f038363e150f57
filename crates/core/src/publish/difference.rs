//! Why two published versions differ: what was other when they were made, and that nothing else was.

use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use textum_registry::Bundle;

/// A thing that is not the same.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Line {
    /// Its name.
    pub name: String,
    /// What it was.
    pub from: Option<String>,
    /// What it is.
    pub to: Option<String>,
}

/// In what two versions differ.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Difference {
    /// Files.
    pub files: Vec<Line>,
    /// Datasets.
    pub data: Vec<Line>,
    /// Parameters.
    pub params: Vec<Line>,
    /// The commands and the code of stages, by the receipts of their executions.
    pub stages: Vec<Line>,
    /// Packages that were used, and the interpreter.
    pub packages: Vec<Line>,
    /// What they take in, and how they predict.
    pub use_of: Vec<Line>,
    /// Metrics.
    pub metrics: Vec<Line>,
}

fn lines(old: BTreeMap<String, String>, new: BTreeMap<String, String>) -> Vec<Line> {
    let names: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
    let line = |name: &String| {
        let (from, to) = (old.get(name).cloned(), new.get(name).cloned());
        (from != to).then(|| Line { name: name.clone(), from, to })
    };
    names.into_iter().filter_map(line).collect()
}

/// Compares what two versions say of themselves. What their stages read is compared by whoever has the receipts.
pub fn differences(old: &Bundle, new: &Bundle) -> Difference {
    let both = |of: &dyn Fn(&Bundle) -> BTreeMap<String, String>| lines(of(old), of(new));
    Difference {
        files: both(&|b| b.files.iter().map(|f| (f.path.to_string(), f.digest.to_string())).collect()),
        data: both(&|b| {
            let text = |name: &String, d: &textum_registry::DataFacts| match d.version {
                Some(version) => format!("{name}@{version} ({})", d.digest.short()),
                None => d.digest.to_string(),
            };
            b.data.iter().map(|(name, d)| (name.clone(), text(name, d))).collect()
        }),
        params: both(&|b| b.run.iter().flat_map(|r| r.params.clone()).collect()),
        stages: both(&|b| b.run.iter().flat_map(|r| r.stages.iter().map(|(name, d)| (name.clone(), d.to_string()))).collect()),
        packages: both(&|b| {
            let interpreter = b.interpreter.iter().map(|i| ("interpreter".to_string(), i.clone()));
            b.packages.clone().into_iter().chain(interpreter).collect()
        }),
        use_of: both(&|b| {
            let predict = b.predict.iter().map(|p| ("predict".to_string(), p.clone()));
            let columns = b.input.iter().flat_map(|i| &i.columns);
            let columns = columns.map(|c| {
                (format!("column {}", c.name), format!("{}{}", c.kind.word(), if c.missing { ", may be missing" } else { "" }))
            });
            predict.chain(columns).collect()
        }),
        metrics: both(&|b| b.metrics.iter().map(|(n, v)| (n.clone(), v.to_string())).collect()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use textum_base::{Digest, ProjectPath};
    use textum_registry::{BundleFile, Column, ColumnKind, DataFacts, Schema};

    fn bundle() -> Bundle {
        let file = |path: &str| BundleFile {
            path: ProjectPath::new(path).unwrap(),
            digest: Digest::of(path.as_bytes()),
            size: 1,
            executable: false,
            header: None,
        };
        let data = DataFacts { version: Some(1), digest: Digest::of(b"rows"), size: 4, files: 1 };
        let column = Column { name: "lint".into(), kind: ColumnKind::Number, missing: false };
        Bundle {
            files: vec![file("a"), file("b")],
            predict: Some("sh predict.sh".into()),
            input: Some(Schema { columns: vec![column], target: None }),
            packages: BTreeMap::from([("numpy".into(), "2.1.0".into())]),
            interpreter: Some("python3.11".into()),
            data: BTreeMap::from([("rows".into(), data)]),
            ..Bundle::default()
        }
    }

    fn line(name: &str, from: Option<&str>, to: Option<&str>) -> Line {
        Line { name: name.into(), from: from.map(str::to_string), to: to.map(str::to_string) }
    }

    #[test]
    fn what_is_other_is_told_and_nothing_else() {
        let old = bundle();
        assert_eq!(differences(&old, &old), Difference::default());
        let mut new = bundle();
        new.packages.insert("numpy".into(), "2.2.0".into());
        new.packages.insert("pandas".into(), "2.0".into());
        new.interpreter = None;
        let found = differences(&old, &new);
        let wanted = [
            line("interpreter", Some("python3.11"), None),
            line("numpy", Some("2.1.0"), Some("2.2.0")),
            line("pandas", None, Some("2.0")),
        ];
        assert_eq!(found.packages, wanted);
        assert_eq!(Difference { packages: Vec::new(), ..found }, Difference::default());
        let mut new = bundle();
        new.files.remove(1);
        new.predict = Some("python3 serve.py".into());
        new.input.as_mut().unwrap().columns[0].missing = true;
        let found = differences(&old, &new);
        assert_eq!(found.files, [line("b", Some(&Digest::of(b"b").to_string()), None)]);
        let names: Vec<&str> = found.use_of.iter().map(|l| l.name.as_str()).collect();
        assert_eq!(names, ["column lint", "predict"]);
        assert_eq!(found.use_of[0].to.as_deref(), Some("number, may be missing"));
    }
}
