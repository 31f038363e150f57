//! Entries of a registry in their envelopes, and cards: whatever they hold, nothing falls, and what is accepted is whole.

use textum_core::registry::{Card, Entry, envelope};

/// The target.
pub fn target(bytes: &[u8]) {
    if let Ok((entry, _)) = envelope::open(bytes) {
        assert!(entry.check().is_ok());
    }
    let _ = Entry::read(bytes);
    if let Some(card) = Card::read(bytes) {
        assert_eq!(card.bundle.content(), card.content);
    }
}
