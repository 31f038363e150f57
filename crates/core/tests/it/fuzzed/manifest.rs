//! The manifest: any text is taken or refused with mistakes that point into it.

use std::path::Path;

use textum_core::config::manifest::Manifest;

/// The target.
pub fn target(text: &str) {
    match Manifest::parse(Path::new("textum.toml"), text.to_string()) {
        Ok(manifest) => {
            for path in manifest.stages.iter().flat_map(|s| s.outputs()) {
                assert!(!path.starts_with('/') && !path.split('/').any(|part| matches!(part, "" | "." | "..")));
            }
        }
        Err(error) => {
            assert!(!error.mistakes.is_empty());
            for mistake in &error.mistakes {
                assert!(mistake.span.end <= text.len(), "a mistake points into the text");
                assert!(text.is_char_boundary(mistake.span.start) && text.is_char_boundary(mistake.span.end));
            }
        }
    }
}
