//! A manifest's mistakes in its text: line, underlined, with the mend.

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet, renderer::DecorStyle};
use textum_core::config::manifest::ManifestError;

/// More mistakes than these say nothing that the first ones do not.
const MOST: usize = 100;

/// The lines of a text around some places: where they begin in it, their text, and the number of the first.
fn lines_around<'t>(text: &'t str, places: &[&std::ops::Range<usize>]) -> (usize, &'t str, usize) {
    let within = |at: usize| (0..=at.min(text.len())).rev().find(|i| text.is_char_boundary(*i)).unwrap_or(0);
    let from = within(places.iter().map(|p| p.start).min().unwrap_or(0));
    let to = within(places.iter().map(|p| p.end).max().unwrap_or(0)).max(from);
    let from = text[..from].rfind('\n').map_or(0, |at| at + 1);
    let to = text[to..].find('\n').map_or(text.len(), |at| to + at + 1);
    (from, &text[from..to], text[..from].matches('\n').count() + 1)
}

/// The mistakes, one after another, and their number.
pub fn mistakes(error: &ManifestError, colored: bool, width: usize) -> String {
    let renderer = if colored { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.term_width(width.max(60)).decor_style(DecorStyle::Unicode);
    let path = error.path.file_name().map_or_else(|| error.path.display().to_string(), |n| n.to_string_lossy().into_owned());
    // Colours come from the renderer alone; a control character keeps its place, so that lines stay underlined.
    let plain = |text: &str| {
        text.chars().map(|c| if c.is_control() && !matches!(c, '\n' | '\t' | '\r') { '\u{fffd}' } else { c }).collect::<String>()
    };
    let mut out = String::new();
    for mistake in error.mistakes.iter().take(MOST) {
        let [title, label, help] = [&mistake.title, &mistake.label, &mistake.help].map(|t| plain(t));
        let places: Vec<_> = std::iter::once(&mistake.span).chain(mistake.also.as_ref().map(|(span, _)| span)).collect();
        let (begins, lines, number) = lines_around(&error.text, &places);
        let inside = |span: &std::ops::Range<usize>| span.start - begins..span.end - begins;
        let mut snippet = Snippet::source(lines)
            .path(path.as_str())
            .line_start(number)
            .annotation(AnnotationKind::Primary.span(inside(&mistake.span)).label(label.as_str()));
        if let Some((span, label)) = &mistake.also {
            snippet = snippet.annotation(AnnotationKind::Context.span(inside(span)).label(plain(label)));
        }
        let mut group: Group<'_> = Level::ERROR.primary_title(title.as_str()).element(snippet);
        if !mistake.help.is_empty() {
            group = group.element(Level::HELP.message(help.as_str()));
        }
        out.push_str(&renderer.render(&[group]));
        out.push_str("\n\n");
    }
    if let Some(more) = error.mistakes.len().checked_sub(MOST).filter(|n| *n > 0) {
        out.push_str(&format!("and {} not shown\n\n", super::text::counted(more as u64, "more mistake")));
    }
    out.push_str(&error.to_string());
    out
}
