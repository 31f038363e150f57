//! Contents inside the contents of folders.

use super::{Content, ContentKind};
use crate::store::{Digest, Item, ItemKind, Store, StoreError, items_of_listing, write_listing_line};

/// A file or folder inside a recorded folder.
pub fn part_of_folder(store: &Store, folder: &Digest, below: &str) -> Result<Option<Content>, StoreError> {
    let listing = store.listing(folder)?;
    let items = items_of_listing(store, folder, &listing)?;
    if let Some(item) = items.iter().find(|i| i.path == below) {
        let kind = if item.kind == ItemKind::Exec { ContentKind::Exec } else { ContentKind::File };
        let digest = match (item.kind, item.digest) {
            (ItemKind::EmptyDir, _) | (_, None) => return Ok(Some(folder_of(&[]))),
            (_, Some(digest)) => digest,
        };
        return Ok(Some(Content { kind, ..Content::file(digest, item.size) }));
    }
    let prefix = format!("{below}/");
    let inside: Vec<Item<'_>> = items
        .iter()
        .filter_map(|i| i.path.strip_prefix(&prefix).map(|rest| Item { path: rest.to_string().into(), ..i.clone() }))
        .collect();
    Ok((!inside.is_empty()).then(|| folder_of(&inside)))
}

/// The digests of the files in a recorded folder, as far as its listing can be had; none of anything else.
pub fn files_in(store: &Store, folder: &Digest) -> Vec<Digest> {
    let Ok(listing) = store.listing(folder) else { return Vec::new() };
    let items = items_of_listing(store, folder, &listing).unwrap_or_default();
    items.iter().filter_map(|i| i.digest).collect()
}

/// The content that a folder with these entries is.
pub fn folder_of(items: &[Item<'_>]) -> Content {
    let mut listing = Vec::new();
    for item in items {
        write_listing_line(&mut listing, item);
    }
    let files = items.iter().filter(|i| i.kind != ItemKind::EmptyDir).count() as u64;
    let size = items.iter().map(|i| i.size).sum();
    Content::folder(Digest::of(&listing), size, files)
}
