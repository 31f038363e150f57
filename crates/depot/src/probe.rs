//! What a depot's storage really does, found out by trying.

use std::time::Instant;

use bytes::Bytes;
use jiff::Timestamp;

use super::storage::{Fault, Storage, StorageError};

/// Size of what is written and read to measure the rate, in bytes.
const SAMPLE: usize = 4 << 20;
/// So many ask for the same new name at once.
const RACERS: usize = 8;

/// What was found.
#[derive(Clone, Debug, PartialEq)]
pub struct Probe {
    /// Whether it can be read.
    pub reads: bool,
    /// Whether it can be written; why not otherwise.
    pub writes: Result<(), String>,
    /// Whether an object is made only if there is none of its name, by one alone of many who try.
    pub only_if_absent: Option<bool>,
    /// By how many seconds its clock is ahead of this machine's, where it tells.
    pub clock_ahead: Option<f64>,
    /// Bytes a second, written.
    pub write_rate: Option<f64>,
    /// Bytes a second, read.
    pub read_rate: Option<f64>,
    /// Seconds that a small request takes.
    pub seconds_per_request: f64,
}

/// Tries reading, writing, creating only if absent, the clock and the rate. What is written is removed again. An error means
/// that it cannot even be read.
pub fn probe(storage: &dyn Storage) -> Result<Probe, StorageError> {
    let began = Instant::now();
    let reach = |e: StorageError| StorageError { action: "reach", path: "the depot".to_string(), ..e };
    storage.list("probe").map_err(reach)?;
    let seconds_per_request = began.elapsed().as_secs_f64();
    let mut found = Probe {
        reads: true,
        writes: Ok(()),
        only_if_absent: None,
        clock_ahead: None,
        write_rate: None,
        read_rate: None,
        seconds_per_request,
    };
    let folder = format!("probe/{:016x}", rand::random::<u64>());
    let sample = format!("{folder}/sample");
    let bytes = random_bytes();
    let began = Instant::now();
    if let Err(e) = storage.put(&sample, &bytes) {
        if e.fault == Fault::Temporary {
            return Err(e);
        }
        found.writes = Err(e.to_string());
        return Ok(found);
    }
    found.write_rate = Some(SAMPLE as f64 / began.elapsed().as_secs_f64());
    let now = textum_base::clock::now();
    let began = Instant::now();
    let read = storage.read(&sample)?;
    found.read_rate = Some(SAMPLE as f64 / began.elapsed().as_secs_f64());
    if read != bytes {
        found.writes = Err("what was written came back as something else".to_string());
    }
    let modified = storage.list(&folder)?.into_iter().find(|o| o.path == sample).and_then(|o| o.modified);
    found.clock_ahead = modified.map(|at: Timestamp| at.duration_since(now).as_secs_f64());
    found.only_if_absent = Some(one_alone_makes_it(storage, &folder)?);
    for object in storage.list(&folder)? {
        storage.delete(&object.path)?;
    }
    Ok(found)
}

/// A sample that nothing on the way makes smaller: the BLAKE3 stream of a random seed.
fn random_bytes() -> Bytes {
    let mut bytes = vec![0; SAMPLE];
    blake3::Hasher::new().update(&rand::random::<[u8; 32]>()).finalize_xof().fill(&mut bytes);
    bytes.into()
}

/// Whether of many who make one object at once a single one is told that it did, and its bytes are there.
fn one_alone_makes_it(storage: &dyn Storage, folder: &str) -> Result<bool, StorageError> {
    let first = format!("{folder}/first");
    if !storage.put_new(&first, b"1")? || storage.put_new(&first, b"2")? || storage.read(&first)? != b"1" {
        return Ok(false);
    }
    for round in 0..3 {
        let path = format!("{folder}/race-{round}");
        let results: Vec<Result<bool, StorageError>> = std::thread::scope(|scope| {
            let racers: Vec<_> = (0..RACERS)
                .map(|racer| {
                    let path = &path;
                    scope.spawn(move || storage.put_new(path, format!("racer {racer}").as_bytes()))
                })
                .collect();
            racers.into_iter().filter_map(|racer| racer.join().ok()).collect()
        });
        let mut winners = Vec::new();
        for (racer, result) in results.into_iter().enumerate() {
            if result? {
                winners.push(racer);
            }
        }
        if winners.len() != 1 || storage.read(&path)? != format!("racer {}", winners[0]).as_bytes() {
            return Ok(false);
        }
    }
    Ok(true)
}
