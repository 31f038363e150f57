//! Observations into documents, and documents held against the present: without any tracer.

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use textum_base::SourcePath;
use textum_core::config::manifest::Trust;
use textum_core::observe::{Absent, Changed, Channel, ChannelKind, Link, Listed, Looked, Observation, Opened, Stamp};
use textum_core::project::fingerprint::ReasonKind;
use textum_core::project::observed::{FileDigests, Ignored, ObservedCheck, Places, Settled, Stage, World, settle};
use textum_core::record::receipt::{Content, ObservedFolder, ObservedGroup, ObservedInputs, ObservedKind};
use textum_core::store::{Digest, Store};

/// A project, a home folder and a store, all in one folder.
struct Shed {
    folder: tempfile::TempDir,
    store: Store,
    variables: Vec<(String, String)>,
}

impl Shed {
    fn new() -> Shed {
        let folder = tempfile::Builder::new().prefix("textum-settled-").tempdir().unwrap();
        for name in ["project/steps", "project/data", "project/.textum/runs", "home", "share"] {
            std::fs::create_dir_all(folder.path().join(name)).unwrap();
        }
        let store = Store::open(&folder.path().join("store"));
        let home = folder.path().join("home").display().to_string();
        Shed { folder, store, variables: vec![("HOME".into(), home), ("TZ".into(), "UTC".into())] }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    fn put(&self, below: &str, text: &str) {
        std::fs::create_dir_all(self.path(below).parent().unwrap()).unwrap();
        std::fs::write(self.path(below), text).unwrap();
    }

    fn opened(&self, below: &str) -> Opened {
        let meta = std::fs::metadata(self.path(below)).unwrap();
        let nanos = |seconds: i64, rest: i64| seconds * 1_000_000_000 + rest;
        let stamp = Stamp {
            size: meta.size(),
            mtime: nanos(meta.mtime(), meta.mtime_nsec()),
            ctime: nanos(meta.ctime(), meta.ctime_nsec()),
            inode: meta.ino(),
        };
        Opened { path: self.path(below).display().to_string(), stamp, linked: false, executed: false }
    }

    fn places(&self) -> Places {
        Places::new(&self.path("project"), &self.variables)
    }

    fn settle(&self, observation: &Observation) -> Settled {
        let (places, ignored) = (self.places(), Ignored::new(&["scratch/**".into()]));
        let stage = Stage {
            places: &places,
            ignored: &ignored,
            reads: vec!["data".into(), "steps/fit.py".into()],
            outputs: vec!["cloth".into()],
            all_outputs: vec!["cloth".into(), "yarn".into()],
            variables: &self.variables,
            program: Some(self.path("share/textum")),
            state: Some(self.path("project/.textum")),
            packages: None,
            count_system: false,
            sealed: false,
            keep: None,
        };
        let writer = self.store.writer().unwrap();
        let settled = settle(&stage, observation, &FileDigests::open(None), Some(&writer)).unwrap();
        writer.publish().unwrap();
        self.store.reload().unwrap();
        settled
    }

    fn check(&self, variables: &[(String, String)]) -> ObservedCheck {
        let files = Arc::new(FileDigests::open(None));
        ObservedCheck::new(self.places(), Ignored::new(&[]), vec!["cloth".into(), "yarn".into()], variables, files)
    }

    /// What has changed, in words.
    fn changes(&self, inputs: &ObservedInputs, world: World<'_>) -> Vec<String> {
        let found = self.check(&self.variables).changes(&self.store, inputs, world, None, 50).unwrap();
        found.into_iter().map(|r| r.name).collect()
    }
}

fn names(settled: &Settled, kind: ObservedKind) -> Vec<String> {
    let lists = settled.inputs.of_kind(kind).flat_map(|g| settled.lists.iter().filter(|(list, _)| *list == g.list));
    lists.flat_map(|(_, files)| files.iter().map(|f| f.path.clone())).collect()
}

fn absent(shed: &Shed, below: &str, looked_for: bool) -> Absent {
    Absent { path: shed.path(below).display().to_string(), looked_for, in_own: false }
}

fn looked(shed: &Shed, below: &str) -> Looked {
    Looked { path: shed.path(below).display().to_string(), size: None, exec: None }
}

fn changed(shed: &Shed, below: &str, existed: bool) -> Changed {
    Changed { path: shed.path(below).display().to_string(), existed, read: existed, seen: true, before: None, shared: false }
}

#[test]
fn everything_that_was_read_is_what_it_is_and_declared_things_are_not_told() {
    let shed = Shed::new();
    for name in ["project/steps/fit.py", "project/steps/units.py", "project/data/yarn.csv", "project/yarn", "project/scratch/a"] {
        shed.put(name, name);
    }
    for name in ["home/looms", "share/far", "share/textum", "project/.textum/ledger.db", "project/.git/HEAD", "home/.nv/kernel"] {
        shed.put(name, name);
    }
    let read = |names: &[&str]| names.iter().map(|n| shed.opened(n)).collect::<Vec<_>>();
    let mut opened = read(&["project/steps/fit.py", "project/steps/units.py", "project/data/yarn.csv", "project/yarn"]);
    opened.extend(read(&["project/scratch/a", "home/looms", "share/far", "share/textum", "project/.textum/ledger.db"]));
    opened.extend(read(&["project/.git/HEAD", "home/.nv/kernel"]));
    let observation = Observation {
        opened,
        looked_at: vec![looked(&shed, "project/steps"), looked(&shed, "project/yarn")],
        absent: vec![
            absent(&shed, "project/conf/maybe", true),
            absent(&shed, "project/data/more", false),
            absent(&shed, "project/cloth", true),
            absent(&shed, "home/.config/loom", true),
            absent(&shed, "home/.config/opened", false),
            absent(&shed, "home/plain", true),
        ],
        listed: vec![Listed { path: shed.path("project/steps").display().to_string(), for_modules: true, entries: None }],
        changed: vec![changed(&shed, "project/yarn", true)],
        network: vec!["10.0.0.7:80".into()],
        ..Observation::default()
    };
    let settled = shed.settle(&observation);
    assert_eq!(names(&settled, ObservedKind::Project), ["steps/units.py", "yarn"]);
    assert_eq!(settled.undeclared, ["steps/units.py", "yarn"]);
    let far = shed.path("share/far").display().to_string();
    assert_eq!(names(&settled, ObservedKind::Elsewhere), [far, "~/looms".to_string()]);
    assert_eq!(settled.inputs.absent, ["conf/maybe", "~/.config/opened", "~/plain"]);
    assert!(settled.inputs.present.is_empty(), "{:?}", settled.inputs.present);
    assert_eq!((settled.inputs.network.len(), settled.touched.len()), (1, 0));
    assert!(settled.inputs.listed[0].modules && settled.inputs.modules.contains(&"units".to_string()));
    // Files of the project are kept; those elsewhere are not.
    assert!(shed.store.contains(&Digest::of(b"project/steps/units.py")).unwrap());
    assert!(!shed.store.contains(&Digest::of(b"home/looms")).unwrap());
    assert_eq!(ObservedInputs::load(&shed.store, &settled.digest).unwrap(), settled.inputs);
    assert!(shed.changes(&settled.inputs, World::Tree).is_empty());
}

#[test]
fn each_change_is_told_and_none_that_changes_nothing() {
    let shed = Shed::new();
    for name in ["project/steps/units.py", "home/looms", "project/many/a"] {
        shed.put(name, "1");
    }
    let observation = Observation {
        opened: vec![shed.opened("project/steps/units.py"), shed.opened("home/looms")],
        looked_at: vec![looked(&shed, "project/many")],
        absent: vec![absent(&shed, "project/maybe", false)],
        listed: vec![Listed { path: shed.path("project/many").display().to_string(), for_modules: false, entries: None }],
        ..Observation::default()
    };
    let inputs = shed.settle(&observation).inputs;
    assert_eq!(inputs.present, ["many/"]);
    for (change, back, told) in [
        (("project/steps/units.py", Some("2")), Some("1"), "steps/units.py"),
        (("project/steps/units.py", None), Some("1"), "steps/units.py"),
        (("home/looms", Some("2")), Some("1"), "~/looms"),
        (("project/maybe", Some("x")), None, "maybe"),
        (("project/many/b", Some("x")), None, "many/b"),
    ] {
        let apply = |(name, text): (&str, Option<&str>)| match text {
            Some(text) => shed.put(name, text),
            None => std::fs::remove_file(shed.path(name)).unwrap(),
        };
        apply(change);
        assert_eq!(shed.changes(&inputs, World::Tree), [told], "{change:?}");
        apply((change.0, back));
        assert!(shed.changes(&inputs, World::Tree).is_empty(), "{change:?} and back");
    }
    shed.put("project/steps/more.py", "x");
    shed.put("project/yarn", "an output");
    assert!(shed.changes(&inputs, World::Tree).is_empty());
    let other = [shed.variables[0].clone(), ("TZ".to_string(), "Asia/Tokyo".to_string()), ("EDITOR".to_string(), "ed".to_string())];
    let found = shed.check(&other).changes(&shed.store, &inputs, World::Tree, None, 50).unwrap();
    assert_eq!(found.iter().map(|r| (r.kind, r.name.as_str())).collect::<Vec<_>>(), [(ReasonKind::Variable, "TZ")]);
    // Who somebody is counts on the machine where the result was made.
    let other: Vec<_> = shed.variables.iter().filter(|(name, _)| name != "HOME").cloned().collect();
    let told = |trust| shed.check(&other).changes(&shed.store, &inputs, World::Tree, trust, 50).unwrap();
    assert!(told(None).iter().any(|r| (r.kind, r.name.as_str()) == (ReasonKind::Variable, "HOME")));
    assert!(told(Some(Trust::Content)).iter().all(|r| r.kind != ReasonKind::Variable));
    // In a sandbox there is what is declared: no such module, no such folder.
    let declared: BTreeMap<SourcePath, Content> =
        [(SourcePath::new("steps/fit.py").unwrap(), Content::file(Digest::of(b""), 0))].into();
    let lacking = shed.changes(&inputs, World::Sandbox(&declared));
    assert!(lacking.contains(&"steps/units.py".to_string()) && lacking.contains(&"many/".to_string()), "{lacking:?}");
    assert_eq!(shed.check(&shed.variables).changes(&shed.store, &inputs, World::Sandbox(&declared), None, 1).unwrap().len(), 1);
}

#[test]
fn what_was_changed_since_it_was_opened_is_told() {
    let shed = Shed::new();
    shed.put("project/other", "1");
    let opened = shed.opened("project/other");
    shed.put("project/new", "1");
    std::fs::rename(shed.path("project/new"), shed.path("project/other")).unwrap();
    let settled = shed.settle(&Observation { opened: vec![opened.clone()], ..Observation::default() });
    assert_eq!(settled.touched, ["other"], "the same bytes in another file");
    std::fs::remove_file(shed.path("project/other")).unwrap();
    let settled = shed.settle(&Observation { opened: vec![opened], ..Observation::default() });
    assert_eq!(settled.touched, ["other"]);
}

/// Documents out of a repository are anybody's: they may lie, and must not lead anywhere or take for ever.
#[test]
fn a_document_that_lies_is_never_taken_for_unchanged() {
    let shed = Shed::new();
    shed.put("project/a", "1");
    let good = shed.settle(&Observation { opened: vec![shed.opened("project/a")], ..Observation::default() }).inputs;
    let writer = shed.store.writer().unwrap();
    let digest = Digest::of(b"1").hex();
    let endless = Path::new("/proc/kcore");
    for list in [
        String::new(),
        "nonsense\n".into(),
        format!("{digest} file 1 /dev/zero\n"),
        format!("{digest} file 1 {}\n", endless.display()),
        format!("{digest} file 1 ../../../../etc/hostname\n"),
        format!("{digest} file 1 \n"),
        format!("{digest} link 1 a\n"),
        format!("{digest} file 1 a\n{digest} file 1 gone\n"),
        format!("{digest} file 1 \\xff\\xzz\\\n"),
    ] {
        let list = writer.put_bytes(list.as_bytes()).unwrap().digest;
        let group = ObservedGroup { list, files: 2, ..good.groups[0].clone() };
        let inputs = ObservedInputs { groups: vec![group], ..good.clone() };
        writer.publish().unwrap();
        shed.store.reload().unwrap();
        assert!(!shed.changes(&inputs, World::Tree).is_empty());
    }
    let lost = ObservedGroup { list: Digest::of(b"nowhere"), ..good.groups[0].clone() };
    let inputs = ObservedInputs { groups: vec![lost], ..good.clone() };
    assert!(shed.check(&shed.variables).changes(&shed.store, &inputs, World::Tree, None, 5).is_err());
    let names = vec!["..".to_string(), "/".into(), String::new(), "~/../..".into(), "\\".into()];
    let inputs = ObservedInputs { absent: names.clone(), present: names, ..good };
    assert!(!shed.changes(&inputs, World::Tree).is_empty());
}

#[test]
fn what_is_outside_of_the_project_is_looked_for_once_in_a_moment_and_anew_in_the_next() {
    let shed = Shed::new();
    let observation = Observation {
        absent: vec![absent(&shed, "project/maybe", false), absent(&shed, "home/.looms", false)],
        ..Observation::default()
    };
    let inputs = shed.settle(&observation).inputs;
    assert_eq!(inputs.absent, ["maybe", "~/.looms"]);
    let check = shed.check(&shed.variables);
    let changes = || -> Vec<String> {
        let found = check.changes(&shed.store, &inputs, World::Tree, None, 50).unwrap();
        found.into_iter().map(|r| r.name).collect()
    };
    check.at_once(|| {
        assert!(changes().is_empty());
        shed.put("project/maybe", "x");
        shed.put("home/.looms", "x");
        assert_eq!(changes(), ["maybe"], "what stages may have written since is not remembered");
    });
    assert_eq!(changes(), ["maybe", "~/.looms"]);
    std::fs::remove_file(shed.path("home/.looms")).unwrap();
    assert_eq!(check.at_once(changes), ["maybe"], "nothing of the moment before is left");
}

/// What was only looked at counts by what was told of it, a link by what it leads to, and state by how it was found and left.
#[test]
fn looks_links_and_state_count_by_what_was_seen_of_them() {
    let shed = Shed::new();
    for name in ["project/size", "project/tool", "project/state", "project/a", "project/b", "project/cache"] {
        shed.put(name, "1");
    }
    std::os::unix::fs::symlink("a", shed.path("project/link")).unwrap();
    let text = |below: &str| shed.path(below).display().to_string();
    let before = Some(Digest::of(b"0"));
    let observation = Observation {
        looked_at: vec![
            Looked { size: Some(1), ..looked(&shed, "project/size") },
            Looked { exec: Some(false), ..looked(&shed, "project/tool") },
        ],
        links: vec![Link { path: text("project/link"), target: "a".into() }],
        changed: vec![Changed { before, ..changed(&shed, "project/state", true) }, changed(&shed, "project/cache", false)],
        times: vec![text("project")],
        random: true,
        channels: vec![Channel { kind: ChannelKind::Fifo, name: text("project/pipe") }],
        ..Observation::default()
    };
    let settled = shed.settle(&observation);
    let inputs = settled.inputs;
    assert_eq!(settled.made, ["cache"]);
    assert_eq!(ObservedInputs::load(&shed.store, &settled.digest).unwrap(), inputs);
    let unchecked = inputs.unchecked();
    assert_eq!((unchecked.times, unchecked.random, unchecked.channels[0].name.as_str()), (vec!["./".to_string()], true, "pipe"));
    let told =
        |what: &str| assert_eq!(shed.changes(&inputs, World::Tree), if what.is_empty() { vec![] } else { vec![what] }, "{what}");
    told("");
    shed.put("project/size", "2");
    told("");
    shed.put("project/size", "22");
    told("size");
    shed.put("project/size", "1");
    std::fs::set_permissions(shed.path("project/tool"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    told("tool");
    std::fs::set_permissions(shed.path("project/tool"), std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    std::fs::remove_file(shed.path("project/link")).unwrap();
    std::os::unix::fs::symlink("b", shed.path("project/link")).unwrap();
    told("link");
    std::fs::remove_file(shed.path("project/link")).unwrap();
    std::os::unix::fs::symlink("a", shed.path("project/link")).unwrap();
    for (state, is_told) in [("0", false), ("2", true), ("1", false)] {
        shed.put("project/state", state);
        told(if is_told { "state" } else { "" });
    }
    shed.put("project/cache", "2");
    told("cache");
    std::fs::remove_file(shed.path("project/cache")).unwrap();
    told("");
}

/// Outputs come and go: one that was none when a folder was listed, and one that is none any more, change nothing.
#[test]
fn a_listed_folder_is_the_same_whatever_is_declared_to_be_an_output() {
    let shed = Shed::new();
    for name in ["project/many/a", "project/many/made"] {
        shed.put(name, "1");
    }
    let list = Listed { path: shed.path("project/many").display().to_string(), for_modules: false, entries: None };
    let inputs = shed.settle(&Observation { listed: vec![list], ..Observation::default() }).inputs;
    let check = |outputs: &[&str], folder: &ObservedFolder| {
        let (files, outputs) = (Arc::new(FileDigests::open(None)), outputs.iter().map(|o| o.to_string()).collect());
        let check = ObservedCheck::new(shed.places(), Ignored::new(&[]), outputs, &shed.variables, files);
        let inputs = ObservedInputs { listed: vec![folder.clone()], ..inputs.clone() };
        check.changes(&shed.store, &inputs, World::Tree, None, 9).unwrap().len()
    };
    assert_eq!((check(&[], &inputs.listed[0]), check(&["many/made"], &inputs.listed[0])), (0, 0));
    let writer = shed.store.writer().unwrap();
    let entries = writer.put_bytes(b"a\n").unwrap().digest;
    writer.publish().unwrap();
    shed.store.reload().unwrap();
    let before = ObservedFolder { entries, without: vec!["made".into()], ..inputs.listed[0].clone() };
    assert_eq!((check(&[], &before), check(&["many/made"], &before)), (0, 0));
    shed.put("project/many/b", "1");
    assert_eq!((check(&[], &before), check(&["many/made"], &before)), (1, 1));
    // Entries that are lost are never taken for those that are there, not even for none.
    let lost = ObservedFolder { entries: Digest::of(b"nowhere"), ..before };
    assert_eq!(check(&["many/a", "many/b"], &lost), 1);
}
