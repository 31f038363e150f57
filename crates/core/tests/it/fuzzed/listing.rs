//! The listing of a folder: what is taken for one is written again byte for byte, and no path leads out of it.

use textum_core::store::{parse_listing, write_listing_line};

/// The target.
pub fn target(bytes: &[u8]) {
    let Ok(items) = parse_listing(bytes) else { return };
    let mut again = Vec::new();
    for item in &items {
        assert!(!item.path.starts_with('/') && !item.path.split('/').any(|part| matches!(part, "" | "." | "..")));
        write_listing_line(&mut again, item);
    }
    assert_eq!(again, bytes, "a listing has one form");
    assert!(items.windows(2).all(|pair| pair[0].path.as_bytes() < pair[1].path.as_bytes()));
}
