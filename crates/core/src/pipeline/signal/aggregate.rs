//! What came so far: each metric's series in short, and all points in a file.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::BufWriter;
use std::path::{Path, PathBuf};

use super::Signal;
use crate::config::manifest::Better;
use crate::fsio::IoError;
use crate::record::receipt::{Metric, Series, SignalNote, SignalRecord};

/// The columns of a file of points.
pub const POINTS_HEADER: [&str; 4] = ["seconds", "step", "metric", "value"];

const MOST_NOTES: usize = 1000;
const MOST_MALFORMED: usize = 20;
/// More names than this are taken for a mistake.
const MOST_METRICS: usize = 10_000;

/// Takes signals in.
pub struct Aggregate {
    record: SignalRecord,
    better: BTreeMap<String, Better>,
    path: PathBuf,
    points: Option<csv::Writer<BufWriter<File>>>,
    failed: Option<IoError>,
    /// How much is done, as last told.
    pub progress: Option<f64>,
    /// The highest step told of.
    pub step: Option<u64>,
}

impl Aggregate {
    /// A tally whose points go to this file, which is made with the first one.
    pub fn new(points: &Path, better: BTreeMap<String, Better>) -> Aggregate {
        Aggregate {
            record: SignalRecord::default(),
            better,
            path: points.to_path_buf(),
            points: None,
            failed: None,
            progress: None,
            step: None,
        }
    }

    /// What there is in short.
    pub fn record(&self) -> &SignalRecord {
        &self.record
    }

    /// The last value of each metric.
    pub fn last(&self) -> BTreeMap<String, Metric> {
        self.record.metrics.iter().map(|(n, s)| (n.clone(), s.last)).collect()
    }

    /// Takes a signal in; gives the step that it belongs to.
    pub fn take(&mut self, seconds: f64, signal: &Signal) -> u64 {
        let next =
            |t: &Aggregate| signal.metrics.iter().filter_map(|(n, _)| t.record.metrics.get(n)).map(|s| s.last_step + 1).max();
        let step =
            signal.step.unwrap_or_else(|| if signal.metrics.is_empty() { self.step.unwrap_or(1) } else { next(self).unwrap_or(1) });
        for (name, value) in &signal.metrics {
            self.point(seconds, step, name, *value);
        }
        if signal.step.is_some() || !signal.metrics.is_empty() {
            self.step = Some(self.step.map_or(step, |s| s.max(step)));
        }
        self.progress = signal.progress.or(self.progress);
        if let Some(text) = &signal.note
            && self.record.notes.len() < MOST_NOTES
        {
            self.record.notes.push(SignalNote { seconds, text: text.clone() });
        }
        step
    }

    /// Makes what came so far visible to those who read the file of points.
    pub fn flush(&mut self) {
        if let Some(points) = &mut self.points
            && let Err(e) = points.flush()
        {
            self.failed.get_or_insert(IoError::of("write", &self.path)(e));
        }
    }

    /// Takes note of a line that is no signal.
    pub fn malformed(&mut self, line: u64, what: String) {
        self.record.malformed += 1;
        if self.record.first_malformed.len() < MOST_MALFORMED {
            self.record.first_malformed.push((line, what));
        }
    }

    /// Takes note of a stored checkpoint.
    pub fn checkpoint(&mut self, receipt: crate::store::Digest) {
        self.record.checkpoints.push(receipt);
    }

    fn point(&mut self, seconds: f64, step: u64, name: &str, value: f64) {
        let better = self.better.get(name).copied();
        let full = self.record.metrics.len() >= MOST_METRICS;
        match self.record.metrics.get_mut(name) {
            Some(series) => {
                self.record.out_of_order += u64::from(step < series.last_step);
                self.record.repeated += u64::from(step == series.last_step);
                add(series, step, value, better);
            }
            None if full => return,
            None => {
                let mut series =
                    Series { points: 0, last: Metric(value), last_step: step, best: None, best_step: None, not_finite: 0 };
                add(&mut series, step, value, better);
                self.record.metrics.insert(name.to_string(), series);
            }
        }
        self.record.count += 1;
        if self.failed.is_none()
            && let Err(e) = self.write(seconds, step, name, value)
        {
            self.failed = Some(IoError::of("write", &self.path)(e));
        }
    }

    fn write(&mut self, seconds: f64, step: u64, name: &str, value: f64) -> std::io::Result<()> {
        if self.points.is_none() {
            let mut writer = csv::Writer::from_writer(BufWriter::with_capacity(
                64 << 10,
                crate::fsio::create(&self.path).map_err(|e| e.source)?,
            ));
            writer.write_record(POINTS_HEADER)?;
            self.points = Some(writer);
        }
        let Some(points) = &mut self.points else { return Ok(()) };
        Ok(points.write_record([&format!("{seconds:.3}"), &step.to_string(), name, &value.to_string()])?)
    }

    /// Ends it: what there is in short, and the file of points if there are any.
    pub fn end(mut self) -> Result<(SignalRecord, Option<PathBuf>), IoError> {
        if let Some(e) = self.failed {
            return Err(e);
        }
        let Some(mut points) = self.points.take() else { return Ok((self.record, None)) };
        points.flush().map_err(IoError::of("write", &self.path))?;
        Ok((self.record, Some(self.path)))
    }
}

fn add(series: &mut Series, step: u64, value: f64, better: Option<Better>) {
    series.points += 1;
    if step >= series.last_step {
        (series.last, series.last_step) = (Metric(value), step);
    }
    if !value.is_finite() {
        series.not_finite += 1;
        return;
    }
    let Some(better) = better else { return };
    let improves = series.best.is_none_or(|b| if better == Better::Higher { value > b.0 } else { value < b.0 });
    if improves {
        (series.best, series.best_step) = (Some(Metric(value)), Some(step));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn last_and_best_are_kept_and_odd_steps_counted() {
        let folder = tempfile::tempdir().unwrap();
        let mut aggregate = Aggregate::new(&folder.path().join("points"), [("loss".to_string(), Better::Lower)].into());
        let of = |step: Option<u64>, value: f64| Signal { metrics: vec![("loss".into(), value)], step, ..Signal::default() };
        let told = [(Some(1), 0.5), (Some(2), f64::NAN), (Some(3), 0.2), (Some(3), 0.3), (Some(2), 0.4), (None, 0.25)];
        let steps: Vec<u64> = told.iter().map(|(s, v)| aggregate.take(0.0, &of(*s, *v))).collect();
        assert_eq!(steps, [1, 2, 3, 3, 2, 4]);
        let (record, points) = aggregate.end().unwrap();
        let series = &record.metrics["loss"];
        assert_eq!((series.last.0, series.last_step, series.best.unwrap().0, series.best_step), (0.25, 4, 0.2, Some(3)));
        assert_eq!((record.out_of_order, record.repeated, series.not_finite, record.count), (1, 1, 1, 6));
        assert!(
            std::fs::read_to_string(points.unwrap())
                .unwrap()
                .starts_with("seconds,step,metric,value\n0.000,1,loss,0.5\n0.000,2,loss,NaN\n")
        );
    }
}
