//! Sending content to a depot: only what it lacks, in packs.

use std::collections::{BTreeMap, HashSet};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use textum_store::{Digest, Kind, Pack, PackBuilder, Store};

use super::depot::{Depot, DepotError};
use super::index::{EntryAt, PackAt};
use super::layout::PackName;
use super::parallel::parallel;

/// A pack is sent when it has grown to this many bytes.
const FULL: u64 = 32 << 20;
/// So many packs are on their way at once: each is in memory as long.
const PACKS_AT_ONCE: usize = 3;
/// What has arrived is told of by an index after this time, so that it need not be sent again if the rest is cut off.
const TELL_AFTER: Duration = Duration::from_secs(20);
/// So many entries are read side by side, by so many.
const READ_TOGETHER: usize = 32;
const READERS: usize = 4;
/// So many digests are looked up together.
const TOGETHER: usize = 1 << 16;

/// What was sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sent {
    /// Contents that the depot lacked.
    pub contents: u64,
    /// Packs that were made of them.
    pub packs: u64,
    /// Bytes of these packs.
    pub bytes: u64,
    /// Contents that are not here either.
    pub not_here: u64,
}

/// What is to be sent, each entry after those that it names.
#[derive(Default)]
pub struct SendPlan {
    entries: Vec<Digest>,
    /// Contents among them that were asked for.
    pub contents: u64,
    /// Their bytes, before they are compressed.
    pub bytes: u64,
    /// Contents that are not here either.
    pub not_here: u64,
}

/// Hears how many bytes have travelled.
pub type Progress<'p> = &'p (dyn Fn(u64) + Sync);

impl Depot {
    /// What the depot lacks of these contents, as far as it is here. What is to go from the depot counts as lacking.
    pub fn plan_to_send(&self, store: &Store, contents: &[Digest]) -> Result<SendPlan, DepotError> {
        let mut plan = SendPlan::default();
        let mut met = HashSet::new();
        for some in contents.chunks(TOGETHER) {
            self.go_on()?;
            let lacking = self.lacking(store, some)?;
            let mut pieces = Vec::new();
            let mut wholes = Vec::new();
            for digest in lacking.into_iter().filter(|d| met.insert(*d)) {
                // Documents travel by themselves.
                if store.contains_document(&digest)? {
                    continue;
                }
                let Some(parts) = store.pieces_of(&digest)? else {
                    match store.has_outline(&digest)? {
                        true => plan.entries.push(digest),
                        false => plan.not_here += 1,
                    }
                    continue;
                };
                plan.contents += 1;
                if parts.iter().any(|part| part.digest != digest) {
                    pieces.extend(parts.iter().map(|part| (part.digest, u64::from(part.length))));
                    wholes.push(digest);
                } else {
                    plan.entries.push(digest);
                    plan.bytes += parts.iter().map(|part| u64::from(part.length)).sum::<u64>();
                }
            }
            let lacking: HashSet<Digest> =
                self.lacking(store, &pieces.iter().map(|(d, _)| *d).collect::<Vec<_>>())?.into_iter().collect();
            for (piece, length) in pieces {
                if lacking.contains(&piece) && met.insert(piece) {
                    plan.entries.push(piece);
                    plan.bytes += length;
                }
            }
            plan.entries.extend(wholes);
        }
        Ok(plan)
    }

    fn lacking(&self, store: &Store, digests: &[Digest]) -> Result<Vec<Digest>, DepotError> {
        let mut lacking = Vec::new();
        for some in digests.chunks(TOGETHER) {
            let there = self.find(some)?;
            for digest in some {
                let is_there = match there.get(digest).map(|e| e.record.entry.kind) {
                    None => false,
                    // The listing of a folder without its files is less than what may be here.
                    Some(Kind::Outline) => !store.contains(digest)?,
                    Some(_) => true,
                };
                if !is_there || self.is_marked(digest)? {
                    lacking.push(*digest);
                }
            }
        }
        Ok(lacking)
    }

    /// Sends what was planned. What arrived before an error stays, and need not be sent again.
    pub fn send(&self, store: &Store, plan: &SendPlan, progress: Progress<'_>) -> Result<Sent, DepotError> {
        let mut sent = Sent { contents: plan.contents, not_here: plan.not_here, ..Sent::default() };
        if plan.entries.is_empty() {
            return Ok(sent);
        }
        let arrived = Arrived::default();
        let (give, take) = crossbeam_channel::bounded::<(u64, Pack)>(0);
        let failure: Mutex<Option<DepotError>> = Mutex::default();
        let fail = |e: DepotError| {
            failure.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(e);
        };
        let has_failed = || failure.lock().unwrap_or_else(PoisonError::into_inner).is_some();
        std::thread::scope(|scope| {
            for _ in 0..PACKS_AT_ONCE.min(self.jobs()) {
                let take = take.clone();
                scope.spawn(|| {
                    for (number, pack) in take {
                        // Taken in vain after a failure, so that whoever makes packs is not left waiting.
                        if has_failed() {
                            continue;
                        }
                        if let Err(e) = self.send_pack(number, pack, &arrived, progress) {
                            fail(e);
                        }
                    }
                });
            }
            drop(take);
            if let Err(e) = self.make_packs(store, &plan.entries, |number, pack| !has_failed() && give.send((number, pack)).is_ok())
            {
                fail(e);
            }
            drop(give);
        });
        // What has arrived is told of whatever happened to the rest.
        let told = self.tell(&arrived, true);
        if let Some(e) = failure.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(e);
        }
        told?;
        let figures = arrived.state.into_inner().unwrap_or_else(PoisonError::into_inner);
        (sent.packs, sent.bytes) = (figures.next, figures.bytes);
        self.forget();
        Ok(sent)
    }

    /// Makes packs of entries in their order, until nobody takes them any more.
    fn make_packs(&self, store: &Store, entries: &[Digest], mut give: impl FnMut(u64, Pack) -> bool) -> Result<(), DepotError> {
        let (mut number, mut builder) = (0, PackBuilder::default());
        for some in entries.chunks(READ_TOGETHER) {
            self.go_on()?;
            let read = parallel(READERS, some, |digest| match store.content_entry(digest)? {
                Some(entry) => Ok::<_, DepotError>(Some(entry)),
                None => Ok(store.outline_entry(digest)?),
            })?;
            // One that has been dropped here since it was planned is not here.
            for entry in read.into_iter().flatten() {
                builder.push(&entry);
                if builder.length() >= FULL {
                    if !give(number, std::mem::take(&mut builder).finish()) {
                        return Ok(());
                    }
                    number += 1;
                }
            }
        }
        if !builder.is_empty() {
            give(number, builder.finish());
        }
        Ok(())
    }

    fn send_pack(&self, number: u64, pack: Pack, arrived: &Arrived, progress: Progress<'_>) -> Result<(), DepotError> {
        let name = PackName::new(pack.name);
        let at = PackAt { name, length: pack.bytes.len() as u64 };
        self.storage.put(&name.content_path(), &pack.bytes.into())?;
        progress(pack.records.iter().map(|r| u64::from(r.entry.raw_len)).sum());
        let entries = pack.records.into_iter().map(|record| EntryAt { pack: at, record }).collect();
        arrived.add(number, entries, at.length);
        self.tell(arrived, false)
    }

    /// Writes an index of what has arrived, in order: nothing is told of before what it names.
    fn tell(&self, arrived: &Arrived, at_last: bool) -> Result<(), DepotError> {
        let entries = arrived.take(at_last);
        self.write_index(entries)
    }
}

/// The packs that have arrived.
#[derive(Default)]
struct Arrived {
    state: Mutex<Arrivals>,
}

#[derive(Default)]
struct Arrivals {
    /// By their number: some arrive before others that were made earlier.
    waiting: BTreeMap<u64, Vec<EntryAt>>,
    /// Those before this number have all arrived.
    next: u64,
    untold: Vec<EntryAt>,
    told: Option<Instant>,
    bytes: u64,
}

impl Arrived {
    fn add(&self, number: u64, entries: Vec<EntryAt>, bytes: u64) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.waiting.insert(number, entries);
        state.bytes += bytes;
        loop {
            let next = state.next;
            let Some(entries) = state.waiting.remove(&next) else { return };
            state.untold.extend(entries);
            state.next += 1;
        }
    }

    fn take(&self, at_last: bool) -> Vec<EntryAt> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let began = *state.told.get_or_insert_with(Instant::now);
        if !at_last && began.elapsed() < TELL_AFTER {
            return Vec::new();
        }
        state.told = Some(Instant::now());
        std::mem::take(&mut state.untold)
    }
}
