//! Storage that fails on purpose, and depots over it.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use textum_depot::{Address, Depot, DepotOptions, Fault, Interrupt, Memory, Object, Retrying, Storage, StorageError, open_storage};

/// A number that follows from the one before it.
fn next(seed: &AtomicU64) -> u64 {
    let seen = seed.fetch_add(0x9e37_79b9_7f4a_7c15, Ordering::SeqCst);
    let mut z = (seen ^ (seen >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// Storage whose requests fail at random: before they are carried out, after it, cut, or with other bytes.
pub struct Faulty<S> {
    pub storage: S,
    pub seed: AtomicU64,
    /// One request in so many goes wrong.
    pub one_in: u64,
    /// From this request on, counted from 1, none is carried out: the machine that asks is gone.
    pub dies_at: AtomicU64,
    pub requests: AtomicU64,
    /// Whether bytes may come wrong.
    pub alters: bool,
}

impl<S> Faulty<S> {
    pub fn new(storage: S, seed: u64, one_in: u64) -> Faulty<S> {
        Faulty {
            storage,
            seed: AtomicU64::new(seed),
            one_in,
            dies_at: AtomicU64::new(u64::MAX),
            requests: AtomicU64::new(0),
            alters: true,
        }
    }

    fn temporary(action: &'static str, path: &str) -> StorageError {
        StorageError::of(Fault::Temporary, action, path, "the connection was reset")
    }

    /// Whether this request goes wrong, before or after it is carried out.
    fn goes_wrong(&self, action: &'static str, path: &str) -> Result<Option<u64>, StorageError> {
        let number = self.requests.fetch_add(1, Ordering::SeqCst) + 1;
        if number >= self.dies_at.load(Ordering::SeqCst) {
            return Err(StorageError::of(Fault::Lasting, action, path, "this machine is gone"));
        }
        let chance = next(&self.seed);
        if self.one_in > 0 && chance.is_multiple_of(self.one_in) {
            let how = (chance >> 32) % 4;
            if how == 0 {
                return Err(Self::temporary(action, path));
            }
            return Ok(Some(how));
        }
        Ok(None)
    }

    fn spoil(&self, how: Option<u64>, is_part: bool, path: &str, mut bytes: Vec<u8>) -> Result<Vec<u8>, StorageError> {
        match how {
            Some(1) => return Err(Self::temporary("read", path)),
            // How long a whole object is nobody knows before; of a part it is known.
            Some(2) if self.alters || is_part => bytes.truncate(bytes.len() / 2),
            Some(3) if self.alters && !bytes.is_empty() => {
                let at = next(&self.seed) as usize % bytes.len();
                bytes[at] ^= 0x40;
            }
            _ => {}
        }
        Ok(bytes)
    }
}

impl<S: Storage> Storage for Faulty<S> {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        match self.goes_wrong("list", folder)? {
            Some(_) => Err(Self::temporary("list", folder)),
            None => self.storage.list(folder),
        }
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        let how = self.goes_wrong("read", path)?;
        self.spoil(how, false, path, self.storage.read(path)?)
    }

    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        let how = self.goes_wrong("read", path)?;
        self.spoil(how, true, path, self.storage.read_range(path, from, length)?)
    }

    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        let how = self.goes_wrong("write", path)?;
        self.storage.put(path, bytes)?;
        if how == Some(1) { Err(Self::temporary("write", path)) } else { Ok(()) }
    }

    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        let how = self.goes_wrong("write", path)?;
        let written = self.storage.put_new(path, bytes)?;
        if how == Some(1) { Err(Self::temporary("write", path)) } else { Ok(written) }
    }

    fn delete(&self, path: &str) -> Result<(), StorageError> {
        let how = self.goes_wrong("remove", path)?;
        self.storage.delete(path)?;
        if how == Some(1) { Err(Self::temporary("remove", path)) } else { Ok(()) }
    }
}

/// Storage that several share.
pub struct Shared<S>(pub Arc<S>);

impl<S: Storage> Storage for Shared<S> {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        self.0.list(folder)
    }
    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        self.0.read(path)
    }
    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        self.0.read_range(path, from, length)
    }
    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        self.0.put(path, bytes)
    }
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        self.0.put_new(path, bytes)
    }
    fn delete(&self, path: &str) -> Result<(), StorageError> {
        self.0.delete(path)
    }
}

/// Storage as a depot gets it, without long pauses.
pub fn patient<S: Storage + 'static>(storage: S) -> Arc<dyn Storage> {
    Arc::new(Retrying::new(storage, Interrupt::default()).with_first_pause(Duration::from_micros(50)))
}

pub fn options(state: &Path) -> DepotOptions {
    let state = state.join("depots");
    std::fs::create_dir_all(&state).unwrap();
    DepotOptions {
        name: "team".into(),
        at: "(here)".into(),
        project: "looms".into(),
        state,
        jobs: 4,
        interrupt: Interrupt::default(),
    }
}

/// A depot of a machine whose state is in this folder.
pub fn depot<S: Storage + 'static>(storage: S, state: &Path) -> Depot {
    Depot::open_or_create(patient(storage), options(state), "weaver@loom").unwrap().0
}

pub fn memory() -> Arc<Memory> {
    Arc::new(Memory::default())
}

/// The real servers that the tests were told of by variables (`scripts/servers`), each with a folder of its own.
pub fn servers() -> Vec<(String, Arc<dyn Storage>)> {
    let variables: Vec<(String, String)> = std::env::vars().collect();
    let variable = |name: &str| std::env::var(name).ok();
    let mut found = Vec::new();
    let folder = format!("test-{:016x}", rand::random::<u64>());
    let mut add = |url: String, options: &[(&str, String)]| {
        let options: BTreeMap<String, String> = options.iter().map(|(k, v)| ((*k).to_string(), v.clone())).collect();
        let address = Address::parse(&url, Path::new("/")).unwrap();
        address.check_options(&options).unwrap();
        found.push((address.kind().to_string(), open_storage(&address, &options, &variables, &Interrupt::default()).unwrap()));
    };
    match (variable("S3_ENDPOINT"), variable("S3_BUCKET")) {
        (Some(endpoint), Some(bucket)) => add(format!("s3://{bucket}/{folder}"), &[("endpoint", endpoint)]),
        _ => eprintln!("not run over S3: S3_ENDPOINT and S3_BUCKET name no server"),
    }
    match (variable("SFTP_HOST"), variable("SFTP_PORT"), variable("SFTP_KEY")) {
        (Some(host), Some(port), Some(key)) => {
            let user = variable("SFTP_USER").map_or(String::new(), |user| format!("{user}@"));
            add(format!("sftp://{user}{host}:{port}/{folder}"), &[("key", key)]);
        }
        _ => eprintln!("not run over SFTP: SFTP_HOST, SFTP_PORT and SFTP_KEY name no server"),
    }
    match variable("WEBDAV_URL").and_then(|url| Some(url.strip_prefix("http://")?.trim_end_matches('/').to_string())) {
        Some(host) => add(format!("webdav://{host}/{folder}"), &[]),
        None => eprintln!("not run over WebDAV: WEBDAV_URL names no server"),
    }
    found
}
