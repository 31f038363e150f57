//! What the types cannot say: names, paths, parameters and needs that do not fit together.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;

use super::document::{Document, Step};
use super::each::Each;
use super::form::{EnvironmentUse, HoldForm, ManifestForm, PackagesForm, RunForm, StageForm};
use super::paths::{advice, parse_bytes};
use super::{
    Better, Command, DatasetDecl, Diagnostic, EnvironmentDecl, GateDecl, ModelDecl, Needs, NoValues, Packages, Params, PlaceDecl,
    StageDecl,
};
use textum_base::{DeclaredPath, PathFault, ProjectPath, SourcePath, StorageMode, is_within, overlap};

/// The manifest's parts once read, with whatever mistakes were met.
pub struct Checked {
    pub data: Vec<DatasetDecl>,
    pub stages: Vec<StageDecl>,
    pub without_values: Vec<NoValues>,
    pub places: Vec<PlaceDecl>,
    pub environment: EnvironmentDecl,
    pub models: Vec<ModelDecl>,
    pub gates: Vec<GateDecl>,
    pub mistakes: Vec<Diagnostic>,
}

/// What a manifest is checked with.
pub struct Given<'g> {
    pub params: &'g Params,
    /// Whether all parameters could be read; else one that is missing may be in a file that has been told of.
    pub all_params: bool,
    pub text: &'g str,
    /// The folder that it lies in.
    pub folder: &'g Path,
}

pub(super) struct Checker<'d, 't> {
    pub(super) document: &'d Document<'t>,
    pub(super) params: &'d Params,
    /// Whether all parameters could be read; else one that is missing may be in a file that has been told of.
    all_params: bool,
    /// The paths of the references, below which reads may be absolute.
    references: Vec<SourcePath>,
    /// The direction in which metrics get better, where declared.
    pub(super) better: BTreeMap<String, Better>,
    pub(super) mistakes: Vec<Diagnostic>,
}

/// Checks everything that needs no look at the disk, but for tables whose values make stages.
pub fn check(form: &ManifestForm, given: Given<'_>, document: &Document<'_>) -> Checked {
    let Given { params, all_params, text, folder } = given;
    let better = form.metric.iter().map(|(name, m)| (name.clone(), m.better)).collect();
    let mut checker = Checker { document, params, all_params, references: Vec::new(), better, mistakes: Vec::new() };
    checker.numbers(&form.params);
    let data = checker.data(form);
    let environment = checker.environment(form);
    let places = checker.places(form);
    let mut expanded = checker.expand(form, &data, text, folder);
    form.stage.keys().for_each(|name| checker.name("stage", name, "-_"));
    let any = form.stage.values().any(|s| s.each.is_some());
    let of_one = |(name, stage, each): (String, StageForm, Option<Each>)| {
        checker.own_each(&name, &stage, each.as_ref(), any);
        checker.stage(&name, &stage, form, each)
    };
    let stages: Vec<StageDecl> = std::mem::take(&mut expanded.stages).into_iter().map(of_one).collect();
    checker.writers(&stages);
    checker.checkpoints_apart(&stages);
    for name in form.metric.keys() {
        checker.name("metric", name, "._-/");
    }
    let models = form.model.iter().map(|(name, model)| checker.model(name, model, &stages, form, &expanded)).collect();
    let names: Vec<&str> = form.stage.keys().map(String::as_str).collect();
    let gates = form.gate.iter().enumerate().filter_map(|(i, gate)| checker.gate(i, gate, &names, &stages, &data)).collect();
    let without_values = expanded.without_values;
    if any {
        super::each::tell_once(&mut checker.mistakes);
    }
    Checked { data, stages, without_values, places, environment, models, gates, mistakes: checker.mistakes }
}

impl Checker<'_, '_> {
    pub(super) fn at(&self, steps: &[Step<'_>]) -> Range<usize> {
        self.document.place(steps)
    }

    pub(super) fn name(&mut self, kind: &str, name: &str, also: &str) {
        let fine = |c: char| c.is_ascii_alphanumeric() || also.contains(c);
        let starts_well = name.starts_with(|c: char| c.is_ascii_alphanumeric());
        if !starts_well || !name.chars().all(fine) {
            let span = self.document.key_place(&[kind, name]);
            self.mistakes.push(Diagnostic::new(
                span,
                format!("`{name}` cannot be the name of a {}", if kind == "data" { "dataset" } else { kind }),
                "has other characters than a name may have",
                "use letters, digits, `-` and `_`, beginning with a letter or digit",
            ));
        }
    }

    /// JSON has no NaN and no infinity, and a stage gets its parameters as JSON.
    fn numbers(&mut self, tables: &indexmap::IndexMap<String, serde_json::Value>) {
        fn visit(value: &serde_json::Value, path: &mut Vec<String>, out: &mut Vec<Vec<String>>) {
            match value {
                serde_json::Value::Null => out.push(path.clone()),
                serde_json::Value::Object(map) => {
                    for (key, below) in map {
                        path.push(key.clone());
                        visit(below, path, out);
                        path.pop();
                    }
                }
                serde_json::Value::Array(items) if items.iter().any(serde_json::Value::is_null) => out.push(path.clone()),
                _ => {}
            }
        }
        let mut bad = Vec::new();
        for (key, value) in tables {
            visit(value, &mut vec![key.clone()], &mut bad);
        }
        for path in bad {
            let mut steps = vec![Step::Key("params")];
            steps.extend(path.iter().map(|p| Step::Key(p)));
            self.mistakes.push(Diagnostic::new(
                self.at(&steps),
                format!("the parameter `{}` has no finite value", path.join(".")),
                "cannot be handed to a stage",
                "write a finite number, or a string that the script understands",
            ));
        }
    }

    /// A path that may be that of a reference.
    pub(super) fn source_path(&mut self, text: &str, steps: &[Step<'_>]) -> Option<SourcePath> {
        match self.references.iter().any(|r| r.as_str() == text) {
            true => self.path_by(SourcePath::tidied, text, steps, true),
            false => self.path(text, steps).map(SourcePath::from),
        }
    }

    pub(super) fn path(&mut self, text: &str, steps: &[Step<'_>]) -> Option<ProjectPath> {
        self.path_by(ProjectPath::tidied, text, steps, false)
    }

    fn path_by<P>(
        &mut self,
        read: impl Fn(&str) -> Result<P, PathFault>,
        text: &str,
        steps: &[Step<'_>],
        may_be_reference: bool,
    ) -> Option<P> {
        match read(text) {
            Ok(path) => Some(path),
            Err(fault) => {
                let (label, help) = advice(fault, may_be_reference);
                self.mistakes.push(Diagnostic::new(self.at(steps), format!("the path `{text}` {label}"), "this path", help));
                None
            }
        }
    }

    /// Whether a stage may write there: the manifest and its receipt are nobody's output.
    fn is_free(&mut self, path: &ProjectPath, steps: &[Step<'_>]) -> bool {
        let own = *path == *super::MANIFEST_NAME || *path == *textum_base::TREE_RECEIPT_NAME;
        if own {
            let title = format!("the path `{path}` is a document of Textum's own");
            self.mistakes.push(Diagnostic::new(self.at(steps), title, "this path", "write to another path"));
        }
        !own
    }

    fn data(&mut self, form: &ManifestForm) -> Vec<DatasetDecl> {
        let mut found: Vec<DatasetDecl> = Vec::new();
        for (name, data) in &form.data {
            self.name("data", name, "-_");
            let steps = [Step::Key("data"), Step::Key(name), Step::Key("path")];
            let hold = if data.hold == Some(HoldForm::Reference) { StorageMode::Reference } else { StorageMode::Store };
            let read = |text: &str| match hold {
                StorageMode::Reference => SourcePath::tidied(text),
                StorageMode::Store => ProjectPath::tidied(text).map(SourcePath::from),
            };
            let Some(path) = self.path_by(read, &data.path, &steps, true) else { continue };
            if hold == StorageMode::Reference {
                self.references.push(path.clone());
            }
            if let Some(other) = found.iter().find(|o| overlap(&o.path, &path)) {
                let first = self.at(&[Step::Key("data"), Step::Key(&other.name), Step::Key("path")]);
                let title = format!("the datasets `{}` and `{name}` overlap", other.name);
                let help = "give each dataset a path of its own, none inside another's";
                let mistake = Diagnostic::new(self.at(&steps), title, format!("`{path}` again"), help);
                self.mistakes.push(mistake.with(first, format!("`{}` is this path", other.name)));
            }
            for (i, column) in data.key.iter().enumerate().filter(|(i, c)| c.is_empty() || data.key[..*i].contains(c)) {
                let span = self.at(&[Step::Key("data"), Step::Key(name), Step::Key("key"), Step::At(i)]);
                let title = format!("`{column}` cannot be a column of the key of `{name}`");
                self.mistakes.push(Diagnostic::new(span, title, "empty, or named twice", "name each column of the key once"));
            }
            let (about, key) = (data.about.clone(), data.key.clone());
            let from = data.from.as_deref().and_then(|text| self.published(name, text, hold));
            let table = data.table.as_ref().map(|form| self.dialect(name, form)).unwrap_or_default();
            found.push(DatasetDecl { name: name.clone(), path, about, key, from, hold, table });
        }
        found
    }

    fn environment(&mut self, form: &ManifestForm) -> EnvironmentDecl {
        let declared = &form.environment;
        let files = declared
            .files
            .iter()
            .enumerate()
            .filter_map(|(i, text)| self.path(text, &[Step::Key("environment"), Step::Key("files"), Step::At(i)]));
        let files = files.collect();
        for (i, var) in declared.vars.iter().enumerate() {
            if var.is_empty() || var.contains(['=', '\0']) || var.starts_with("TEXTUM_") {
                let span = self.at(&[Step::Key("environment"), Step::Key("vars"), Step::At(i)]);
                let help = "name variables such as OMP_NUM_THREADS; TEXTUM_… are set by Textum itself";
                self.mistakes.push(Diagnostic::new(span, format!("`{var}` cannot be passed on"), "this variable", help));
            }
        }
        if declared.packages.is_some() && declared.python.is_none() {
            let span = self.document.key_place(&["environment", "packages"]);
            let help = "add `python = \"python3\"`, the interpreter that has the packages";
            self.mistakes.push(Diagnostic::new(span, "`packages` without an interpreter", "whose packages?", help));
        }
        let packages = match &declared.packages {
            None => Packages::Used,
            Some(PackagesForm::All(_)) => Packages::All,
            Some(PackagesForm::These(names)) => Packages::These(names.clone()),
        };
        if declared.keep.is_some() && declared.python.is_none() {
            let span = self.document.key_place(&["environment", "keep"]);
            let help = "add `python = \"python3\"`, the interpreter whose packages are to be kept";
            self.mistakes.push(Diagnostic::new(span, "`keep` without an interpreter", "whose packages?", help));
        }
        let keep = declared.keep.is_some();
        EnvironmentDecl {
            python: declared.python.clone(),
            packages,
            keep,
            vars: declared.vars.clone(),
            count_secrets: declared.count_secrets.unwrap_or(false),
            files,
        }
    }

    fn stage(&mut self, name: &str, form: &StageForm, all: &ManifestForm, each: Option<Each>) -> StageDecl {
        let key = Step::Key(name);
        let step = |field: &'static str, i: usize| [Step::Key("stage"), key, Step::Key(field), Step::At(i)];
        let mut reads = Vec::new();
        for (i, text) in form.reads.iter().enumerate() {
            let in_reference = self.references.iter().any(|r| is_within(text, r));
            let read = |text: &str| match in_reference {
                true => SourcePath::tidied(text),
                false => ProjectPath::tidied(text).map(SourcePath::from),
            };
            reads.extend(self.path_by(read, text, &step("reads", i), false));
        }
        let mut writes = Vec::new();
        for (i, text) in form.writes.iter().enumerate() {
            let path = self.path_by(DeclaredPath::tidied, text, &step("writes", i), false);
            writes.extend(path.filter(|p| self.is_free(&p.path, &step("writes", i))));
        }
        let mut metrics = Vec::new();
        for (i, text) in form.metrics.iter().enumerate() {
            let path = self.path(text, &step("metrics", i));
            metrics.extend(path.filter(|p| self.is_free(p, &step("metrics", i))));
        }
        let evaluation = form.evaluate.as_ref().and_then(|e| self.evaluation(name, e, form));
        let examination = form.examine.as_ref().and_then(|e| self.examination(name, e, form, all));
        reads.extend(examination.iter().flat_map(|e| e.paths().cloned()));
        if let Some(found) = &evaluation
            && let Ok(path) = ProjectPath::tidied(&found.predictions)
        {
            reads.push(path.into());
        }
        if form.writes.is_empty() && form.metrics.is_empty() {
            self.writes_nothing(name);
        }
        self.own_paths(name, &reads, &writes, &metrics);
        self.references_kept_apart(name, &reads, &writes, &metrics);
        self.stage_params(name, form);
        let run = match (&form.run, evaluation, examination) {
            (_, Some(evaluation), _) => Command::Evaluate(evaluation),
            (_, None, Some(examination)) => Command::Examine(examination),
            (Some(RunForm::Argv(words)), ..) => Command::Argv(words.clone()),
            (Some(RunForm::Shell(text)), ..) => Command::Shell(text.clone()),
            (None, ..) => Command::Shell(String::new()),
        };
        self.command(name, &run, form, each.as_ref());
        let place = [Step::Key("stage"), Step::Key(name), Step::Key("checkpoints")];
        let checkpoints = form.checkpoints.as_deref().and_then(|text| self.path(text, &place));
        let checkpoints = checkpoints.filter(|p| self.is_free(p, &place));
        reads.sort();
        reads.dedup();
        let own = form.evaluate.is_some() || form.examine.is_some();
        StageDecl {
            name: name.to_string(),
            each,
            run,
            reads,
            params: form.params.clone(),
            writes,
            metrics,
            checkpoints,
            stop_when: self.stop_rule(name, form),
            needs: self.needs(name, form),
            place: self.place_of(name, form, all),
            // Textum itself needs no interpreter.
            no_environment: form.environment == Some(EnvironmentUse::None) || own,
            observe: form.observe != Some(false) && !own,
            sealed: form.sealed == Some(true) && !own,
            reuse: form.reuse != Some(false),
        }
    }

    fn needs(&mut self, name: &str, form: &StageForm) -> Needs {
        let place = |field| [Step::Key("stage"), Step::Key(name), Step::Key("needs"), Step::Key(field)];
        if form.needs.cpus == Some(0) {
            let span = self.at(&place("cpus"));
            self.mistakes.push(Diagnostic::new(span, "a stage needs at least one processor", "0 here", "write 1 or more"));
        }
        let memory = form.needs.memory.as_deref().and_then(|text| {
            let bytes = parse_bytes(text);
            if bytes.is_none() {
                let span = self.at(&place("memory"));
                let help = "write a number and a unit, as in \"500MiB\" or \"2GiB\"";
                self.mistakes.push(Diagnostic::new(span, format!("`{text}` is no amount of memory"), "this amount", help));
            }
            bytes
        });
        let time = form.needs.time.as_deref().and_then(|text| {
            let seconds = super::rules::parse_time(text);
            if seconds.is_none() {
                let span = self.at(&place("time"));
                let help = "write a number and a unit, as in \"90s\", \"10m\" or \"1h30m\"";
                self.mistakes.push(Diagnostic::new(span, format!("`{text}` is no time"), "this time", help));
            }
            seconds
        });
        Needs { cpus: form.needs.cpus.unwrap_or(1).max(1), memory: memory.unwrap_or(0), gpus: form.needs.gpus.unwrap_or(0), time }
    }

    fn writes_nothing(&mut self, name: &str) {
        let span = self.document.key_place(&["stage", name]);
        let help = "add `writes = [\"…\"]` with the files it brings forth: without them nothing of it can be traced";
        self.mistakes.push(Diagnostic::new(span, format!("the stage `{name}` writes nothing"), "this stage", help));
    }

    fn own_paths(&mut self, name: &str, reads: &[SourcePath], writes: &[DeclaredPath], metrics: &[ProjectPath]) {
        let outputs = || writes.iter().map(|w| &w.path).chain(metrics);
        for output in outputs() {
            if let Some(read) = reads.iter().find(|r| overlap(r, output)) {
                let span = self.document.key_place(&["stage", name]);
                let title = format!("the stage `{name}` reads `{read}`, in which it writes itself");
                let help = "write to another path: what a stage reads must stay as it was";
                self.mistakes.push(Diagnostic::new(span, title, "this stage", help));
            }
        }
    }

    /// The bytes of a reference stay where they are: no stage may take them in with a folder around them,
    /// nor write there.
    fn references_kept_apart(&mut self, name: &str, reads: &[SourcePath], writes: &[DeclaredPath], metrics: &[ProjectPath]) {
        let around = |p: &&SourcePath| self.references.iter().any(|r| r != *p && is_within(r, p));
        let into = |p: &&ProjectPath| self.references.iter().any(|r| overlap(r, p));
        let (title, help) = match (reads.iter().find(around), writes.iter().map(|w| &w.path).chain(metrics).find(into)) {
            (_, Some(path)) => (
                format!("the stage `{name}` writes `{path}`, where a reference is"),
                "write to another path: the bytes of a reference are not recorded and could not come back",
            ),
            (Some(path), None) => (
                format!("the stage `{name}` reads `{path}`, which holds a reference and more"),
                "name the reference and the other files beside it one by one",
            ),
            (None, None) => return,
        };
        let span = self.document.key_place(&["stage", name]);
        self.mistakes.push(Diagnostic::new(span, title, "this stage", help));
    }

    fn stage_params(&mut self, name: &str, form: &StageForm) {
        for (i, selector) in form.params.iter().enumerate() {
            if self.all_params && self.params.select(selector).next().is_none() {
                let span = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("params"), Step::At(i)]);
                let help = match self.params.nearest(selector) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("add it to [params], as in `{selector} = …`, or to a file of `param_files`"),
                };
                let title = format!("there is no parameter `{selector}`");
                self.mistakes.push(Diagnostic::new(span, title, "this one", help));
            }
        }
    }
}
