//! Files that lie anywhere, only looked at.

use std::path::Path;

use super::{ScanError, Scanner};
use crate::fsio::IoError;
use crate::record::receipt::Content;

/// What a file or folder anywhere on the disk holds now.
pub fn read_outside(path: &Path) -> Result<Option<Content>, ScanError> {
    let full = std::path::absolute(path).map_err(IoError::of("look at", path))?;
    let (Some(parent), Some(name)) = (full.parent(), full.file_name().and_then(|n| n.to_str())) else { return Ok(None) };
    // A link is followed wherever it leads: it is only looked at.
    let real = std::fs::canonicalize(&full).unwrap_or_else(|_| parent.join(name));
    match (real.parent(), real.file_name().and_then(|n| n.to_str())) {
        (Some(parent), Some(name)) => Scanner::open(parent, None).look(name),
        _ => Ok(None),
    }
}
