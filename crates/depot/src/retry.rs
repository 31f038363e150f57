//! Trying again what failed for a reason that passes, with growing pauses.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;

use super::storage::{Fault, Object, Storage, StorageError};

/// The first pause; each is twice the one before, and some of it is left to chance so that many do not come at once.
const FIRST_PAUSE: Duration = Duration::from_millis(150);
/// So many tries.
const TRIES: u32 = 6;

/// Who waits is told by this that it is to end.
#[derive(Clone, Debug, Default)]
pub struct Interrupt(Arc<AtomicBool>);

impl Interrupt {
    /// Asks to end.
    pub fn ask(&self) {
        self.0.store(true, Ordering::SeqCst);
    }

    /// Whether somebody asked.
    pub fn is_asked(&self) -> bool {
        self.0.load(Ordering::SeqCst)
    }
}

/// Storage whose passing failures are tried again.
pub struct Retrying<S> {
    storage: S,
    interrupt: Interrupt,
    first_pause: Duration,
    retries: AtomicU64,
    at: String,
}

impl<S: Storage> Retrying<S> {
    /// Tries again until it is interrupted.
    pub fn new(storage: S, interrupt: Interrupt) -> Retrying<S> {
        Retrying { storage, interrupt, first_pause: FIRST_PAUSE, retries: AtomicU64::new(0), at: String::new() }
    }

    /// With the address that errors name.
    pub fn named(self, at: String) -> Retrying<S> {
        Retrying { at, ..self }
    }

    /// With pauses of another length, for tests.
    pub fn with_first_pause(self, first_pause: Duration) -> Retrying<S> {
        Retrying { first_pause, ..self }
    }

    /// How often something was tried again.
    pub fn retries(&self) -> u64 {
        self.retries.load(Ordering::Relaxed)
    }

    fn again<T>(&self, operation: impl FnMut() -> Result<T, StorageError>) -> Result<T, StorageError> {
        self.as_often_as_it_helps(operation).map_err(|e| {
            // Ctrl-C may reach a helper first, as it does `ssh`: what it then says is not why this ends.
            let fault = if self.interrupt.is_asked() && !e.is_not_found() { Fault::Interrupted } else { e.fault };
            StorageError { fault, at: self.at.clone(), ..e }
        })
    }

    fn as_often_as_it_helps<T>(&self, mut operation: impl FnMut() -> Result<T, StorageError>) -> Result<T, StorageError> {
        let mut pause = self.first_pause;
        for attempt in 1.. {
            match operation() {
                Err(e) if e.fault == Fault::Temporary && !self.interrupt.is_asked() => {
                    if attempt == TRIES {
                        return Err(StorageError { what: format!("{} (tried {TRIES} times)", e.what), ..e });
                    }
                    tracing::debug!(action = e.action, path = e.path, what = e.what, attempt, "tried again");
                    self.retries.fetch_add(1, Ordering::Relaxed);
                    self.wait(pause.mul_f64(0.5 + rand::random::<f64>()));
                    pause *= 2;
                }
                other => return other,
            }
        }
        operation()
    }

    fn wait(&self, pause: Duration) {
        let until = Instant::now() + pause;
        while !self.interrupt.is_asked() && Instant::now() < until {
            std::thread::park_timeout(Duration::from_millis(20).min(pause));
        }
    }
}

impl<S: Storage> Storage for Retrying<S> {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        self.again(|| self.storage.list(folder))
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        self.again(|| self.storage.read(path))
    }

    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        self.again(|| {
            let bytes = self.storage.read_range(path, from, length)?;
            // An answer that was cut is asked for once more.
            match bytes.len() as u64 == length {
                true => Ok(bytes),
                false => Err(StorageError::of(Fault::Temporary, "read", path, format!("{} bytes of {length} came", bytes.len()))),
            }
        })
    }

    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        self.again(|| self.storage.put(path, bytes))
    }

    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        let mut attempts = 0;
        self.again(|| {
            attempts += 1;
            let written = self.storage.put_new(path, bytes)?;
            // What a try before this one was not told of may have been written by it.
            if !written && attempts > 1 && self.storage.read(path)? == bytes {
                return Ok(true);
            }
            Ok(written)
        })
    }

    fn delete(&self, path: &str) -> Result<(), StorageError> {
        self.again(|| self.storage.delete(path))
    }

    fn leftovers(&self) -> Result<Vec<Object>, StorageError> {
        self.again(|| self.storage.leftovers())
    }
}
