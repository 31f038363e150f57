//! An index: which entry stands in which pack, and where. A few of them tell of a whole depot.
//!
//! ```text
//! index  := "textum dindx @1\0" packs:u64 entries:u64 pack[packs] record[entries] check:[32]
//! pack   := name:[32] salt:u32 0:u32 length:u64                                              (48 bytes)
//! record := digest:[32] kind:u8 coding:u8 0:u16 stored_len:u32 raw_len:u32 pack:u32 offset:u64   (56 bytes)
//! ```
//!
//! Records are sorted by digest, then kind, then pack. `check` is the BLAKE3 of everything before it; an index is named
//! by the BLAKE3 of all its bytes.

use textum_store::{Digest, EntryHead, Kind, MAX_RAW, Record, coding_from, kind_from};

use super::layout::PackName;

const INDEX_HEAD: [u8; 16] = *b"textum dindx @1\0";
const START: usize = 32;
const PACK_LEN: usize = 48;
const RECORD_LEN: usize = 56;
/// Length of an entry's head in a pack.
const HEAD_LEN: u64 = 64;

/// A pack that an index speaks of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PackAt {
    /// Its name.
    pub name: PackName,
    /// Its length in bytes.
    pub length: u64,
}

/// An entry and where it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntryAt {
    /// Its pack.
    pub pack: PackAt,
    /// Its head, and where that begins.
    pub record: Record,
}

/// An index that was found whole; its records are read when they are asked for.
pub struct Index {
    bytes: Vec<u8>,
    packs: usize,
    entries: usize,
}

fn number(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_le_bytes)
}

fn short_number(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes)
}

fn digest_at(bytes: &[u8], at: usize) -> Digest {
    let mut digest = [0; 32];
    digest.copy_from_slice(&bytes[at..at + 32]);
    Digest::from_bytes(digest)
}

impl Index {
    /// An index out of its bytes; what is wrong with them otherwise.
    pub fn of(bytes: Vec<u8>) -> Result<Index, &'static str> {
        if bytes.len() < START + 32 || bytes[..16] != INDEX_HEAD {
            return Err("it is not an index, or one of a newer format");
        }
        let (packs, entries) = (number(&bytes, 16), number(&bytes, 24));
        let length = packs
            .checked_mul(PACK_LEN as u64)
            .and_then(|p| entries.checked_mul(RECORD_LEN as u64)?.checked_add(p)?.checked_add(START as u64 + 32));
        if length != Some(bytes.len() as u64) {
            return Err("it has another length than it says");
        }
        let (body, check) = bytes.split_at(bytes.len() - 32);
        if blake3::hash(body).as_bytes()[..] != *check {
            return Err("its bytes are not those that were written");
        }
        let index = Index { packs: packs as usize, entries: entries as usize, bytes };
        let sound = (0..index.entries).all(|at| index.entry(at).is_some());
        if sound { Ok(index) } else { Err("one of its entries is none") }
    }

    /// How many entries it has.
    pub fn len(&self) -> usize {
        self.entries
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.entries == 0
    }

    /// The packs that it speaks of.
    pub fn packs(&self) -> impl Iterator<Item = PackAt> + '_ {
        (0..self.packs).filter_map(|at| self.pack(at))
    }

    fn pack(&self, at: usize) -> Option<PackAt> {
        let start = START + at * PACK_LEN;
        let bytes = self.bytes.get(start..start + PACK_LEN).filter(|_| at < self.packs)?;
        Some(PackAt { name: PackName { name: digest_at(bytes, 0), salt: short_number(bytes, 32) }, length: number(bytes, 40) })
    }

    fn record_bytes(&self, at: usize) -> Option<&[u8]> {
        let start = START + self.packs * PACK_LEN + at * RECORD_LEN;
        self.bytes.get(start..start + RECORD_LEN).filter(|_| at < self.entries)
    }

    /// An entry by its number.
    pub fn entry(&self, at: usize) -> Option<EntryAt> {
        let bytes = self.record_bytes(at)?;
        let entry = EntryHead {
            kind: kind_from(bytes[32])?,
            coding: coding_from(bytes[33])?,
            stored_len: short_number(bytes, 36),
            raw_len: short_number(bytes, 40),
            digest: digest_at(bytes, 0),
        };
        let pack = self.pack(short_number(bytes, 44) as usize)?;
        let offset = number(bytes, 48);
        // What would lie outside of its pack is nothing that could be asked for.
        let end = offset.checked_add(HEAD_LEN)?.checked_add(u64::from(entry.stored_len))?;
        (end <= pack.length && entry.raw_len <= MAX_RAW).then_some(EntryAt { pack, record: Record { entry, offset } })
    }

    /// All entries with this digest.
    pub fn find<'i>(&'i self, digest: &Digest) -> impl Iterator<Item = EntryAt> + 'i {
        let wanted = *digest.as_bytes();
        let (mut from, mut to) = (0, self.entries);
        while from < to {
            let middle = from + (to - from) / 2;
            match self.record_bytes(middle).is_some_and(|bytes| bytes[..32] < wanted[..]) {
                true => from = middle + 1,
                false => to = middle,
            }
        }
        (from..self.entries).map_while(move |at| self.record_bytes(at).filter(|b| b[..32] == wanted).and_then(|_| self.entry(at)))
    }
}

/// The bytes of an index of these entries. What is told twice stands in it once.
pub fn encode(mut entries: Vec<EntryAt>) -> Vec<u8> {
    let key = |e: &EntryAt| (e.record.entry.digest, e.record.entry.kind, e.pack.name, e.record.offset);
    entries.sort_unstable_by_key(key);
    entries.dedup_by_key(|e| key(e));
    let mut packs: Vec<PackAt> = entries.iter().map(|e| e.pack).collect();
    packs.sort_unstable();
    packs.dedup();
    let mut out = Vec::with_capacity(START + packs.len() * PACK_LEN + entries.len() * RECORD_LEN + 32);
    out.extend_from_slice(&INDEX_HEAD);
    out.extend_from_slice(&(packs.len() as u64).to_le_bytes());
    out.extend_from_slice(&(entries.len() as u64).to_le_bytes());
    for pack in &packs {
        out.extend_from_slice(pack.name.name.as_bytes());
        out.extend_from_slice(&pack.name.salt.to_le_bytes());
        out.extend_from_slice(&[0; 4]);
        out.extend_from_slice(&pack.length.to_le_bytes());
    }
    for EntryAt { pack, record } in &entries {
        let at = packs.binary_search(pack).unwrap_or(0) as u32;
        out.extend_from_slice(record.entry.digest.as_bytes());
        out.extend_from_slice(&[record.entry.kind as u8, record.entry.coding as u8, 0, 0]);
        out.extend_from_slice(&record.entry.stored_len.to_le_bytes());
        out.extend_from_slice(&record.entry.raw_len.to_le_bytes());
        out.extend_from_slice(&at.to_le_bytes());
        out.extend_from_slice(&record.offset.to_le_bytes());
    }
    let check = blake3::hash(&out);
    out.extend_from_slice(check.as_bytes());
    out
}

/// The bytes of a list of digests, with a line before that says of what: as of packs that are gone, or of entries that are
/// to go.
///
/// ```text
/// list := "textum dlist @1\0" count:u64 item_len:u64 item[count] check:[32]
/// ```
pub fn encode_list<const N: usize>(items: &[[u8; N]]) -> Vec<u8> {
    let mut out = LIST_HEAD.to_vec();
    out.extend_from_slice(&(items.len() as u64).to_le_bytes());
    out.extend_from_slice(&(N as u64).to_le_bytes());
    items.iter().for_each(|item| out.extend_from_slice(item));
    let check = blake3::hash(&out);
    out.extend_from_slice(check.as_bytes());
    out
}

const LIST_HEAD: [u8; 16] = *b"textum dlist @1\0";

/// The items of a list, if these bytes are one.
pub fn decode_list<const N: usize>(bytes: &[u8]) -> Option<Vec<[u8; N]>> {
    let (body, check) = bytes.split_at_checked(bytes.len().checked_sub(32)?)?;
    let sound = body.get(..16)? == LIST_HEAD && blake3::hash(body).as_bytes()[..] == *check && number(body, 24) == N as u64;
    let (items, rest) = body.get(32..).filter(|_| sound)?.as_chunks::<N>();
    (rest.is_empty() && items.len() as u64 == number(body, 16)).then(|| items.to_vec())
}

/// A pack's name as an item of a list.
pub fn pack_item(name: &PackName) -> [u8; 36] {
    let mut item = [0; 36];
    item[..32].copy_from_slice(name.name.as_bytes());
    item[32..].copy_from_slice(&name.salt.to_le_bytes());
    item
}

/// The pack's name in an item of a list.
pub fn item_pack(item: &[u8; 36]) -> PackName {
    PackName { name: digest_at(item, 0), salt: short_number(item, 32) }
}

/// Whether an entry holds content, or what stands for it: documents are found by their own packs.
pub fn is_content(kind: Kind) -> bool {
    kind != Kind::Document
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use textum_store::Coding;

    fn entry(number: u8, pack: u8, kind: Kind) -> EntryAt {
        let name = PackName { name: Digest::of(&[pack]), salt: u32::from(pack) };
        let digest = Digest::of(&[number, 1]);
        let head = EntryHead { kind, coding: Coding::Raw, stored_len: u32::from(number), raw_len: u32::from(number), digest };
        EntryAt { pack: PackAt { name, length: 9999 }, record: Record { entry: head, offset: u64::from(number) * 7 } }
    }

    proptest! {
        #[test]
        fn what_is_put_in_is_found_and_nothing_else(numbers in proptest::collection::vec((0u8..60, 0u8..4, any::<bool>()), 0..80)) {
            let kind = |chunk: bool| if chunk { Kind::Chunk } else { Kind::Parts };
            let entries: Vec<EntryAt> = numbers.iter().map(|(n, p, k)| entry(*n, *p, kind(*k))).collect();
            let index = Index::of(encode(entries.clone())).unwrap();
            for number in 0..60u8 {
                let digest = Digest::of(&[number, 1]);
                let found: Vec<EntryAt> = index.find(&digest).collect();
                let mut meant: Vec<EntryAt> = entries.iter().filter(|e| e.record.entry.digest == digest).copied().collect();
                meant.sort_by_key(|e| (e.record.entry.kind, e.pack.name));
                meant.dedup();
                prop_assert_eq!(found, meant);
            }
            prop_assert!(index.packs().count() <= 4);
        }
    }

    #[test]
    fn a_byte_that_was_changed_or_is_missing_is_noticed() {
        let bytes = encode(vec![entry(1, 0, Kind::Chunk), entry(2, 1, Kind::Parts)]);
        assert_eq!(Index::of(bytes.clone()).map(|i| i.len()), Ok(2));
        for at in 0..bytes.len() {
            let mut altered = bytes.clone();
            altered[at] ^= 1;
            assert!(Index::of(altered).is_err(), "byte {at}");
            assert!(Index::of(bytes[..at].to_vec()).is_err(), "{at} bytes");
        }
        let list = encode_list(&[[1u8; 36], [2; 36]]);
        assert_eq!(decode_list::<36>(&list).unwrap().len(), 2);
        assert_eq!(decode_list::<32>(&list), None);
        for at in 0..list.len() {
            assert_eq!(decode_list::<36>(&list[..at]), None);
        }
    }

    #[test]
    fn an_entry_that_would_lie_outside_of_its_pack_makes_an_index_none() {
        for (length, offset) in [(100, 90), (u64::MAX, u64::MAX - 10), (70, 20)] {
            let mut bad = entry(7, 0, Kind::Chunk);
            (bad.pack.length, bad.record.offset) = (length, offset);
            assert!(Index::of(encode(vec![bad])).is_err(), "{length} {offset}");
        }
    }

    #[test]
    fn names_go_through_lists() {
        let name = PackName { name: Digest::of(b"x"), salt: 7 };
        assert_eq!(item_pack(&pack_item(&name)), name);
    }
}
