//! The name of content: BLAKE3-256, shown as `b3:` and 64 hex digits.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The BLAKE3-256 digest of some bytes; for a file, what `b3sum` prints.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest([u8; 32]);

/// A text that is no digest.
#[derive(Debug, thiserror::Error)]
#[error("`{0}` is not a digest: it takes `b3:` and 64 hex digits")]
pub struct NotADigest(pub String);

impl Digest {
    /// The digest of these bytes.
    pub fn of(bytes: &[u8]) -> Digest {
        Digest(*blake3::hash(bytes).as_bytes())
    }

    /// A digest from its 32 bytes.
    pub const fn from_bytes(bytes: [u8; 32]) -> Digest {
        Digest(bytes)
    }

    /// The 32 bytes.
    pub const fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// The 64 hex digits without the `b3:`.
    pub fn hex(&self) -> String {
        blake3::Hash::from_bytes(self.0).to_hex().to_string()
    }

    /// `b3:` and the first eight hex digits, as shown to people.
    pub fn short(&self) -> String {
        format!("b3:{}", &self.hex()[..8])
    }

    /// From 64 hex digits without `b3:`.
    pub fn from_hex(hex: &str) -> Option<Digest> {
        blake3::Hash::from_hex(hex).ok().map(|h| Digest(*h.as_bytes()))
    }
}

impl From<blake3::Hash> for Digest {
    fn from(hash: blake3::Hash) -> Digest {
        Digest(*hash.as_bytes())
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "b3:{}", blake3::Hash::from_bytes(self.0).to_hex())
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.short())
    }
}

impl FromStr for Digest {
    type Err = NotADigest;

    fn from_str(text: &str) -> Result<Digest, NotADigest> {
        text.strip_prefix("b3:").and_then(Digest::from_hex).ok_or_else(|| NotADigest(text.to_string()))
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Digest, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}
