//! Stages that come out of one by `each`: one line for all of them, until they are asked for one by one.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use textum_core::config::manifest::{Better, Manifest, declared_name};
use textum_core::record::receipt::Metric;

use super::text;
use crate::ui::Style;

/// Things that stand in one line: one, or all that come out of one stage.
pub struct Line<'i, T> {
    /// The name of the stage in the manifest, or of the one.
    pub name: String,
    /// What it stands for.
    pub items: Vec<&'i T>,
}

impl<T> Line<'_, T> {
    /// How it is called: with how many there are.
    pub fn title(&self) -> String {
        if self.items.len() == 1 { self.name.clone() } else { format!("{} ×{}", self.name, self.items.len()) }
    }
}

/// Things in lines, each at the place of its first; `open` gives everything a line of its own.
pub fn lines<'i, T>(items: &'i [T], name: impl Fn(&'i T) -> &'i str, open: bool) -> Vec<Line<'i, T>> {
    let mut lines: Vec<Line<'i, T>> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    for item in items {
        let own = name(item);
        let declared = declared_name(own);
        match places.get(declared).filter(|_| !open && declared != own) {
            Some(at) => lines[*at].items.push(item),
            None => {
                if declared != own && !open {
                    places.insert(declared.to_string(), lines.len());
                }
                lines.push(Line { name: own.to_string(), items: vec![item] });
            }
        }
    }
    for line in lines.iter_mut().filter(|l| l.items.len() > 1) {
        line.name = declared_name(&line.name).to_string();
    }
    lines
}

/// Words with how often each stands there, as in `4 ran, 1 failed`; one alone as it is.
pub fn counted_words<W: AsRef<str>>(words: impl Iterator<Item = W>) -> String {
    let mut counts: Vec<(String, u64)> = Vec::new();
    for word in words {
        match counts.iter_mut().find(|(w, _)| w == word.as_ref()) {
            Some((_, n)) => *n += 1,
            None => counts.push((word.as_ref().to_string(), 1)),
        }
    }
    match &counts[..] {
        [(word, _)] => word.clone(),
        _ => counts.iter().map(|(word, n)| format!("{n} {word}")).collect::<Vec<_>>().join(", "),
    }
}

/// The paths of stages as the manifest has them, where values of `each` stand in them.
#[derive(Default)]
pub struct Templates(HashMap<String, String>);

impl Templates {
    /// Those of a manifest.
    pub fn of(manifest: &Manifest) -> Templates {
        let mut all = HashMap::new();
        for stage in &manifest.stages {
            let Some(each) = &stage.each else { continue };
            let reads = stage.reads.iter().map(|r| &**r);
            let outputs = stage.outputs().map(|o| &**o);
            for path in reads.chain(outputs) {
                let template = each.template(path);
                if template != path {
                    all.insert(path.to_string(), template.to_string());
                }
            }
        }
        Templates(all)
    }

    /// A path as the manifest has it.
    pub fn path<'p>(&'p self, path: &'p str) -> &'p str {
        self.0.get(path).map_or(path, String::as_str)
    }
}

/// Paths with their sizes, those of one template in one: `build/model-{each.fold}.json 5 × 1.2 kB`.
pub fn outputs<'o>(outputs: impl Iterator<Item = (&'o str, u64)>, templates: &Templates, style: &Style) -> Vec<String> {
    let mut found: Vec<(String, Vec<u64>)> = Vec::new();
    for (path, size) in outputs {
        let path = templates.path(path);
        match found.iter_mut().find(|(p, _)| p == path) {
            Some((_, sizes)) => sizes.push(size),
            None => found.push((path.to_string(), vec![size])),
        }
    }
    let said = |sizes: &[u64]| match sizes {
        [one] => text::bytes(*one),
        all => format!("{} in {}", text::bytes(all.iter().sum()), all.len()),
    };
    found.into_iter().map(|(path, sizes)| format!("{path} {}", style.dim(&said(&sizes)))).collect()
}

/// The metrics of a run in words, those with a direction first; spread and interval over `each` stand with the mean.
pub fn metrics(metrics: &BTreeMap<String, Metric>, directions: &[(String, Better)], intervals: bool, style: &Style) -> Vec<String> {
    let of_mean = |name: &str| {
        let mean = [".each.spread", ".each.low", ".each.high"].iter().find_map(|end| name.strip_suffix(end));
        mean.is_some_and(|mean| metrics.contains_key(mean))
    };
    // Those of single stages out of many stand in their own table.
    let member = |name: &str| name.split('.').next().filter(|stage| declared_name(stage) != *stage).map(str::to_string);
    let members: BTreeSet<String> = metrics.keys().filter_map(|name| member(name)).collect();
    let only_members = metrics.keys().all(|name| member(name).is_some());
    let is_shown = |name: &str| !of_mean(name) && (only_members || members.len() < 2 || member(name).is_none());
    let mut own: Vec<_> = metrics.iter().filter(|(name, _)| is_shown(name)).collect();
    own.sort_by_key(|(name, _)| directions.iter().position(|(d, _)| d == *name).unwrap_or(usize::MAX));
    let said = |(name, value): (&String, &Metric)| {
        let part = |end: &str| metrics.get(&format!("{name}.each.{end}")).map(text::metric);
        let spread = part("spread").map(|s| format!(" ± {s}")).unwrap_or_default();
        let interval = part("low").zip(part("high")).filter(|_| intervals);
        let interval = interval.map(|(low, high)| style.dim(&format!(" ({low} to {high})"))).unwrap_or_default();
        format!("{name} {}{spread}{interval}", style.bold(&text::metric(value)))
    };
    own.into_iter().map(said).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_of_one_stage_stand_in_one_line_at_the_place_of_the_first() {
        let names = ["cut", "fit:0", "judge:0", "fit:1", "judge:1", "sum", "odd:7"];
        let titles = |open| lines(&names, |n| n, open).iter().map(Line::title).collect::<Vec<_>>();
        assert_eq!(titles(false), ["cut", "fit ×2", "judge ×2", "sum", "odd:7"]);
        assert_eq!(titles(true), names);
        assert_eq!(counted_words(["ran", "ran"].iter()), "ran");
        assert_eq!(counted_words(["ran", "failed", "ran"].iter()), "2 ran, 1 failed");
    }
}
