//! What a file's metadata says of its content having changed, and when that can be trusted.

use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::time::Duration;

/// The part of a file's metadata that changes when its content does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Stat {
    /// Size in bytes.
    pub size: u64,
    /// Time of the last change of content, in nanoseconds since 1970.
    pub mtime: i64,
    /// Time of the last change of content or metadata, in nanoseconds since 1970.
    pub ctime: i64,
    /// Inode number.
    pub inode: u64,
}

/// Two changes within this time may bear the same time stamp: file systems stamp with the clock of the
/// last timer tick (up to 10 ms apart), some only with whole seconds.
const GRAIN: i64 = 20_000_000;
const COARSE_GRAIN: i64 = 2_000_000_000;
/// Content may still be on its way to the disk for this long (Linux writes it back after 30 s).
const SETTLED: i64 = 60_000_000_000;

impl Stat {
    /// From a file's metadata.
    pub fn of(meta: &Metadata) -> Stat {
        let nanos = |seconds: i64, rest: i64| seconds.saturating_mul(1_000_000_000).saturating_add(rest);
        Stat {
            size: meta.size(),
            mtime: nanos(meta.mtime(), meta.mtime_nsec()),
            ctime: nanos(meta.ctime(), meta.ctime_nsec()),
            inode: meta.ino(),
        }
    }

    /// From what `fstatat` gives.
    pub fn of_raw(stat: &rustix::fs::Stat) -> Stat {
        let nanos = |seconds: i64, rest: u64| seconds.saturating_mul(1_000_000_000).saturating_add(rest as i64);
        Stat {
            size: stat.st_size as u64,
            mtime: nanos(stat.st_mtime, stat.st_mtime_nsec),
            ctime: nanos(stat.st_ctime, stat.st_ctime_nsec),
            inode: stat.st_ino,
        }
    }

    /// The later of its two times.
    pub fn last_change(&self) -> i64 {
        self.mtime.max(self.ctime)
    }

    fn grain(&self) -> i64 {
        let whole = |t: i64| t % 1_000_000_000 == 0;
        if whole(self.mtime) && whole(self.ctime) { COARSE_GRAIN } else { GRAIN }
    }

    /// Whether the file could be changed after `observed` (nanoseconds since 1970, when reading it
    /// began) without its time stamps showing it.
    pub fn is_racy(&self, observed: i64) -> bool {
        self.last_change() >= observed.saturating_sub(self.grain())
    }

    /// Whether the content has surely reached the disk, so that it survives a lost machine.
    pub fn is_settled(&self, now: i64) -> bool {
        self.last_change() < now.saturating_sub(SETTLED)
    }

    /// How long to wait until the time stamps can be trusted; at most a few hundredths of a second.
    pub fn until_trusted(&self, now: i64) -> Duration {
        let missing = self.last_change().saturating_add(GRAIN + 1_000_000).saturating_sub(now);
        Duration::from_nanos(missing.clamp(0, 2 * GRAIN) as u64)
    }
}

/// Nanoseconds since 1970, by the system's clock.
pub fn now_nanos() -> i64 {
    textum_base::clock::nanoseconds()
}

/// Names the current boot of the machine; empty where the system does not say.
pub fn boot_id() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").map(|s| s.trim().to_string()).unwrap_or_default()
}
