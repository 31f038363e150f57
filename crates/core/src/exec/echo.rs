//! What a stage prints, told line by line while it runs.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use crate::event::{Event, EventSink};

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
        loop {
            let last = ended.load(Ordering::SeqCst);
            if file.read_to_end(&mut rest).is_err() {
                return;
            }
            while let Some(end) = memchr::memchr(b'\n', &rest) {
                tell(&rest[..end]);
                rest.drain(..=end);
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
