//! Submitting: each job once, also when the answer is lost.

use std::path::{Path, PathBuf};
use std::sync::PoisonError;
use std::time::{Duration, Instant};

use super::engine::{Fault, Submission};
use super::job::Known;
use super::script::command_file;
use super::{BatchExecutor, PAUSES, SUBMITTED};
use crate::fsio::{self, IoError};
use crate::pipeline::executor::Job;

/// So long a submission is tried while the engine does not answer.
const PATIENCE: Duration = Duration::from_secs(600);
impl BatchExecutor {
    /// Its place has nothing of a job: whoever comes later need not ask for it.
    fn not_handed_over(&self, folder: &Path) -> IoError {
        let place = PathBuf::from(format!("[place.{}]", self.name));
        let stopped = std::io::Error::new(std::io::ErrorKind::Interrupted, "stopped before it was handed over");
        match fsio::remove_any(&folder.join(SUBMITTED)) {
            Ok(()) => IoError::of("submit a job to", &place)(stopped),
            Err(e) => e,
        }
    }

    /// Submits, once: an engine that does not answer is asked, when it does again, whether it has the job.
    pub(super) fn submit_named(&self, job: &Job, folder: &Path, name: &str) -> Result<Known, IoError> {
        // Before it is the engine's: whoever finds this process gone asks for it by this name.
        fsio::write_derived(&folder.join(SUBMITTED), name.as_bytes())?;
        // Its folder is private.
        fsio::write_derived(&folder.join(format!("{name}.command")), command_file(job).as_bytes())?;
        // A machine that is lost here must find its job there again.
        fsio::sync_files_of(folder)?;
        let one = || Submission { job: job.clone(), name: name.to_string(), folder: folder.to_path_buf() };
        let (begun, mut pause) = (Instant::now(), PAUSES.0);
        let engine = &self.shared.engine;
        let failed = |what: &str| self.failed("submit a job to", what);
        let given_up = |folder: &Path| self.given_up.lock().unwrap_or_else(PoisonError::into_inner).contains(folder);
        loop {
            if given_up(folder) {
                return Err(self.not_handed_over(folder));
            }
            let error = match self.gathering.submit(one(), |jobs| engine.submit(jobs), |folder| given_up(folder)) {
                Ok(number) => return Ok(Known::new(&number, name, folder.to_path_buf())),
                Err(Fault::Silent(error)) => error,
                // Given up while it waited for room.
                Err(Fault::Full(_)) => continue,
                Err(Fault::Refused(why) | Fault::TooMany(why)) => return Err(failed(&why)),
            };
            loop {
                if begun.elapsed() >= PATIENCE {
                    let minutes = PATIENCE.as_secs() / 60;
                    return Err(failed(&format!("it has not answered for {minutes} min: {error}")));
                }
                let is_given_up = given_up(folder);
                if !is_given_up {
                    std::thread::sleep(pause);
                    pause = (pause * 2).min(PAUSES.1);
                }
                match engine.find(name, folder) {
                    Ok(Some(number)) => return Ok(Known::new(&number, name, folder.to_path_buf())),
                    Ok(None) => break,
                    Err(_) if is_given_up => return Err(failed(&error)),
                    Err(_) => {}
                }
            }
        }
    }
}
