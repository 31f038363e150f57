//! Files of metrics that a stage writes as it goes: a history with a step column, or a file that is
//! written anew with each step.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use super::Signal;
use super::metrics::read_metrics;
use crate::table::{Origin, Row, Table, kind};

/// Columns that tell the step, the first that is there.
const STEP_COLUMNS: [&str; 5] = ["step", "iteration", "round", "epoch", "batch"];
/// A longer history is not read while it grows, only at its end. In bytes.
const LARGE: u64 = 8 << 20;

/// The column that tells the step.
pub fn step_column(columns: &[String]) -> Option<usize> {
    STEP_COLUMNS.iter().find_map(|name| columns.iter().position(|c| c.eq_ignore_ascii_case(name)))
}

/// The rows of a history (CSV, TSV or JSON Lines with a step column) from a row on; `None` when it is none.
pub fn read_history(path: &Path, from: usize) -> Option<Vec<Signal>> {
    let name = path.to_str()?;
    let table = Table::new(name, name, Origin::File(path.to_path_buf())).ok()?;
    let mut opened = table.open().ok()?;
    let step = step_column(&opened.columns)?;
    let columns = opened.columns.clone();
    let mut row = Row::default();
    let mut found = Vec::new();
    let mut number = 0;
    while opened.rows.next(&mut row).ok()? {
        number += 1;
        let told = kind::number(row.cell(step)).filter(|v| *v >= 0.0 && v.fract() == 0.0);
        if number <= from {
            continue;
        }
        let value = |at: usize| match row.cell(at) {
            b"NaN" | b"nan" => Some(f64::NAN),
            b"inf" | b"Infinity" => Some(f64::INFINITY),
            b"-inf" | b"-Infinity" => Some(f64::NEG_INFINITY),
            cell => kind::number(cell),
        };
        let cells = columns.iter().enumerate().filter(|(i, _)| *i != step);
        let metrics: Vec<(String, f64)> = cells.filter_map(|(i, c)| Some((c.clone(), value(i)?))).collect();
        found.push(Signal { metrics, step: told.map(|v| v as u64), ..Signal::default() });
    }
    Some(found)
}

struct Watched {
    path: PathBuf,
    seen: Option<(SystemTime, u64)>,
    rows: usize,
    /// Values of a file written anew, until it is certain that it is written more than once.
    before: Option<Vec<(String, f64)>>,
    rewritten: bool,
}

/// Watches a stage's files of metrics.
pub struct MetricFiles {
    files: Vec<Watched>,
}

impl MetricFiles {
    /// Watches these files, which need not be there yet.
    pub fn new(files: impl Iterator<Item = PathBuf>) -> MetricFiles {
        let watched = |path| Watched { path, seen: None, rows: 0, before: None, rewritten: false };
        MetricFiles { files: files.map(watched).collect() }
    }

    /// Whether there is anything to watch.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    /// What has come since the last look. At the `end` a history is read whatever its size.
    pub fn look(&mut self, end: bool) -> Vec<Signal> {
        self.files.iter_mut().flat_map(|f| f.look(end)).collect()
    }
}

impl Watched {
    fn look(&mut self, end: bool) -> Vec<Signal> {
        let Ok(meta) = std::fs::metadata(&self.path) else { return Vec::new() };
        // Opening a pipe would wait for somebody to write into it.
        if !meta.is_file() {
            return Vec::new();
        }
        let now = (meta.modified().unwrap_or(SystemTime::UNIX_EPOCH), meta.len());
        if self.seen == Some(now) || (!end && now.1 > LARGE) {
            return Vec::new();
        }
        if self.seen.is_some_and(|(_, length)| now.1 < length) {
            self.rows = 0;
        }
        self.seen = Some(now);
        // The last line of a history that is being written may not be whole yet.
        if let Some(mut rows) = read_history(&self.path, self.rows) {
            if !end && !ends_whole(&self.path) {
                rows.pop();
            }
            self.rows += rows.len();
            rows.retain(|r| !r.metrics.is_empty());
            return rows;
        }
        let Ok(values) = read_metrics(&self.path) else { return Vec::new() };
        let values: Vec<(String, f64)> = values.into_iter().map(|(n, m)| (n, m.0)).collect();
        self.rewritten(values)
    }

    /// A file that is written once is no series; with the second writing both count.
    fn rewritten(&mut self, values: Vec<(String, f64)>) -> Vec<Signal> {
        let named = |values: &Vec<(String, f64)>| values.iter().map(|(n, v)| (n.clone(), v.to_bits())).collect::<BTreeMap<_, _>>();
        let told = |values: Vec<(String, f64)>| {
            // A file that has a step of its own tells it.
            let names: Vec<String> = values.iter().map(|(n, _)| n.clone()).collect();
            let at = step_column(&names);
            let step = at.map(|i| values[i].1).filter(|v| *v >= 0.0 && v.fract() == 0.0).map(|v| v as u64);
            let metrics = values.into_iter().enumerate().filter(|(i, _)| Some(*i) != at).map(|(_, v)| v).collect();
            Signal { metrics, step, ..Signal::default() }
        };
        match self.before.take() {
            Some(before) if named(&before) == named(&values) => {
                self.before = Some(before);
                Vec::new()
            }
            Some(before) => {
                self.before = Some(values.clone());
                let first = (!std::mem::replace(&mut self.rewritten, true)).then(|| told(before));
                first.into_iter().chain([told(values)]).collect()
            }
            None => {
                self.before = Some(values);
                Vec::new()
            }
        }
    }
}

fn ends_whole(path: &Path) -> bool {
    use std::io::{Read, Seek, SeekFrom};
    let last = || -> std::io::Result<u8> {
        let mut file = std::fs::File::open(path)?;
        file.seek(SeekFrom::End(-1))?;
        let mut byte = [0];
        file.read_exact(&mut byte)?;
        Ok(byte[0])
    };
    last().is_ok_and(|b| b == b'\n')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn histories_and_rewritten_files_give_steps() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        let mut files = MetricFiles::new(["h.csv", "s.json"].iter().map(|n| folder.path().join(n)));
        write("h.csv", "epoch,loss,kind\n1,0.5,a\n2,0.4");
        write("s.json", "{\"auc\": 0.5}");
        let found = files.look(false);
        assert_eq!(found.len(), 1, "neither the line that is not whole nor a file written once: {found:?}");
        assert_eq!((found[0].step, found[0].metrics.clone()), (Some(1), vec![("loss".to_string(), 0.5)]));
        write("h.csv", "epoch,loss,kind\n1,0.5,a\n2,0.4,b\n3,NaN,c\n");
        write("s.json", "{\"auc\": 0.625}");
        let found = files.look(true);
        let steps: Vec<Option<u64>> = found.iter().map(|s| s.step).collect();
        assert_eq!(steps, [Some(2), Some(3), None, None]);
        assert_eq!((found[2].metrics[0].1, found[3].metrics[0].1), (0.5, 0.625));
        assert!(files.look(true).is_empty());
        // What JSON has no word for.
        write("h.jsonl", "{\"step\":1,\"loss\":NaN}\n{\"step\":2,\"loss\":-Infinity}\n");
        let history = read_history(&folder.path().join("h.jsonl"), 0).unwrap();
        assert!(history[0].metrics[0].1.is_nan() && history[1].metrics[0].1 == f64::NEG_INFINITY, "{history:?}");
    }
}
