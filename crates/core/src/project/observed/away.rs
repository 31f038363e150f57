//! A stage observed, and sealed if it is to be, on a machine that shares no folder with this one. This program, brought there,
//! is the tracer; it settles there what it saw, where the files are, and what it says is brought back with the outputs.
//!
//! Files of that machine are not held against those of this one: what was seen there is recorded, and told when it is asked for.

use std::ffi::OsString;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use serde::{Deserialize, Serialize};
use textum_observe::{End, Observation, Refused};

use super::files::FileDigests;
use super::ignore::Ignored;
use super::places::Places;
use super::seal::{can_seal, seal_of};
use super::settle::{Settled, Stage, settle};
use crate::fsio;
use crate::project::fingerprint::{MayStart, python, system};
use crate::record::receipt::{
    ENVIRONMENT, EnvironmentRecord, OBSERVED, ObservedInputs, ObservedKind, canonical, files_of_list, list_text,
};
use crate::store::{Digest, Writer};

/// The word by which this program is asked, on another machine, to execute a stage under its tracer.
pub const AWAY_WORD: &str = "__execute-a-stage-observed";

/// So much may be said of what one stage was seen to do, in bytes.
const MOST: u64 = 64 << 20;

/// What this program is told on the other machine of the stage that it executes: see [`Stage`].
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct AwayOrder {
    /// The paths that it declares to read.
    pub reads: Vec<String>,
    /// The paths that it brings forth.
    pub outputs: Vec<String>,
    /// The outputs of all stages.
    pub all_outputs: Vec<String>,
    /// Patterns of what does not count, beside those that never do.
    pub ignore: Vec<String>,
    /// The packages that count, if only some do.
    pub packages: Option<Vec<String>>,
    /// Whether libraries and data of the system count.
    pub count_system: bool,
    /// Whether it is sealed.
    pub sealed: bool,
    /// The interpreter that is declared, as it is called.
    pub interpreter: Option<String>,
}

/// What it says when the stage has ended.
#[derive(Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct SeenAway {
    /// Why nothing could be seen, if so.
    pub not_observed: Option<String>,
    /// Whether a stage can be sealed there.
    pub can_seal: bool,
    /// Why the stage was not executed: it is sealed, and that cannot be done there.
    pub cannot_seal: Option<String>,
    /// How the command ended.
    pub end: Option<End>,
    /// The document of observed inputs.
    pub inputs: Option<ObservedInputs>,
    /// The texts that it names: lists of files and entries of folders.
    pub texts: Vec<String>,
    /// What was refused because it was sealed.
    pub refused: Vec<Refused>,
    /// Files that somebody changed since they were opened.
    pub touched: Vec<String>,
    /// Sources whose compiled form was older than they are.
    pub stale: Vec<String>,
    /// The interpreter, its packages and the system there.
    pub environment: Option<EnvironmentRecord>,
    /// What could not be followed.
    pub not_whole: Vec<String>,
}

impl SeenAway {
    /// Nothing could be seen, for this reason.
    pub fn nothing(why: &str) -> SeenAway {
        SeenAway { not_observed: Some(why.to_string()), ..SeenAway::default() }
    }
}

/// On the other machine: executes a command in the current folder by the order in a file, and writes into `record` what was
/// seen. The exit status is the command's; an error says why it was not executed.
pub fn execute_observed(order: &Path, record: &Path, command: &[OsString]) -> Result<ExitCode, String> {
    let text = std::fs::read(order).map_err(|e| format!("{}: {e}", order.display()))?;
    let told: AwayOrder = serde_json::from_slice(&text).map_err(|e| format!("{}: {e}", order.display()))?;
    let root = std::env::current_dir().map_err(|e| format!("the folder to work in: {e}"))?;
    let folder = order.parent().unwrap_or(Path::new("/"));
    let variables = textum_base::environment::variables();
    let mut seal = None;
    if told.sealed {
        if !can_seal() {
            let why = "the kernel there has no Landlock (Linux 5.13 or later has it)".to_string();
            let said = format!("it is sealed, and that cannot be done here: {why}");
            write(record, &SeenAway { cannot_seal: Some(why), ..SeenAway::default() })?;
            return Err(said);
        }
        let allowed = seal_of(&root, folder, std::iter::empty(), interpreter(&told, &variables).as_deref(), &variables);
        let path = folder.join("seal.json");
        let text = serde_json::to_vec(&allowed).map_err(|e| e.to_string())?;
        fsio::write_derived(&path, &text).map_err(|e| e.to_string())?;
        seal = Some(path);
    }
    let raw = folder.join("traced.json");
    let end = textum_observe::run_traced(&raw, seal.as_deref(), command)?;
    let text = std::fs::read(&raw).map_err(|e| format!("{}: {e}", raw.display()))?;
    let observation: Observation = serde_json::from_slice(&text).map_err(|e| format!("{}: {e}", raw.display()))?;
    let said = seen(&told, observation, (&root, folder), &variables)?;
    let environment = Some(environment_there(&told, &root, &variables));
    write(record, &SeenAway { can_seal: can_seal(), environment, ..said })?;
    Ok(textum_observe::end_as(end))
}

fn write(record: &Path, seen: &SeenAway) -> Result<(), String> {
    let text = serde_json::to_vec(seen).map_err(|e| e.to_string())?;
    fsio::write_derived(record, &text).map_err(|e| e.to_string())
}

/// The environment of the machine that the stage was executed on.
fn environment_there(order: &AwayOrder, root: &Path, variables: &[(String, String)]) -> EnvironmentRecord {
    let declared = order.interpreter.as_deref();
    let asked = |command: &str| python(command, root, variables, None, MayStart::Anything).ok();
    EnvironmentRecord { r#type: ENVIRONMENT.to_string(), python: declared.and_then(asked), system: system() }
}

/// The interpreter that is declared, or else the Python that is found first on the path of programs.
fn interpreter(order: &AwayOrder, variables: &[(String, String)]) -> Option<PathBuf> {
    let path = variables.iter().find(|(name, _)| name == "PATH").map_or("", |(_, path)| path);
    let declared = order.interpreter.as_deref().filter(|name| name.starts_with('/') || !name.contains('/'));
    let names = declared.into_iter().chain(["python3", "python"]);
    // A whole path stays what it is.
    let of = |name| path.split(':').filter(|p| p.starts_with('/')).map(move |folder| Path::new(folder).join(name));
    names.flat_map(of).find(|program| program.is_file())
}

fn seen(
    order: &AwayOrder,
    observation: Observation,
    (root, folder): (&Path, &Path),
    variables: &[(String, String)],
) -> Result<SeenAway, String> {
    if let Some(why) = observation.not_observed {
        return Ok(SeenAway::nothing(&why));
    }
    let places = Places::new(root, variables);
    let stage = Stage {
        places: &places,
        ignored: &Ignored::new(&order.ignore),
        reads: order.reads.clone(),
        outputs: order.outputs.clone(),
        all_outputs: order.all_outputs.clone(),
        variables,
        program: std::env::current_exe().ok(),
        state: Some(folder.to_path_buf()),
        packages: order.packages.as_deref(),
        count_system: order.count_system,
        sealed: order.sealed,
        keep: None,
    };
    let settled = settle(&stage, &observation, &FileDigests::open(None), None).map_err(|e| e.to_string())?;
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).map_err(|_| "a name that is no text was not written as one".to_string());
    let lists = settled.lists.iter().map(|(_, files)| list_text(files));
    let texts = lists.chain(settled.entries).map(text).collect::<Result<_, _>>()?;
    Ok(SeenAway {
        end: observation.end,
        inputs: Some(settled.inputs),
        texts,
        refused: observation.refused,
        touched: settled.touched,
        stale: settled.stale,
        not_whole: observation.not_whole,
        ..SeenAway::default()
    })
}

/// What was said on the other machine, out of the file that was brought from there; nothing for what cannot be believed.
pub fn read_seen_away(path: &Path) -> Option<SeenAway> {
    let file = std::fs::File::open(path).ok().filter(|f| f.metadata().is_ok_and(|m| m.is_file()))?;
    let mut text = Vec::new();
    file.take(MOST + 1).read_to_end(&mut text).ok().filter(|read| *read as u64 <= MOST)?;
    let mut seen: SeenAway = serde_json::from_slice(&text).ok()?;
    if let Some(inputs) = &mut seen.inputs {
        // What lay in its folder and was not declared came about there, and went with it.
        inputs.groups.retain(|group| group.kind != ObservedKind::Project);
        let named: std::collections::HashMap<Digest, &String> = seen.texts.iter().map(|t| (Digest::of(t.as_bytes()), t)).collect();
        let is_whole = |list: &Digest, count: u64| {
            let files = named.get(list).and_then(|text| files_of_list(text.as_bytes()));
            files.is_some_and(|files| files.len() as u64 == count)
        };
        let is_one = inputs.r#type == OBSERVED
            && inputs.groups.iter().all(|group| is_whole(&group.list, group.files))
            && inputs.listed.iter().all(|folder| named.contains_key(&folder.entries));
        if !is_one {
            return None;
        }
    }
    if seen.environment.as_ref().is_some_and(|record| record.r#type != ENVIRONMENT) {
        return None;
    }
    Some(seen)
}

/// Takes what was seen on the other machine into the store.
pub fn take_in_seen(inputs: ObservedInputs, seen: &SeenAway, writer: Option<&Writer<'_>>) -> Result<Settled, super::SettleError> {
    let text = canonical(&inputs)?;
    let digest = match writer {
        Some(writer) => {
            let named = |digest: &Digest| {
                inputs.groups.iter().any(|g| g.list == *digest) || inputs.listed.iter().any(|l| l.entries == *digest)
            };
            for text in seen.texts.iter().filter(|text| named(&Digest::of(text.as_bytes()))) {
                writer.put_bytes(text.as_bytes())?;
            }
            writer.put_document(&text)?
        }
        None => Digest::of(&text),
    };
    let (touched, stale) = (seen.touched.clone(), seen.stale.clone());
    Ok(Settled {
        inputs,
        digest,
        kept: None,
        lists: Vec::new(),
        entries: Vec::new(),
        touched,
        undeclared: Vec::new(),
        made: Vec::new(),
        stale,
    })
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods)]

    use super::*;
    use crate::record::receipt::{ObservedFile, ObservedFolder, ObservedGroup};

    fn group(kind: ObservedKind, files: &[ObservedFile]) -> ObservedGroup {
        let list = Digest::of(&list_text(files));
        ObservedGroup {
            kind,
            name: String::new(),
            version: None,
            metadata: false,
            counts: true,
            files: files.len() as u64,
            size: 0,
            list,
        }
    }

    fn said() -> SeenAway {
        let file = |path: &str| ObservedFile { path: path.into(), exec: true, private: false, size: 1, digest: Digest::of(b"x") };
        let (programs, own) = (vec![file("/bin/a"), file("/bin/b")], vec![file("scratch")]);
        let entries = "a\nb/\n".to_string();
        let inputs = ObservedInputs {
            r#type: OBSERVED.into(),
            groups: vec![group(ObservedKind::Project, &own), group(ObservedKind::Program, &programs)],
            absent: Vec::new(),
            present: Vec::new(),
            listed: vec![ObservedFolder {
                path: "/srv".into(),
                entries: Digest::of(entries.as_bytes()),
                modules: false,
                without: Vec::new(),
            }],
            modules: Vec::new(),
            variables: Default::default(),
            network: Vec::new(),
            own_network: false,
            channels: Vec::new(),
            random: false,
            looks: Default::default(),
            attributes: Default::default(),
            links: Default::default(),
            times: Vec::new(),
            kept: Default::default(),
            state: Vec::new(),
            changed: Vec::new(),
            unseen: Vec::new(),
            processor: "loom".into(),
        };
        let list = |files: &[ObservedFile]| String::from_utf8(list_text(files)).unwrap();
        SeenAway { inputs: Some(inputs), texts: vec![list(&own), list(&programs), entries], ..SeenAway::default() }
    }

    /// Whatever comes from another machine, a document that names what did not come is none.
    #[test]
    fn what_was_said_there_is_taken_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("seen.json");
        let read = |text: &[u8]| {
            std::fs::write(&path, text).unwrap();
            read_seen_away(&path)
        };
        let whole = serde_json::to_vec(&said()).unwrap();
        let seen = read(&whole).unwrap();
        let kinds: Vec<_> = seen.inputs.unwrap().groups.iter().map(|g| g.kind).collect();
        assert_eq!(kinds, [ObservedKind::Program], "what lay in its own folder went with it");
        for lacks in [1, 2] {
            let mut seen = said();
            seen.texts.remove(lacks);
            assert_eq!(read(&serde_json::to_vec(&seen).unwrap()), None, "text {lacks} is not there");
        }
        let mut other = said();
        other.inputs.as_mut().unwrap().groups[1].files = 7;
        assert_eq!(read(&serde_json::to_vec(&other).unwrap()), None, "it says another number of files");
        let mut other = said();
        other.inputs.as_mut().unwrap().r#type = "textum/run@1".into();
        assert_eq!(read(&serde_json::to_vec(&other).unwrap()), None);
        for cut in [0, 1, whole.len() / 2, whole.len() - 1] {
            assert_eq!(read(&whole[..cut]), None, "cut off at {cut}");
        }
        assert_eq!(read_seen_away(folder.path()), None, "a folder");
        assert_eq!(read_seen_away(&folder.path().join("none")), None);
    }

    #[test]
    fn the_store_has_all_that_the_document_names_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let store = crate::store::Store::open(&folder.path().join("store"));
        let writer = store.writer().unwrap();
        let path = folder.path().join("seen.json");
        let mut all = said();
        all.texts.push("nobody speaks of this".into());
        std::fs::write(&path, serde_json::to_vec(&all).unwrap()).unwrap();
        let mut seen = read_seen_away(&path).unwrap();
        let settled = take_in_seen(seen.inputs.take().unwrap(), &seen, Some(&writer)).unwrap();
        writer.publish().unwrap();
        let inputs = ObservedInputs::load(&store, &settled.digest).unwrap();
        assert_eq!(inputs.groups[0].load_files(&store).unwrap().len(), 2);
        assert_eq!(store.read(&inputs.listed[0].entries).unwrap(), b"a\nb/\n");
        assert!(!store.contains(&Digest::of(b"nobody speaks of this")).unwrap());
    }

    #[test]
    fn the_interpreter_is_the_declared_one_where_it_is_there() {
        let folder = tempfile::tempdir().unwrap();
        let (a, b) = (folder.path().join("a"), folder.path().join("b"));
        for (at, name) in [(&a, "python"), (&b, "python3"), (&b, "loom-python")] {
            std::fs::create_dir_all(at).unwrap();
            std::fs::write(at.join(name), "").unwrap();
        }
        let variables = [("PATH".to_string(), format!("relative:{}:{}", a.display(), b.display()))];
        let of = |declared: Option<&str>| {
            let order = AwayOrder { interpreter: declared.map(str::to_string), ..AwayOrder::default() };
            interpreter(&order, &variables)
        };
        assert_eq!(of(None), Some(b.join("python3")));
        assert_eq!(of(Some("loom-python")), Some(b.join("loom-python")));
        assert_eq!(of(Some(".venv/bin/python")), Some(b.join("python3")), "one of the project's is not there");
        assert_eq!(of(Some(a.join("python").to_str().unwrap())), Some(a.join("python")));
        assert_eq!(of(Some("/nowhere/python")), Some(b.join("python3")));
    }
}
