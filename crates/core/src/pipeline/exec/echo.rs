//! What a stage prints, told line by line while it runs.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::event::{Event, EventSink};

/// How much of a log is read at a time.
const BITE: usize = 64 << 10;
/// So many bytes of a line are told.
const LONGEST: usize = 64 << 10;

/// Follows a log as it grows.
pub struct Echo {
    stage: String,
    log: PathBuf,
}

impl Echo {
    /// An echo of this log.
    pub fn start(stage: &str, log: &Path) -> Echo {
        Echo { stage: stage.to_string(), log: log.to_path_buf() }
    }

    /// Does something while telling of each line; returns when it is done and all has been told.
    pub fn during<T>(self, events: &dyn EventSink, work: impl FnOnce() -> T) -> T {
        let ended = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| self.follow(events, &ended));
            let result = work();
            ended.store(true, Ordering::SeqCst);
            result
        })
    }

    fn follow(&self, events: &dyn EventSink, ended: &AtomicBool) {
        let Ok(mut file) = File::open(&self.log) else { return };
        let mut rest = Vec::new();
        let tell = |line: &[u8]| {
            let line = String::from_utf8_lossy(line).trim_end_matches('\r').to_string();
            events.event(Event::Output { stage: self.stage.clone(), line });
        };
        let mut bite = vec![0; BITE];
        // The rest of a line that is too long to be told is passed over; the log has all of it.
        let mut passing = false;
        loop {
            let last = ended.load(Ordering::SeqCst);
            let Ok(read) = file.read(&mut bite) else { return };
            let mut new = &bite[..read];
            while let Some(end) = memchr::memchr(b'\n', new) {
                rest.extend_from_slice(&new[..end]);
                if !std::mem::take(&mut passing) {
                    tell(&rest[..rest.len().min(LONGEST)]);
                }
                rest.clear();
                new = &new[end + 1..];
            }
            if !passing {
                rest.extend_from_slice(new);
                if rest.len() > LONGEST {
                    let mut cut = rest[..LONGEST].to_vec();
                    cut.extend_from_slice(" … (the rest of this line is in the log)".as_bytes());
                    tell(&cut);
                    rest.clear();
                    passing = true;
                }
            }
            if read > 0 {
                continue;
            }
            if last {
                if !rest.is_empty() {
                    tell(&rest);
                }
                return;
            }
            std::thread::sleep(Duration::from_millis(30));
        }
    }
}
