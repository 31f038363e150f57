//! A depot in memory, for tests.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use jiff::Timestamp;

use super::storage::{Fault, Object, Storage, StorageError};

/// Objects in memory.
#[derive(Default)]
pub struct Memory {
    objects: Mutex<BTreeMap<String, (Vec<u8>, Timestamp)>>,
}

impl Memory {
    fn objects(&self) -> MutexGuard<'_, BTreeMap<String, (Vec<u8>, Timestamp)>> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Storage for Memory {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        let prefix = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        let object = |(path, (bytes, modified)): (&String, &(Vec<u8>, Timestamp))| Object {
            path: path.clone(),
            size: bytes.len() as u64,
            modified: Some(*modified),
        };
        Ok(self.objects().iter().filter(|(path, _)| path.starts_with(&prefix)).map(object).collect())
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        let objects = self.objects();
        let found = objects.get(path).ok_or_else(|| StorageError::of(Fault::NotFound, "read", path, "there is no such object"))?;
        Ok(found.0.clone())
    }

    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        let bytes = self.read(path)?;
        let from = (from as usize).min(bytes.len());
        let to = from.saturating_add(length as usize).min(bytes.len());
        Ok(bytes[from..to].to_vec())
    }

    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        self.objects().insert(path.to_string(), (bytes.to_vec(), textum_base::clock::now()));
        Ok(())
    }

    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        let mut objects = self.objects();
        let is_new = !objects.contains_key(path);
        if is_new {
            objects.insert(path.to_string(), (bytes.to_vec(), textum_base::clock::now()));
        }
        Ok(is_new)
    }

    fn delete(&self, path: &str) -> Result<(), StorageError> {
        self.objects().remove(path);
        Ok(())
    }
}
