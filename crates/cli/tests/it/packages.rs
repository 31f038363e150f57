//! Packages of an interpreter: those that were used count, and an environment whose files are kept is made again.

use std::path::PathBuf;

use textum_testkit::{Ran, Tiny};

use crate::TEXTUM;

/// A project with a virtual environment beside it, in which two made-up packages are installed.
struct Shed {
    around: tempfile::TempDir,
    tiny: Tiny,
}

impl Shed {
    fn new(keep: &str) -> Shed {
        let around = tempfile::Builder::new().prefix("textum-packages-").tempdir().unwrap();
        let tiny = Tiny::at(&around.path().join("project"));
        let shed = Shed { around, tiny };
        shed.shell("python3 -m venv --without-pip ../venv");
        shed.install("loomkit", "1.0", "FACTOR = 2\n");
        shed.install("idle", "1.0", "IDLE = 1\n");
        shed.tiny.manifest(&format!(
            "[environment]\npython = \"../venv/bin/python3\"\n{keep}\n[stage.fit]\nrun = \"python3 steps/fit.py\"\nreads = [\"steps/fit.py\"]\nwrites = [\"cloth\"]\n"
        ));
        shed.tiny.write("steps/fit.py", "import loomkit.parts\nopen('cloth', 'w').write(str(loomkit.parts.factor()))\n");
        shed
    }

    fn venv(&self) -> PathBuf {
        self.around.path().join("venv")
    }

    fn site(&self) -> PathBuf {
        let lib = std::fs::read_dir(self.venv().join("lib")).unwrap().flatten().next().unwrap().path();
        lib.join("site-packages")
    }

    /// Installs a package as an installer does: files, and a record of them.
    fn install(&self, name: &str, version: &str, text: &str) {
        let site = self.site();
        for entry in std::fs::read_dir(&site).unwrap().flatten() {
            if entry.file_name().to_string_lossy().starts_with(&format!("{name}-")) {
                std::fs::remove_dir_all(entry.path()).unwrap();
            }
        }
        let info = format!("{name}-{version}.dist-info");
        let files = [
            (format!("{name}/__init__.py"), text.to_string()),
            (format!("{name}/parts.py"), format!("from {name} import *\ndef factor():\n    return FACTOR\n")),
            (format!("{name}/data/table.csv"), "loom,factor\n".to_string()),
            (format!("{info}/METADATA"), format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n")),
        ];
        let mut record = format!("{info}/RECORD,,\n../../../bin/{name},,\n");
        for (path, text) in &files {
            std::fs::create_dir_all(site.join(path).parent().unwrap()).unwrap();
            std::fs::write(site.join(path), text).unwrap();
            record.push_str(&format!("{path},sha256=x,{}\n", text.len()));
        }
        std::fs::write(site.join(info).join("RECORD"), record).unwrap();
        let _ = std::fs::remove_dir_all(site.join(name).join("__pycache__"));
    }

    fn shell(&self, text: &str) -> Ran {
        self.tiny.textum("/bin/sh", &["-e", "-c", text]).expect(0)
    }

    fn textum(&self, words: &[&str]) -> Ran {
        let path = format!("{}:{}", self.venv().join("bin").display(), std::env::var("PATH").unwrap_or_default());
        self.tiny.textum_with(TEXTUM, words, &[("PATH", &path)])
    }
}

#[test]
fn packages_that_were_used_count_and_others_do_not() {
    let shed = Shed::new("");
    shed.textum(&["run"]).expect(0);
    assert_eq!(shed.tiny.read("cloth"), "2");
    shed.textum(&["trace", "cloth"]).expect(0).says("+ loomkit 1.0");
    shed.install("idle", "2.0", "IDLE = 22\n");
    shed.install("another", "0.1", "X = 1\n");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    // The same files under another version change nothing that is read.
    shed.install("loomkit", "1.1", "FACTOR = 2\n");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    shed.install("loomkit", "2.0", "FACTOR = 33\n");
    shed.textum(&["plan"]).expect(0).says("package loomkit 1.0 → 2.0");
    shed.textum(&["run"]).expect(0);
    assert_eq!(shed.tiny.read("cloth"), "33");
    // Edited in place, and back: the first of the two results is there again.
    std::fs::write(shed.site().join("loomkit/__init__.py"), "FACTOR = 444\n").unwrap();
    shed.textum(&["plan"]).expect(0).says("package loomkit 2.0 → 2.0, edited in place");
    std::fs::write(shed.site().join("loomkit/__init__.py"), "FACTOR = 33\n").unwrap();
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    std::fs::remove_dir_all(shed.site().join("loomkit")).unwrap();
    shed.textum(&["plan"]).expect(0).says("package loomkit");
    // All count where the manifest says so, used or not; only those named, where it names some.
    let shed = Shed::new("packages = \"all\"\n");
    shed.textum(&["run"]).expect(0);
    shed.install("idle", "2.0", "IDLE = 22\n");
    shed.textum(&["plan"]).expect(0).says("package idle 1.0 → 2.0");
    let shed = Shed::new("packages = [\"idle\"]\n");
    shed.textum(&["run"]).expect(0);
    shed.install("loomkit", "2.0", "FACTOR = 33\n");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
}

#[test]
fn a_model_is_rebuilt_after_its_environment_is_gone() {
    let shed = Shed::new("keep = \"files\"\n");
    shed.textum(&["run"]).expect(0);
    shed.install("loomkit", "2.0", "FACTOR = 33\n");
    // In the environment of now it is another; in the recorded one it is the same, without a network.
    shed.textum(&["rebuild", "cloth"]).expect(1).says("different").says("loomkit 1.0 → 2.0");
    std::fs::remove_dir_all(shed.venv()).unwrap();
    let rebuilt = shed.textum(&["rebuild", "cloth", "--environment", "recorded"]).expect(0);
    assert!(rebuilt.out.contains("identical") && rebuilt.out.contains("1 package, made again out of the store"), "{}", rebuilt.out);
    let made = shed.textum(&["restore", "last", "--environment", "../again", "--format", "json"]).expect(0).json();
    assert_eq!((made["packages"]["loomkit"].as_str(), made["kept"].as_bool()), (Some("1.0"), Some(true)));
    assert_eq!(shed.shell("../again/bin/python -c 'import loomkit.parts; print(loomkit.parts.factor())'").out, "2\n");
    shed.textum(&["restore", "last", "--environment", "../again"]).expect(2).warns("is not empty");
    shed.textum(&["verify", "--deep"]).expect(0);
    // Nothing that it takes is pruned.
    shed.textum(&["prune", "--newest", "0", "--yes"]).expect(0);
    shed.textum(&["rebuild", "last", "--environment", "recorded"]).expect(0).says("identical");
    // An interpreter that is nowhere is named.
    let shed = Shed::new("keep = \"files\"\n");
    shed.textum(&["run"]).expect(0);
    shed.textum(&["restore", "nothing", "--environment", "../x"]).expect(3);
    let bare = Tiny::with("[stage.s]\nrun = \"echo x > out\"\nwrites = [\"out\"]\n");
    crate::textum(&bare, &["run"]).expect(0);
    crate::textum(&bare, &["restore", "last", "--environment", "x"]).expect(3).warns("there is no environment to make");
    crate::textum(&Tiny::with("[environment]\nkeep = \"files\"\n"), &["plan"]).expect(2).warns("whose packages?");
}

/// Many libraries ask every installed package for its entry points. Another version that answers the same is no reason, and a
/// package of which nothing but its description was read is not called used.
#[test]
fn a_package_that_was_only_asked_for_its_entry_points_is_not_used_and_another_version_is_no_reason() {
    let shed = Shed::new("");
    let script = "import importlib.metadata as m, loomkit.parts\n\
                  names = sorted(e.name for e in m.entry_points(group='looms'))\n\
                  open('cloth', 'w').write(f'{names} {loomkit.parts.factor()}')\n";
    shed.tiny.write("steps/fit.py", script);
    let points = |name: &str, version: &str, text: &str| {
        let path = shed.site().join(format!("{name}-{version}.dist-info/entry_points.txt"));
        std::fs::write(path, format!("[looms]\n{text}\n")).unwrap();
    };
    points("idle", "1.0", "warp = idle:IDLE");
    shed.textum(&["run"]).expect(0);
    assert_eq!(shed.tiny.read("cloth"), "['warp'] 2");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    let trace = shed.textum(&["trace", "cloth"]).expect(0);
    assert!(trace.out.contains("loomkit 1.0") && !trace.out.contains("idle"), "{}", trace.out);
    shed.textum(&["runs", "--where", "used.idle = \"1.0\""]).expect(2).warns("no run has a parameter or metric `used.idle`");
    // The same entry points in another version, and the same files.
    shed.install("idle", "2.0", "IDLE = 2\n");
    points("idle", "2.0", "warp = idle:IDLE");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    shed.install("loomkit", "1.1", "FACTOR = 2\n");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    // Others count, and so does a file that was read.
    points("idle", "2.0", "weft = idle:IDLE");
    shed.textum(&["plan"]).expect(0).says("package idle 1.0 → 2.0");
    shed.install("idle", "1.0", "IDLE = 1\n");
    points("idle", "1.0", "warp = idle:IDLE");
    shed.textum(&["plan"]).expect(0).says("nothing to do");
    shed.install("loomkit", "1.1", "FACTOR = 3\n");
    shed.textum(&["plan"]).expect(0).says("package loomkit 1.0 → 1.1");
}
