//! A manifest's mistakes in its text: line, underlined, with the mend.

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet, renderer::DecorStyle};
use textum_core::config::manifest::ManifestError;

/// All mistakes, one after another, and their number.
pub fn mistakes(error: &ManifestError, colored: bool, width: usize) -> String {
    let renderer = if colored { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.term_width(width.max(60)).decor_style(DecorStyle::Unicode);
    let path = error.path.file_name().map_or_else(|| error.path.display().to_string(), |n| n.to_string_lossy().into_owned());
    // Colours come from the renderer alone; a control character keeps its place, so that lines stay underlined.
    let plain = |text: &str| {
        text.chars().map(|c| if c.is_control() && !matches!(c, '\n' | '\t' | '\r') { '\u{fffd}' } else { c }).collect::<String>()
    };
    let mut out = String::new();
    for mistake in &error.mistakes {
        let [title, label, help] = [&mistake.title, &mistake.label, &mistake.help].map(|t| plain(t));
        let mut snippet = Snippet::source(error.text.as_str())
            .path(path.as_str())
            .annotation(AnnotationKind::Primary.span(mistake.span.clone()).label(label.as_str()));
        if let Some((span, label)) = &mistake.also {
            snippet = snippet.annotation(AnnotationKind::Context.span(span.clone()).label(plain(label)));
        }
        let mut group: Group<'_> = Level::ERROR.primary_title(title.as_str()).element(snippet);
        if !mistake.help.is_empty() {
            group = group.element(Level::HELP.message(help.as_str()));
        }
        out.push_str(&renderer.render(&[group]));
        out.push_str("\n\n");
    }
    out.push_str(&error.to_string());
    out
}
