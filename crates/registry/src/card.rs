//! What stands beside the files of a version that was fetched: whoever serves a model can say with each prediction which one
//! made it, and whoever finds a prediction can say what it comes from.

use std::path::Path;

use serde::{Deserialize, Serialize};
use textum_base::{Digest, fsio};

use crate::bundle::Bundle;
use crate::envelope::Signed;
use crate::key::KeyId;
use crate::registry::Version;

/// The file's name.
pub const CARD_NAME: &str = "textum.card.json";
/// No card is larger, in bytes: its entry could not be.
pub const LARGEST_CARD: u64 = 4 * crate::envelope::LARGEST as u64;
/// The `type` of it.
pub const CARD: &str = "textum/card@1";

/// What a version is.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Card {
    /// [`CARD`].
    pub r#type: String,
    /// `NAME@V`.
    pub reference: String,
    /// The name.
    pub name: String,
    /// The version.
    pub version: u64,
    /// The digest of its content.
    pub content: Digest,
    /// The entry by which it was published.
    pub entry: u64,
    /// When it was published, RFC 3339 in UTC.
    pub published: String,
    /// By whom.
    pub by: String,
    /// By which key, if any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<KeyId>,
    /// All about it.
    #[serde(flatten)]
    pub bundle: Bundle,
}

impl Card {
    /// The card of a version: the same wherever and by whatever name it is fetched.
    pub fn of(version: &Version) -> Card {
        let publication = &version.publication;
        Card {
            r#type: CARD.to_string(),
            reference: format!("{}@{}", publication.name, publication.version),
            name: publication.name.clone(),
            version: publication.version,
            content: publication.content,
            entry: version.entry,
            published: version.at.clone(),
            by: version.by.clone(),
            key: if let Signed::By(key) = &version.signed { Some(key.clone()) } else { None },
            bundle: publication.bundle.clone(),
        }
    }

    /// The card in a file; none where there is none.
    pub fn of_file(path: &Path) -> Option<Card> {
        Card::read(&fsio::read_small(path, LARGEST_CARD)?)
    }

    /// A card out of its bytes; none where it is no card, or says what cannot be.
    pub fn read(bytes: &[u8]) -> Option<Card> {
        let card: Card = serde_json::from_slice(bytes).ok()?;
        let is_one = card.r#type == CARD && card.reference == format!("{}@{}", card.name, card.version);
        (is_one && card.bundle.check().is_ok() && card.bundle.content() == card.content).then_some(card)
    }

    /// Its text.
    pub fn text(&self) -> Vec<u8> {
        let mut text = serde_json::to_vec_pretty(self).unwrap_or_default();
        text.push(b'\n');
        text
    }
}
