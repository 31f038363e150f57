//! Stages that would write over each other's results.

use std::collections::BTreeMap;

use super::check::Checker;
use super::document::Step;
use super::{Diagnostic, StageDecl};

impl Checker<'_, '_> {
    /// No two stages may write one path, or one inside another's.
    pub(super) fn writers(&mut self, stages: &[StageDecl]) {
        let mut all: BTreeMap<(&str, usize), (&StageDecl, &'static str, usize)> = BTreeMap::new();
        for (number, stage) in stages.iter().enumerate() {
            let writes = stage.writes.iter().map(|w| &*w.path);
            for (i, path) in writes.enumerate() {
                self.collide(&all, stage, "writes", i, path);
                all.insert((path, number * 2), (stage, "writes", i));
            }
            for (i, path) in stage.metrics.iter().enumerate() {
                self.collide(&all, stage, "metrics", i, path);
                all.insert((path, number * 2 + 1), (stage, "metrics", i));
            }
        }
    }

    fn collide(
        &mut self,
        all: &BTreeMap<(&str, usize), (&StageDecl, &'static str, usize)>,
        stage: &StageDecl,
        field: &'static str,
        index: usize,
        path: &str,
    ) {
        // What holds the path, or is it: one of its ancestors. What lies in it: those that follow it.
        let ancestors = path.match_indices('/').map(|(at, _)| &path[..at]).chain([path]);
        let above = ancestors.filter_map(|a| all.range((a, 0)..=(a, usize::MAX)).next());
        let below_folder = format!("{path}/");
        let inside = all.range((below_folder.as_str(), 0)..).take_while(|((p, _), _)| p.starts_with(&below_folder));
        let Some(((other_path, _), (other, other_field, other_index))) = above.chain(inside).next() else {
            return;
        };
        let place = |s: &StageDecl, f: &'static str, i: usize| {
            self.document.place(&[Step::Key("stage"), Step::Key(&s.name), Step::Key(f), Step::At(i)])
        };
        let relation = if *other_path == path { "also written" } else { "overlaps with what is written" };
        let title = format!("`{path}` is {}", if *other_path == path { "written twice" } else { "written inside another write" });
        let label = format!("{relation} by `{}`", other.name);
        let help = "let each stage write paths of its own; two results cannot share one place";
        let mistake = Diagnostic::new(place(stage, field, index), title, label, help)
            .with(place(other, other_field, *other_index), format!("`{}` writes it here", other.name));
        self.mistakes.push(mistake);
    }
}
