//! What looking a digest up costs in a depot of many entries: indexes as many machines would write them, merged as they merge
//! them. `cargo run --release -p textum-depot --example scale -- ENTRIES ENTRIES_A_SYNC`.
#![allow(clippy::print_stdout, clippy::unwrap_used, clippy::disallowed_methods)]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;
use textum_depot::{
    Depot, DepotOptions, EntryAt, Interrupt, Memory, Object, PackAt, PackName, Storage, StorageError, encode_index,
};
use textum_store::{Coding, Digest, EntryHead, Kind, Record};

/// Storage that counts.
#[derive(Default)]
struct Counting {
    storage: Memory,
    requests: AtomicU64,
    read: AtomicU64,
    written: AtomicU64,
}

impl Counting {
    fn take(&self) -> (u64, u64, u64) {
        let take = |n: &AtomicU64| n.swap(0, Ordering::Relaxed);
        (take(&self.requests), take(&self.read), take(&self.written))
    }
}

impl Storage for Counting {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        let found = self.storage.list(folder)?;
        // Servers list a thousand names in an answer.
        self.requests.fetch_add(1 + found.len() as u64 / 1000, Ordering::Relaxed);
        Ok(found)
    }
    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        let bytes = self.storage.read(path)?;
        self.requests.fetch_add(1, Ordering::Relaxed);
        self.read.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        Ok(bytes)
    }
    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        self.requests.fetch_add(1, Ordering::Relaxed);
        self.storage.read_range(path, from, length)
    }
    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        self.requests.fetch_add(1, Ordering::Relaxed);
        self.written.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        self.storage.put(path, bytes)
    }
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        self.storage.put_new(path, bytes)
    }
    fn delete(&self, path: &str) -> Result<(), StorageError> {
        self.requests.fetch_add(1, Ordering::Relaxed);
        self.storage.delete(path)
    }
}

fn digest(number: u64) -> Digest {
    Digest::of(&number.to_le_bytes())
}

fn main() {
    let mut arguments = std::env::args().skip(1).map(|a| a.parse::<u64>().unwrap());
    let (entries, a_sync) = (arguments.next().unwrap_or(1_000_000), arguments.next().unwrap_or(2_000));
    let storage = Arc::new(Counting::default());
    // Nothing is kept between looks: each is that of a machine that knows nothing.
    let options = || DepotOptions {
        name: "team".into(),
        at: "(memory)".into(),
        project: "looms".into(),
        state: "/nowhere/depots".into(),
        jobs: 8,
        interrupt: Interrupt::default(),
    };
    let (depot, _) = Depot::open_or_create(storage.clone(), options(), "nobody@nowhere").unwrap();
    storage.take();
    let mut all = 0;
    let mut syncs = 0;
    while all < entries {
        let pack = PackAt { name: PackName::new(digest(all)), length: 32 << 20 };
        let of = |number: u64| {
            let head = EntryHead { kind: Kind::Chunk, coding: Coding::Raw, stored_len: 1, raw_len: 1, digest: digest(number) };
            EntryAt { pack, record: Record { entry: head, offset: number } }
        };
        let bytes = encode_index((all..all + a_sync).map(of).collect());
        let path = format!("index/0/all/{}.index", Digest::of(&bytes).hex());
        storage.put(&path, &bytes.into()).unwrap();
        depot.tidy().unwrap();
        all += a_sync;
        syncs += 1;
    }
    let (requests, read, written) = storage.take();
    println!("{all} entries by {syncs} syncs of {a_sync}");
    let each = |n: u64| n as f64 / f64::from(syncs);
    println!(
        "  each sync, merging included: {:.1} requests, {:.0} kB read, {:.0} kB written",
        each(requests),
        each(read) / 1e3,
        each(written) / 1e3
    );
    let files = storage.storage.list("index").unwrap();
    let largest = files.iter().map(|f| f.size).max().unwrap_or(0);
    let bytes = files.iter().map(|f| f.size).sum::<u64>();
    println!("  {} indexes, the largest {:.1} MB, {:.0} MB in all", files.len(), largest as f64 / 1e6, bytes as f64 / 1e6);
    for wanted in [1u64, 100, 10_000] {
        let fresh = Depot::open(storage.clone(), options()).unwrap();
        storage.take();
        let began = std::time::Instant::now();
        let digests: Vec<Digest> = (0..wanted).map(|n| digest(n * (all / wanted.max(1)))).collect();
        let found = fresh.has(&digests).unwrap().len();
        let (requests, read, _) = storage.take();
        println!(
            "  a machine that knows nothing looks up {wanted}: {requests} requests, {:.1} MB, {:.0} ms; {found} found",
            read as f64 / 1e6,
            began.elapsed().as_secs_f64() * 1e3
        );
    }
}
