//! Metrics over the steps of runs: read from what stages told, thinned to what can be drawn.

mod live;
mod steps;
mod thin;

use std::collections::BTreeMap;
use std::path::Path;

pub use live::LiveCurves;
pub use steps::{StageSteps, Step, steps_of};
pub use thin::thinned;

use crate::config::manifest::Better;
use crate::fsio::IoError;
use crate::record::receipt::{ReceiptError, RunReceipt, StageReceipt};
use crate::store::{Store, StoreError};

/// A value of a metric.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// The step.
    pub step: u64,
    /// Seconds since the stage began.
    pub seconds: f64,
    /// The value, which may be no finite number.
    pub value: f64,
}

/// A metric over the steps of one stage of a run.
#[derive(Clone, Debug)]
pub struct Curve {
    /// The run asked for.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// The metric.
    pub metric: String,
    /// Its values in the order of the steps; of a step told twice the later one.
    pub points: Vec<Point>,
    /// The run and step that the training went on from.
    pub from: Option<(String, u64)>,
    /// The best finite value, if it is known which direction is better.
    pub best: Option<Point>,
}

/// Why curves could not be had.
#[derive(Debug, thiserror::Error)]
pub enum CurveError {
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A file of points could not be read.
    #[error(transparent)]
    Io(#[from] IoError),
}

/// The names of the metrics that a run told of by step, with the number of points of each.
pub fn metrics_by_step(store: &Store, run: &RunReceipt) -> Result<BTreeMap<String, u64>, CurveError> {
    let mut found = BTreeMap::new();
    for digest in run.stages.iter().filter_map(|s| s.receipt) {
        if let Some(signals) = StageReceipt::load(store, &digest)?.signals {
            for (name, series) in signals.metrics {
                *found.entry(name).or_insert(0) += series.points;
            }
        }
    }
    Ok(found)
}

/// The curves of some metrics in a run, a curve for each stage that told of one.
pub fn curves(store: &Store, run: &RunReceipt, metrics: &[String], better: &[(String, Better)]) -> Result<Vec<Curve>, CurveError> {
    let mut found = Vec::new();
    for digest in run.stages.iter().filter_map(|s| s.receipt) {
        let receipt = StageReceipt::load(store, &digest)?;
        let Some(signals) = &receipt.signals else { continue };
        if !metrics.iter().any(|m| signals.metrics.contains_key(m)) {
            continue;
        }
        let Some(points) = &signals.points else { continue };
        let all = read_points(store.reader(&points.digest)?, metrics).map_err(|e| match e.downcast::<StoreError>() {
            Ok(e) => CurveError::Store(e),
            Err(e) => IoError::of("read", Path::new("the metrics by step"))(e).into(),
        })?;
        for (metric, points) in metrics.iter().zip(all).filter(|(_, p)| !p.is_empty()) {
            let direction = better.iter().find(|(n, _)| n == metric).map(|(_, b)| *b);
            found.push(Curve {
                run: run.run.clone(),
                stage: receipt.inputs.stage.clone(),
                metric: metric.clone(),
                best: direction.and_then(|d| best(&points, d)),
                points,
                from: receipt.from.as_ref().map(|f| (f.run.clone(), f.step)),
            });
        }
    }
    Ok(found)
}

/// The best finite point; of several the first.
pub fn best(points: &[Point], better: Better) -> Option<Point> {
    let finite = points.iter().filter(|p| p.value.is_finite());
    finite.fold(None, |so_far: Option<Point>, p| match so_far {
        Some(b) if (better == Better::Higher && p.value <= b.value) || (better == Better::Lower && p.value >= b.value) => Some(b),
        _ => Some(*p),
    })
}

/// Points sorted by step; of a step told twice the later one.
pub fn in_order(mut points: Vec<Point>) -> Vec<Point> {
    points.sort_by_key(|p| p.step);
    points.dedup_by(|later, kept| {
        let same = later.step == kept.step;
        if same {
            *kept = *later;
        }
        same
    });
    points
}

/// Reads the points of some metrics out of a file of points.
fn read_points(from: impl std::io::Read, metrics: &[String]) -> std::io::Result<Vec<Vec<Point>>> {
    let mut reader = csv::Reader::from_reader(std::io::BufReader::with_capacity(256 << 10, from));
    let mut found = vec![Vec::new(); metrics.len()];
    let mut record = csv::ByteRecord::new();
    let text = |bytes: Option<&[u8]>| bytes.and_then(|b| std::str::from_utf8(b).ok()).unwrap_or_default().to_string();
    while reader.read_byte_record(&mut record)? {
        let Some(at) = metrics.iter().position(|m| record.get(2) == Some(m.as_bytes())) else { continue };
        let (seconds, step, value) = (text(record.get(0)), text(record.get(1)), text(record.get(3)));
        if let (Ok(seconds), Ok(step), Ok(value)) = (seconds.parse(), step.parse(), value.parse()) {
            found[at].push(Point { step, seconds, value });
        }
    }
    Ok(found.into_iter().map(in_order).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_are_sorted_and_the_later_of_two_stands() {
        let text = "seconds,step,metric,value\n0.1,2,loss,0.5\n0.2,1,loss,0.9\n0.3,2,loss,0.4\n0.3,2,auc,NaN\n";
        let found = read_points(text.as_bytes(), &["loss".into(), "auc".into()]).unwrap();
        let loss: Vec<(u64, f64)> = found[0].iter().map(|p| (p.step, p.value)).collect();
        assert_eq!(loss, [(1, 0.9), (2, 0.4)]);
        assert!(found[1][0].value.is_nan() && best(&found[1], Better::Higher).is_none());
        assert_eq!(best(&found[0], Better::Lower).unwrap().step, 2);
    }
}
