//! Writes a log of many signed entries into a folder, for measuring: `cargo run --release -p textum-registry --example long_log --
//! FOLDER COUNT`.
#![allow(clippy::unwrap_used, clippy::disallowed_methods)]

use textum_base::{Digest, ProjectPath};
use textum_registry::entry::ENTRY;
use textum_registry::{Action, Bundle, BundleFile, Entry, Kind, Publication, Signer, envelope};

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let folder = std::path::Path::new(&words[0]).join("registry");
    std::fs::create_dir_all(&folder).unwrap();
    let key = ssh_key::PrivateKey::random(&mut ssh_key::rand_core::OsRng, ssh_key::Algorithm::Ed25519).unwrap();
    let signer = Signer::File(Box::new(key));
    let mut previous = None;
    for number in 1..=words[1].parse::<u64>().unwrap() {
        let digest = Digest::of(&number.to_le_bytes());
        let file = BundleFile {
            path: ProjectPath::new("build/model.json").unwrap(),
            digest,
            size: 1 << 20,
            executable: false,
            header: None,
        };
        let metrics = ["auc", "log_loss", "f1", "brier"].map(|name| (name.to_string(), serde_json::Number::from_f64(0.5).unwrap()));
        let packages = (0..30).map(|n| (format!("package-{n}"), format!("1.{n}.0")));
        let bundle = Bundle { files: vec![file], metrics: metrics.into(), packages: packages.collect(), ..Bundle::default() };
        let publication = Publication {
            name: "stop-predictor".into(),
            section: "common".into(),
            version: number,
            kind: Kind::Model,
            content: bundle.content(),
            bundle,
        };
        let entry = Entry {
            r#type: ENTRY.into(),
            number,
            previous,
            id: format!("{number:016x}"),
            at: "2026-11-26T10:00:00Z".into(),
            by: "ada@loom".into(),
            action: Action::Publish(Box::new(publication)),
        };
        let bytes = envelope::seal(&entry, Some(&signer)).unwrap();
        previous = Some(Digest::of(&bytes));
        std::fs::write(folder.join(format!("{number:010}.json")), bytes).unwrap();
    }
}
