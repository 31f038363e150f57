//! Sealed stages with the libraries that people use: each with caches as they are, and with none.

use std::path::{Path, PathBuf};
use std::process::Command;

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const STAGES: [(&str, &str); 7] = [
    (
        "sklearn",
        "from sklearn.linear_model import LogisticRegression as L; from sklearn.datasets import make_classification as m\n\
         X, y = m(random_state=1); print(L().fit(X, y).score(X, y), file=open('OUT', 'w'))",
    ),
    ("matplotlib", "import matplotlib.pyplot as p; p.plot([1, 2]); p.title('weft'); p.savefig('OUT', format='png')"),
    ("pandas", "import pandas; pandas.DataFrame({'a': [1, 2]}).to_parquet('OUT')"),
    (
        "lightgbm",
        "import lightgbm as l, numpy as n; X = n.random.default_rng(1).random((99, 3))\n\
         l.train({'verbose': -1, 'num_threads': 1}, l.Dataset(X, X[:, 0] > .5), 3).save_model('OUT')",
    ),
    ("sqlite3", "import sqlite3; c = sqlite3.connect('OUT'); c.execute('create table t(a)'); c.commit()"),
    ("h5py", "import h5py; h5py.File('OUT', 'w')['a'] = 1"),
    ("duckdb", "import duckdb; duckdb.connect('OUT').sql('create table t as select 1 a')"),
];

fn environment(python: &str, tiny: &Tiny) -> [(&'static str, String); 2] {
    let folder = Path::new(python).parent().unwrap().display();
    [("PATH", format!("{folder}:/usr/local/bin:/usr/bin:/bin")), ("HOME", tiny.path("home").display().to_string())]
}

fn run(tiny: &Tiny, python: &str, words: &[&str]) {
    let environment = environment(python, tiny);
    let environment: Vec<(&str, &str)> = environment.iter().map(|(name, value)| (*name, value.as_str())).collect();
    let ran = tiny.textum_with(TEXTUM, &[words, &["--format", "json"]].concat(), &environment).expect(0).json();
    for stage in ran["stages"].as_array().unwrap() {
        assert_eq!(stage["state"], "ran", "{stage:#}");
    }
}

/// A copy of the virtual environment without any compiled file.
fn cold(tiny: &Tiny, python: &str) -> PathBuf {
    let copy = tiny.path("environment");
    let installed = Path::new(python).parent().unwrap().parent().unwrap();
    std::fs::create_dir(&copy).unwrap();
    let copies = format!("tar -C {} --exclude=__pycache__ -cf - . | tar -C {} -xf -", installed.display(), copy.display());
    assert!(Command::new("sh").args(["-c", &copies]).status().unwrap().success());
    copy.join("bin/python3")
}

#[test]
fn libraries_work_sealed_with_their_caches_and_without() {
    let Ok(python) = std::env::var("TEXTUM_LIBRARIES") else {
        eprintln!("not run: TEXTUM_LIBRARIES names no Python with the libraries of tests/it/sealed_libraries.rs");
        return;
    };
    let tiny = Tiny::new();
    let mut manifest = "[params]\nround = 1\n".to_string();
    for (name, script) in STAGES {
        tiny.write(&format!("use_{name}.py"), script.replace("OUT", &format!("{name}.out")));
        manifest += &format!(
            "[stage.{name}]\nrun = \"python3 use_{name}.py\"\nreads = [\"use_{name}.py\"]\nwrites = [\"{name}.out\"]\nparams = [\"round\"]\nsealed = true\n"
        );
    }
    manifest += "[stage.notebook]\nrun = \"jupyter nbconvert --to notebook --execute n.ipynb --output out.ipynb\"\nreads = [\"n.ipynb\"]\n\
                 writes = [\"out.ipynb\"]\nparams = [\"round\"]\nsealed = true\n";
    let cell = "{\"cell_type\": \"code\", \"id\": \"a\", \"execution_count\": null, \"metadata\": {}, \"outputs\": [], \"source\": [\"print(6 * 7)\"]}";
    let kernel = "{\"kernelspec\": {\"display_name\": \"Python 3\", \"language\": \"python\", \"name\": \"python3\"}}";
    tiny.write("n.ipynb", format!("{{\"cells\": [{cell}], \"metadata\": {kernel}, \"nbformat\": 4, \"nbformat_minor\": 5}}"));
    manifest +=
        "[stage.r]\nrun = \"Rscript plot.R\"\nreads = [\"plot.R\"]\nwrites = [\"r.png\"]\nparams = [\"round\"]\nsealed = true\n";
    tiny.write("plot.R", "library(ggplot2); ggsave('r.png', ggplot(data.frame(x = 1:3, y = 1:3), aes(x, y)) + geom_point(), width = 3, height = 3)\n");
    tiny.manifest(&manifest);
    run(&tiny, &python, &["run"]);
    assert!(tiny.read("out.ipynb").contains("42"));
    textum(&tiny, &["trace", "r.png"]).expect(0).says("sealed: nothing else could be read");
    // The same with nothing compiled, and nowhere to write it.
    let cold = cold(&tiny, &python).display().to_string();
    let of_libraries: Vec<&str> = STAGES.iter().map(|(name, _)| *name).collect();
    run(&tiny, &cold, &[&["run", "--set", "round=2"], &of_libraries[..]].concat());
}

const HUB: &str = "import fcntl, os, sys
hub = sys.argv[1] + '/models--loom'
try: fcntl.flock(open(sys.argv[1] + '/.lock', 'a'), fcntl.LOCK_EX)
except OSError: pass
at = open(hub + '/refs/main').read()
open('out', 'w').write(open(hub + '/snapshots/' + at + '/model.bin').read())
";

/// A cache folder as hubs of models keep it: names are links to blobs, beside a lock file.
#[test]
fn a_cache_of_links_to_blobs_counts_and_can_be_declared_to_a_sealed_stage() {
    let (tiny, cache) = (Tiny::new(), tempfile::tempdir().unwrap());
    let at = |below: &str| cache.path().join("models--loom").join(below);
    for (below, text) in [("refs/main", "abc"), ("blobs/f00", "first"), ("blobs/f01", "other"), ("snapshots/abc/x", "")] {
        std::fs::create_dir_all(at(below).parent().unwrap()).unwrap();
        std::fs::write(at(below), text).unwrap();
    }
    let link = |blob: &str| {
        std::fs::remove_file(at("snapshots/abc/model.bin")).ok();
        std::os::unix::fs::symlink(format!("../../blobs/{blob}"), at("snapshots/abc/model.bin")).unwrap();
    };
    link("f00");
    let hub = cache.path().display();
    tiny.write("use.py", HUB);
    let stage = |more: &str| format!("[stage.use]\nrun = \"python3 use.py {hub}\"\nwrites = [\"out\"]\n{more}");
    tiny.manifest(&stage("reads = [\"use.py\"]\n"));
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["plan"]).expect(0).says("up-to-date");
    link("f01");
    textum(&tiny, &["plan"]).expect(0).says("1 of 1 stage would run");
    link("f00");
    textum(&tiny, &["plan"]).expect(0).says("up-to-date");
    std::fs::write(at("blobs/f00"), "edited").unwrap();
    textum(&tiny, &["plan"]).expect(0).says("1 of 1 stage would run");
    tiny.manifest(&stage("reads = [\"use.py\"]\nsealed = true\n"));
    textum(&tiny, &["run"]).expect(1).warns("refs/main").warns("hold = \"reference\"").warns("[observe] ignore");
    let declared = format!("reads = [\"use.py\", \"{hub}\"]\nsealed = true\n[data.hub]\npath = \"{hub}\"\nhold = \"reference\"\n");
    tiny.manifest(&stage(&format!("{declared}[observe]\nignore = [\"{hub}/.lock\"]\n")));
    textum(&tiny, &["run"]).expect(0).says("use  ran");
    assert_eq!(tiny.read("out"), "edited");
}

const TORCH: &str = "import torch as t; t.manual_seed(1); m = t.nn.Linear(3, 1); o = t.optim.SGD(m.parameters(), lr=.1)
x = t.arange(30.).reshape(10, 3) / 30
for b, in t.utils.data.DataLoader(t.utils.data.TensorDataset(x), batch_size=5, num_workers=2):
    o.zero_grad(); ((m(b) - b.sum(1, keepdim=True)) ** 2).mean().backward(); o.step()
t.save(m.state_dict(), 'torch.out')
";

/// Installed for the system's own Python, in the older form that names only modules: it counts as a package all the same.
#[test]
fn torch_works_sealed_with_compiled_files_and_without_and_counts() {
    let Ok(python) = std::env::var("TEXTUM_TORCH") else {
        eprintln!("not run: TEXTUM_TORCH names no Python of the system with torch");
        return;
    };
    let tiny = Tiny::new();
    tiny.write("use_torch.py", TORCH);
    let manifest = |python: &str| {
        let run = format!("run = \"{python} use_torch.py\"\n");
        format!("[stage.torch]\n{run}reads = [\"use_torch.py\"]\nwrites = [\"torch.out\"]\nsealed = true\n")
    };
    tiny.manifest(&manifest(&python));
    textum(&tiny, &["run"]).expect(0).says("torch  ran");
    textum(&tiny, &["rebuild", "torch.out"]).expect(0).says("identical").says("sealed");
    textum(&tiny, &["trace", "torch.out"]).expect(0).says("sealed: nothing else could be read");
    let traced = textum(&tiny, &["trace", "torch.out", "--format", "json"]).expect(0).json();
    let groups = traced["observed"][0]["groups"].as_array().unwrap();
    assert!(groups.iter().any(|g| g["kind"] == "package" && g["name"] == "torch" && g["counts"] == true), "{groups:#?}");
    // An environment of links to the same files, without what is compiled beside them.
    let tree = tempfile::tempdir().unwrap();
    let cold =
        "\"$0\" -m venv --without-pip \"$1\" && cd \"$1\"/lib/python3*/site-packages && cp -rs /usr/lib/python3/dist-packages/* .
        find . -name __pycache__ -prune -exec rm -r {} +";
    assert!(Command::new("sh").args(["-c", cold, &python]).arg(tree.path().join("cold")).status().unwrap().success());
    let cold = tree.path().join("cold/bin/python3").display().to_string();
    tiny.manifest(&manifest(&cold));
    let advice = format!("[environment] python = {cold:?}");
    textum(&tiny, &["run"]).expect(1).warns(&advice);
    tiny.manifest(&format!("{advice}\n{}", manifest(&cold)).replacen("] python", "]\npython", 1));
    textum(&tiny, &["run"]).expect(0).says("torch  ran");
}
