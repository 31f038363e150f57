//! The metrics of a run, out of those of its stages.

use std::collections::BTreeMap;

use statrs::distribution::{ContinuousCDF, StudentsT};

use super::outcome::SettledStage;
use crate::config::manifest::{Manifest, declared_name};
use crate::record::receipt::Metric;

/// How probable it is that the interval over the values of `each` holds the mean.
const LEVEL: f64 = 0.95;

/// What a metric comes to over the stages out of one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Spread {
    /// The standard deviation of the sample, with n − 1 below the line.
    pub spread: f64,
    /// The ends of the interval of the mean by Student's t with n − 1 degrees of freedom.
    pub interval: (f64, f64),
}

fn mean_of(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

impl Spread {
    /// Of two values or more that are all finite.
    pub fn of(values: &[f64]) -> Option<Spread> {
        let n = values.len() as f64;
        if values.len() < 2 || values.iter().any(|v| !v.is_finite()) {
            return None;
        }
        let mean = mean_of(values);
        let spread = (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
        let t = StudentsT::new(0.0, 1.0, n - 1.0).ok()?.inverse_cdf(0.5 + LEVEL / 2.0);
        let half = t * spread / n.sqrt();
        Some(Spread { spread, interval: (mean - half, mean + half) })
    }
}

/// The metrics of the stages out of one: where all have theirs the mean under its own name, with spread and interval.
/// Else nothing can be said of all, and each stands for itself.
pub(super) fn of_group(members: &[&SettledStage], whole: usize) -> Option<BTreeMap<String, Metric>> {
    let metrics: Vec<_> =
        members.iter().filter(|s| s.state.has_result()).filter_map(|s| s.execution.as_ref()).map(|e| &e.metrics).collect();
    if metrics.len() != whole {
        return None;
    }
    let mut all = BTreeMap::new();
    for name in metrics.iter().flat_map(|m| m.keys()) {
        let values: Vec<f64> = metrics.iter().filter_map(|m| m.get(name)).map(|m| m.0).collect();
        if values.len() < whole || all.contains_key(name) {
            continue; // one of them does not tell it: a mean of the others would be another metric
        }
        all.insert(name.clone(), Metric(mean_of(&values)));
        if let Some(found) = Spread::of(&values) {
            all.insert(format!("{name}.each.spread"), Metric(found.spread));
            all.insert(format!("{name}.each.low"), Metric(found.interval.0));
            all.insert(format!("{name}.each.high"), Metric(found.interval.1));
        }
    }
    Some(all)
}

/// The metrics of a run by name. Two stages may both have an `auc`: the later one's is then known by its stage.
pub(super) fn metrics_of(manifest: &Manifest, stages: &[SettledStage]) -> BTreeMap<String, Metric> {
    let mut all: BTreeMap<String, Metric> = BTreeMap::new();
    let mut add = |stage: &str, metrics: &BTreeMap<String, Metric>| {
        for (name, value) in metrics {
            let name = if all.contains_key(name) { format!("{stage}.{name}") } else { name.clone() };
            all.insert(name, *value);
        }
    };
    let mut done: Vec<&str> = Vec::new();
    for stage in stages {
        let declared = declared_name(&stage.stage);
        if declared == stage.stage {
            stage.execution.iter().for_each(|e| add(declared, &e.metrics));
            continue;
        }
        if done.contains(&declared) {
            continue;
        }
        done.push(declared);
        let members: Vec<&SettledStage> = stages.iter().filter(|s| declared_name(&s.stage) == declared).collect();
        match of_group(&members, manifest.stages_of(declared).count()) {
            Some(metrics) => add(declared, &metrics),
            None => {
                for (member, execution) in members.iter().filter_map(|s| Some((s, s.execution.as_ref()?))) {
                    let own = execution.metrics.iter().map(|(name, value)| (format!("{}.{name}", member.stage), *value));
                    add(&member.stage, &own.collect());
                }
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::Spread;

    #[test]
    fn a_mean_has_its_interval() {
        // Student's t with 4 degrees of freedom at 0.975 is 2.776445 (any table of it).
        let found = Spread::of(&[0.80, 0.82, 0.84, 0.86, 0.88]).unwrap();
        assert!((found.spread - 0.001f64.sqrt()).abs() < 1e-12);
        let half = 2.776_445_105 * 0.001f64.sqrt() / 5f64.sqrt();
        assert!((found.interval.1 - 0.84 - half).abs() < 1e-9, "{found:?}");
        assert_eq!(Spread::of(&[0.5]), None);
        assert_eq!(Spread::of(&[0.5, f64::NAN]), None);
    }
}
