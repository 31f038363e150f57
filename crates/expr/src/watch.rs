//! A rule held against metrics while they come: when is a stage to be stopped?

use std::collections::BTreeMap;

use super::syntax::Logic;
use super::{Known, Rule, Test, Truth, joined};
use textum_base::Better;

/// Watches one stage's metrics.
///
/// In such a rule `best` is the best value so far of the first metric that the test names, `best.NAME` that
/// of another, `step` the step and `seconds` the time since the stage began. A test is looked at whenever a
/// metric that it names comes; with `for N steps` it must hold N times on end.
pub struct StopWatch {
    rule: Rule,
    better: BTreeMap<String, Better>,
    last: BTreeMap<String, f64>,
    best: BTreeMap<String, f64>,
    /// For each test, by its place in the text: how often on end it has held, and what it was last.
    streaks: BTreeMap<usize, (u32, Truth)>,
}

/// The name whose best value `best` means in a test.
pub(super) fn subject(test: &Test) -> Option<&str> {
    test.names().into_iter().find(|n| !matches!(*n, "best" | "step" | "seconds") && !n.starts_with("best."))
}

impl StopWatch {
    /// Watches for this rule, given the direction in which metrics get better.
    pub fn new(rule: Rule, better: BTreeMap<String, Better>) -> StopWatch {
        StopWatch { rule, better, last: BTreeMap::new(), best: BTreeMap::new(), streaks: BTreeMap::new() }
    }

    /// Takes in metrics of a step; says why the stage is to be stopped, once it is.
    pub fn take(&mut self, step: u64, seconds: f64, metrics: &[(String, f64)]) -> Option<String> {
        for (name, value) in metrics {
            self.last.insert(name.clone(), *value);
            if value.is_finite() {
                let best = self.best.entry(name.clone()).or_insert(*value);
                *best = if self.better.get(name) == Some(&Better::Higher) { best.max(*value) } else { best.min(*value) };
            }
        }
        let rule = std::mem::replace(&mut self.rule, Rule { text: String::new(), root: Logic::All(Vec::new()) });
        let holds = joined(&rule.root, &mut |test| self.look(test, step, seconds, metrics)) == Truth::True;
        let said = holds.then(|| {
            let named = rule.names();
            let values: Vec<String> =
                self.last.iter().filter(|(n, _)| named.contains(n.as_str())).map(|(n, v)| format!("{n} {v}")).collect();
            format!("its rule `{}` held at step {step} ({})", rule.text, values.join(", "))
        });
        self.rule = rule;
        said
    }

    fn look(&mut self, test: &Test, step: u64, seconds: f64, metrics: &[(String, f64)]) -> Truth {
        let names = test.names();
        let of_this =
            metrics.iter().any(|(n, _)| names.contains(&n.as_str())) || names.contains(&"step") || names.contains(&"seconds");
        if of_this {
            let known = |value: Option<&f64>| value.map_or(Known::Unknown, |v| Known::Value(*v));
            let truth = test.truth(&|name| match name {
                "step" => Known::Value(step as f64),
                "seconds" => Known::Value(seconds),
                "best" => known(subject(test).and_then(|n| self.best.get(n))),
                other => known(match other.strip_prefix("best.") {
                    Some(metric) => self.best.get(metric),
                    None => self.last.get(other),
                }),
            });
            let streak = self.streaks.entry(test.at.start).or_insert((0, Truth::Unknown));
            *streak = (if truth == Truth::True { streak.0.saturating_add(1) } else { 0 }, truth);
        }
        match self.streaks.get(&test.at.start) {
            Some((times, _)) if *times >= test.steps => Truth::True,
            // What has not been looked at yet, or could not be said, is not false either.
            None | Some((_, Truth::Unknown)) => Truth::Unknown,
            Some(_) => Truth::False,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parse;

    fn first(rule: &str, values: &[f64]) -> Option<u64> {
        let mut watch = StopWatch::new(parse(rule).unwrap(), [("auc".to_string(), Better::Higher)].into());
        let metric = if rule.contains("auc") { "auc" } else { "loss" };
        (1..).zip(values).find(|(step, v)| watch.take(*step, *step as f64, &[(metric.to_string(), **v)]).is_some()).map(|(s, _)| s)
    }

    #[test]
    fn a_rule_waits_for_its_steps_on_end() {
        let diverges = [1.0, 0.5, 1.1, 0.4, 0.9, 1.0, 1.2];
        assert_eq!(first("loss > 2 * best for 3 steps", &diverges), Some(7));
        assert_eq!(first("loss > 2 * best", &diverges), Some(3));
        assert_eq!(first("auc < best for 2 steps", &[0.6, 0.7, 0.69, 0.71, 0.7, 0.7]), Some(6));
        assert_eq!(first("loss is not finite", &[1.0, f64::NAN]), Some(2));
        assert_eq!(first("loss > 2 * best for 2 steps", &[1.0, f64::NAN, f64::NAN]), None);
        assert_eq!(first("not loss > 1", &[f64::NAN, f64::NAN]), None, "a NaN is neither");
        assert_eq!(first("not losss > 1", &[1.0, 2.0]), None, "nor is what never comes");
        assert_eq!(first("not loss > 1", &[2.0, 0.5]), Some(2));
        assert_eq!(first("seconds > 2 and loss > 0", &[1.0, 1.0, 1.0]), Some(3));
    }
}
