//! The one form in which documents are stored: RFC 8785, so that anybody can recompute a digest.

use serde::Serialize;

use super::Document;
use crate::store::Digest;

/// Why a document could not be written or read.
#[derive(Debug, thiserror::Error)]
pub enum DocumentError {
    /// The stored text is not such a document.
    #[error("the document {digest} cannot be read: {what}")]
    Malformed {
        /// Its digest.
        digest: Digest,
        /// What is wrong with it.
        what: String,
    },
    /// It was written by a newer Textum.
    #[error("the document {digest} is a `{found}`, which this Textum does not know; it reads `{known}`: use a newer Textum")]
    Newer {
        /// Its digest.
        digest: Digest,
        /// Its type.
        found: String,
        /// The newest version of that type known here.
        known: String,
    },
    /// A value cannot be written as JSON.
    #[error("a document cannot be written: {0}")]
    Unwritable(String),
}

/// The canonical JSON of a value (RFC 8785: sorted keys, no spaces, shortest numbers).
pub fn canonical(value: &impl Serialize) -> Result<Vec<u8>, DocumentError> {
    serde_json_canonicalizer::to_vec(value).map_err(|e| DocumentError::Unwritable(e.to_string()))
}

/// The `type` of a document, such as `textum/stage-receipt@1`.
pub fn type_of(bytes: &[u8]) -> Option<String> {
    #[derive(serde::Deserialize)]
    struct Typed {
        r#type: String,
    }
    serde_json::from_slice::<Typed>(bytes).ok().map(|t| t.r#type)
}

/// Reads a document, refusing a newer version of its type with a clear message, and whatever it says that could
/// do harm.
pub fn read_document<T: Document>(digest: &Digest, bytes: &[u8]) -> Result<T, DocumentError> {
    let known = T::TYPE;
    let malformed = |what: String| DocumentError::Malformed { digest: *digest, what };
    let found = type_of(bytes).ok_or_else(|| malformed("it has no type".into()))?;
    if found != known {
        let same_name = found.split('@').next() == known.split('@').next();
        return Err(if same_name {
            DocumentError::Newer { digest: *digest, found, known: known.to_string() }
        } else {
            malformed(format!("it is a `{found}`, not a `{known}`"))
        });
    }
    let document: T = serde_json::from_slice(bytes).map_err(|e| malformed(e.to_string()))?;
    document.check().map_err(malformed)?;
    Ok(document)
}
