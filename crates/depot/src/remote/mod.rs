//! Depots on servers. Everything asynchronous stays in here.

mod connect;

use std::cell::Cell;
use std::future::Future;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::TryStreamExt as _;
use jiff::Timestamp;
use opendal::options::{ListOptions, WriteOptions};

use opendal::{BytesRange, ErrorKind, Operator};
use tokio::runtime::Runtime;

use super::retry::Interrupt;
use super::storage::{Fault, Object, Storage, StorageError};

pub use connect::connect;

/// A request of which nothing is heard for this time hangs, unless the depot's options say another. Of bytes that are sent
/// nothing is heard before they are there: a second for each of so many is added.
pub(crate) const PATIENCE: Duration = Duration::from_secs(30);
const SLOWEST: u64 = 200_000;
/// So often is looked whether somebody asked to end.
const LOOK: Duration = Duration::from_millis(50);
/// What is begun after somebody asked to end, such as telling of what has arrived, may take so long.
const LAST: Duration = Duration::from_secs(5);

/// An object that is longer is sent in parts of this length.
const PART: usize = 8 << 20;
/// So many of them at once.
const PARTS_AT_ONCE: usize = 4;

/// Objects on a server.
pub struct Remote {
    operator: Operator,
    /// Where names begin, for a kind that cannot be told.
    prefix: String,
    /// Whether what is being written is seen by others before it is whole.
    shows_halves: bool,
    can_put_new: bool,
    takes_parts: bool,
    patience: Duration,
    interrupt: Interrupt,
}

fn runtime() -> Result<&'static Runtime, StorageError> {
    static RUNTIME: LazyLock<std::io::Result<Runtime>> = LazyLock::new(|| {
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).thread_name("textum-depot").enable_all().build()
    });
    RUNTIME.as_ref().map_err(|e| StorageError::of(Fault::Lasting, "reach", "the depot", e))
}

/// What an error of the library means, with what those who know the service would say.
fn failed(action: &'static str, path: &str, error: &opendal::Error) -> StorageError {
    let status = status_of(error);
    let text = match status {
        Some(status) => format!("the server answers {status}: {}", describe(error)),
        None => describe(error),
    };
    let has = |words: &[&str]| words.iter().any(|word| text.contains(word));
    let (fault, help) = match error.kind() {
        _ if has(&["NoSuchBucket"]) => (Fault::Lasting, "there is no such bucket: make it, or correct the depot's url"),
        ErrorKind::NotFound => (Fault::NotFound, ""),
        _ if has(&["ExpiredToken", "TokenRefreshRequired", "expired"]) => {
            (Fault::Denied, "the credentials have expired: get new ones")
        }
        _ if has(&["InvalidAccessKeyId", "SignatureDoesNotMatch", "AuthorizationHeaderMalformed", "PermanentRedirect"])
            && has(&["region"]) =>
        {
            (Fault::Denied, "the region seems to be another: set `region` in the depot's options")
        }
        _ if has(&["InvalidAccessKeyId", "SignatureDoesNotMatch", "no valid credential", "credential"]) => {
            (Fault::Denied, "the credentials are missing or wrong: set the service's usual variables, or its file")
        }
        _ if status == Some(401) => {
            (Fault::Denied, "the credentials are missing or not allowed in: set the service's usual variables, or its file")
        }
        ErrorKind::PermissionDenied => (Fault::Denied, "what the credentials allow is not enough"),
        _ if has(&["Host key verification failed", "host key"]) => (
            Fault::Lasting,
            "the machine's key is not known: connect once with `ssh` and look at it, or put it into ~/.ssh/known_hosts",
        ),
        _ if has(&["Permission denied (", "Too many authentication failures"]) => (
            Fault::Denied,
            "the machine did not let in: is the key loaded into the SSH agent, or named by `key` in the depot's options?",
        ),
        _ if has(&["Could not resolve hostname", "dns error", "failed to lookup address"]) => {
            (Fault::Lasting, "there is no such host")
        }
        ErrorKind::ConfigInvalid => (Fault::Lasting, ""),
        // Too early, too much at once, or the server's own trouble.
        _ if status.is_some_and(|s| matches!(s, 408 | 425 | 429 | 500 | 502 | 503 | 504)) => (Fault::Temporary, ""),
        _ if error.is_temporary() || has(&["timed out", "onnect", "error sending request", "reset", "unexpected EOF"]) => {
            (Fault::Temporary, "")
        }
        _ => (Fault::Lasting, ""),
    };
    let what = if help.is_empty() { text } else { format!("{help} ({text})") };
    StorageError::of(fault, action, path, what)
}

/// The status that a server answered with, which the library tells in words only.
fn status_of(error: &opendal::Error) -> Option<u16> {
    let said = error.to_string();
    let digits = said.split("status: ").nth(1)?.get(..3)?;
    digits.parse().ok()
}

/// An error in a line: what was said, and what lies below it. Answers of servers may be long.
fn describe(error: &opendal::Error) -> String {
    const MOST: usize = 400;
    let mut text = error.message().to_string();
    let mut source = std::error::Error::source(error);
    while let Some(below) = source {
        let said = below.to_string();
        if !text.contains(&said) {
            text.push_str(": ");
            text.push_str(&said);
        }
        source = below.source();
    }
    let text: String = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match text.char_indices().nth(MOST) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    }
}

impl Remote {
    fn named(&self, path: &str) -> String {
        format!("{}{path}", self.prefix)
    }

    /// Waits for an operation that concerns so many bytes.
    fn wait<T>(
        &self,
        action: &'static str,
        path: &str,
        bytes: u64,
        operation: impl Future<Output = opendal::Result<T>>,
    ) -> Result<T, StorageError> {
        self.within(action, path, bytes, &Cell::new(0), operation)?.map_err(|e| failed(action, path, &e))
    }

    /// What came of an operation, unless it hangs or somebody asks to end. It may tell how far it is: then it does not hang.
    fn within<T>(
        &self,
        action: &'static str,
        path: &str,
        bytes: u64,
        moved: &Cell<u64>,
        operation: impl Future<Output = T>,
    ) -> Result<T, StorageError> {
        let patience = self.patience + Duration::from_secs(bytes / SLOWEST);
        let is_last = self.interrupt.is_asked();
        runtime()?.block_on(async {
            let began = Instant::now();
            let (mut heard, mut at) = (began, moved.get());
            let mut operation = std::pin::pin!(operation);
            loop {
                if let Ok(result) = tokio::time::timeout(LOOK, operation.as_mut()).await {
                    return Ok(result);
                }
                if self.interrupt.is_asked() && (!is_last || began.elapsed() > LAST) {
                    return Err(StorageError::of(Fault::Interrupted, action, path, "it was interrupted"));
                }
                if moved.get() != at {
                    (heard, at) = (Instant::now(), moved.get());
                }
                if heard.elapsed() > patience {
                    let what = format!("no answer in {} s", patience.as_secs());
                    return Err(StorageError::of(Fault::Temporary, action, path, what));
                }
            }
        })
    }

    fn read_some(&self, path: &str, range: BytesRange) -> Result<Vec<u8>, StorageError> {
        let moved = Cell::new(0);
        let named = self.named(path);
        let operation = async {
            let mut stream = self.operator.reader(&named).await?.into_stream(range).await?;
            let mut bytes = Vec::new();
            while let Some(part) = stream.try_next().await? {
                part.for_each(|some: Bytes| bytes.extend_from_slice(&some));
                moved.set(bytes.len() as u64);
            }
            Ok(bytes)
        };
        self.within("read", path, 0, &moved, operation)?.map_err(|e| failed("read", path, &e))
    }

    fn write(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        let options = WriteOptions {
            chunk: (self.takes_parts && bytes.len() > PART).then_some(PART),
            concurrent: if self.takes_parts { PARTS_AT_ONCE } else { 1 },
            ..WriteOptions::default()
        };
        self.wait("write", path, bytes.len() as u64, self.operator.write_options(path, bytes.clone(), options)).map(drop)
    }

    fn exists(&self, path: &str) -> Result<bool, StorageError> {
        self.wait("look at", path, 0, self.operator.exists(path))
    }
}

/// Where halves are written that must not be seen.
const ASIDE: &str = "aside";

impl Remote {
    fn objects(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        let at = self.named(&if folder.is_empty() { String::new() } else { format!("{folder}/") });
        let options = ListOptions { recursive: true, ..ListOptions::default() };
        let listed = match self.wait("list", folder, 0, self.operator.list_options(&at, options)) {
            Err(e) if e.is_not_found() => Vec::new(),
            other => other?,
        };
        let mut found = Vec::new();
        for entry in listed.iter().filter(|e| e.metadata().is_file()) {
            let Some(path) = entry.path().strip_prefix(&self.prefix) else { continue };
            let modified = entry.metadata().last_modified().and_then(|t| t.to_string().parse::<Timestamp>().ok());
            found.push(Object { path: path.to_string(), size: entry.metadata().content_length(), modified });
        }
        Ok(found)
    }
}

impl Storage for Remote {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        let mut found = self.objects(folder)?;
        found.retain(|object| object.path.split('/').next() != Some(ASIDE));
        Ok(found)
    }

    fn leftovers(&self) -> Result<Vec<Object>, StorageError> {
        if self.shows_halves { self.objects(ASIDE) } else { Ok(Vec::new()) }
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        self.read_some(path, BytesRange::from(..))
    }

    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        if length == 0 {
            return Ok(Vec::new());
        }
        self.read_some(path, BytesRange::from(from..from.saturating_add(length)))
    }

    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        let named = self.named(path);
        if !self.shows_halves {
            return self.write(&named, bytes);
        }
        // Written aside and given its name when it is whole.
        let aside = self.named(&format!("{ASIDE}/{:016x}", rand::random::<u64>()));
        self.write(&aside, bytes)?;
        let renamed = self.wait("write", path, 0, self.operator.rename(&aside, &named)).or_else(|_| {
            // Some servers give no name that is taken.
            self.wait("write", path, 0, self.operator.delete(&named))?;
            self.wait("write", path, 0, self.operator.rename(&aside, &named))
        });
        if renamed.is_err() {
            let _ = self.wait("remove", &aside, 0, self.operator.delete(&aside));
        }
        renamed
    }

    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        let named = self.named(path);
        if !self.can_put_new {
            // As well as can be; the probe tells that it is not for what must not be written twice.
            if self.exists(&named)? {
                return Ok(false);
            }
            return self.put(path, &Bytes::copy_from_slice(bytes)).map(|()| true);
        }
        let options = WriteOptions { if_not_exists: true, ..WriteOptions::default() };
        let content = bytes.to_vec();
        match self.within(
            "write",
            path,
            bytes.len() as u64,
            &Cell::new(0),
            self.operator.write_options(&named, content, options),
        )? {
            Ok(_) => Ok(true),
            Err(e) if matches!(e.kind(), ErrorKind::ConditionNotMatch | ErrorKind::AlreadyExists) => Ok(false),
            // Some servers answer the one who lost a race in their own way.
            Err(e) => match self.exists(&named) {
                Ok(true) if !e.is_temporary() || self.read(path).is_ok_and(|there| there != bytes) => Ok(false),
                _ => Err(failed("write", path, &e)),
            },
        }
    }

    fn delete(&self, path: &str) -> Result<(), StorageError> {
        match self.wait("remove", path, 0, self.operator.delete(&self.named(path))) {
            Err(e) if e.is_not_found() => Ok(()),
            other => other,
        }
    }
}
