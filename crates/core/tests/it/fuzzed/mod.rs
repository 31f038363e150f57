//! The targets of the fuzzer (`fuzz/run`), each on its seeds, on what damage makes of these, and on bytes by chance: what has
//! been found once stays found, and the targets compile.

use std::path::Path;

use proptest::prelude::*;
use textum_testkit::many;

mod condition;
mod entry;
mod index;
mod listing;
mod manifest;
mod pack;
mod receipt;
mod signals;
mod table;

/// The seeds of a target.
fn seeds(name: &str) -> Vec<Vec<u8>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds").join(name);
    let Ok(files) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut paths: Vec<_> = files.map(|file| file.unwrap().path()).collect();
    paths.sort();
    paths.iter().map(|path| std::fs::read(path).unwrap()).collect()
}

/// Bytes by chance, or a seed of which pieces are changed, taken out, doubled or cut off.
fn input(name: &str) -> impl Strategy<Value = Vec<u8>> + use<> {
    let seeds = seeds(name);
    let damage = prop::collection::vec((any::<prop::sample::Index>(), 0_u8..5, any::<u8>(), 1_usize..40), 1..4);
    let by_chance = prop::collection::vec(any::<u8>(), 0..300);
    (any::<prop::sample::Index>(), damage, by_chance, any::<bool>()).prop_map(move |(which, damage, by_chance, plain)| {
        if seeds.is_empty() || plain {
            return by_chance;
        }
        let mut bytes = seeds[which.index(seeds.len())].clone();
        for (at, how, byte, length) in damage {
            let at = at.index(bytes.len().max(1)).min(bytes.len());
            let piece = at..(at + length).min(bytes.len());
            match how {
                0 if at < bytes.len() => bytes[at] = byte,
                1 => drop(bytes.drain(piece)),
                2 => {
                    let doubled = bytes[piece].to_vec();
                    bytes.splice(at..at, doubled);
                }
                3 => bytes.insert(at, byte),
                _ => bytes.truncate(at.max(1)),
            }
        }
        bytes
    })
}

fn fuzz(name: &str, target: impl Fn(&[u8])) {
    for seed in seeds(name) {
        target(&seed);
    }
    let cases = ProptestConfig::with_cases(many("TEXTUM_CASES", 400));
    proptest!(cases, |(bytes in input(name))| target(&bytes));
}

fn fuzz_text(name: &str, target: impl Fn(&str)) {
    fuzz(name, |bytes| target(&String::from_utf8_lossy(bytes)));
}

#[test]
fn conditions() {
    fuzz_text("condition", condition::target);
}

#[test]
fn entries() {
    fuzz("entry", entry::target);
}

#[test]
fn indexes() {
    fuzz("index", index::target);
}

#[test]
fn listings() {
    fuzz("listing", listing::target);
}

#[test]
fn manifests() {
    fuzz_text("manifest", manifest::target);
}

#[test]
fn packs() {
    fuzz("pack", pack::target);
}

#[test]
fn documents() {
    fuzz("receipt", receipt::target);
}

#[test]
fn signals_and_metrics() {
    fuzz_text("signals", signals::target);
}

#[test]
fn tables() {
    fuzz("table", table::target);
}
