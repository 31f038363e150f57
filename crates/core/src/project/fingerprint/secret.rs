//! Variables whose names say that they hold a secret: they count and are passed on, and only a keyed hash of them is
//! ever recorded. The key stays in the project's `.textum`, so that nobody who has a receipt can try values.

use std::fs::File;
use std::io::{Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use crate::fsio::IoError;

/// The words, between underscores, that say so.
const WORDS: [&str; 12] =
    ["KEY", "KEYS", "TOKEN", "SECRET", "PASSWORD", "PASSWD", "PASSPHRASE", "PWD", "CREDENTIAL", "CREDENTIALS", "APIKEY", "PAT"];

/// The key that secrets are hashed with.
pub type SecretKey = [u8; 32];

/// Whether a variable's name says that it holds a secret.
pub fn is_secret(name: &str) -> bool {
    name != "PWD" && name.to_ascii_uppercase().split('_').any(|part| WORDS.contains(&part) || part.ends_with("PASSWORD"))
}

/// What is recorded of a secret.
pub fn recorded(value: &str, key: Option<&SecretKey>) -> String {
    match key {
        Some(key) => format!("keyed:{}", blake3::keyed_hash(key, value.as_bytes()).to_hex()),
        // A project in which nothing has been recorded yet: there is nothing to compare with either.
        None => "keyed:".to_string(),
    }
}

/// The project's key, if it has one.
pub fn key_of(path: &Path) -> Option<SecretKey> {
    let mut key = [0; 32];
    File::open(path).and_then(|mut file| file.read_exact(&mut key)).ok()?;
    Some(key)
}

/// The project's key, made if it has none. Only its owner may read it.
pub fn make_key(path: &Path) -> Result<SecretKey, IoError> {
    if let Some(key) = key_of(path) {
        return Ok(key);
    }
    let key: SecretKey = rand::random();
    let made = File::options().write(true).create_new(true).mode(0o600).open(path);
    match made.and_then(|mut file| file.write_all(&key).and_then(|()| file.sync_all())) {
        Ok(()) => Ok(key),
        // Another process was first; one that was cut off while it wrote left too little.
        Err(e) => match key_of(path) {
            Some(key) => Ok(key),
            None if e.kind() == std::io::ErrorKind::AlreadyExists => {
                crate::fsio::remove_any(path)?;
                make_key(path)
            }
            None => Err(IoError::of("write", path)(e)),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_secrets_and_a_key_is_made_once() {
        for name in ["HF_TOKEN", "AWS_SECRET_ACCESS_KEY", "db_password", "API_KEY", "PGPASSWORD", "APIKEY"] {
            assert!(is_secret(name), "{name}");
        }
        for name in ["OMP_NUM_THREADS", "PATH", "PWD", "KEYBOARD", "TOKENIZERS_PARALLELISM", "MONKEY"] {
            assert!(!is_secret(name), "{name}");
        }
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secret.key");
        assert_eq!(key_of(&path), None);
        let key = make_key(&path).unwrap();
        assert_eq!((make_key(&path).unwrap(), key_of(&path)), (key, Some(key)));
        std::fs::write(&path, b"cut off").unwrap();
        assert_ne!(make_key(&path).unwrap(), key);
        assert!(!recorded("hunter2", Some(&key)).contains("hunter2"));
        assert_ne!(recorded("a", Some(&key)), recorded("b", Some(&key)));
    }
}
