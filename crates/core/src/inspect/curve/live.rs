//! The curves of a stage that is still running, read from its file of points as it grows.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use super::Point;

/// More points of one metric than this are thinned: only what is drawn is needed.
const MOST: usize = 20_000;
/// Bytes read at one look.
const BITE: u64 = 4 << 20;

/// Reads points as they come.
pub struct LiveCurves {
    path: PathBuf,
    read: u64,
    rest: Vec<u8>,
    /// The points of each metric, in the order in which they came.
    pub series: BTreeMap<String, Vec<Point>>,
}

impl LiveCurves {
    /// A reader of this file of points, which need not be there yet.
    pub fn new(path: &Path) -> LiveCurves {
        LiveCurves { path: path.to_path_buf(), read: 0, rest: Vec::new(), series: BTreeMap::new() }
    }

    /// Takes in what has come since the last look.
    pub fn look(&mut self) {
        let Ok(mut file) = File::open(&self.path) else { return };
        if file.seek(SeekFrom::Start(self.read)).is_err() {
            return;
        }
        let mut bytes = std::mem::take(&mut self.rest);
        self.read += file.take(BITE).read_to_end(&mut bytes).unwrap_or(0) as u64;
        let whole = memchr::memrchr(b'\n', &bytes).map_or(0, |at| at + 1);
        self.rest = bytes.split_off(whole);
        let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(bytes.as_slice());
        for record in reader.records().flatten() {
            let field = |i: usize| record.get(i).unwrap_or_default();
            let (Ok(seconds), Ok(step), Ok(value)) = (field(0).parse(), field(1).parse(), field(3).parse()) else { continue };
            let points = self.series.entry(field(2).to_string()).or_default();
            points.push(Point { step, seconds, value });
            if points.len() > MOST {
                let mut keep = false;
                points.retain(|_| {
                    keep = !keep;
                    keep
                });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn points_are_taken_once_and_whole() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("points.csv");
        let mut live = LiveCurves::new(&path);
        live.look();
        let mut file = File::create(&path).unwrap();
        file.write_all(b"seconds,step,metric,value\n0.1,1,loss,0.5\n0.2,2,lo").unwrap();
        live.look();
        assert_eq!(live.series["loss"].len(), 1);
        file.write_all(b"ss,0.25\n").unwrap();
        live.look();
        live.look();
        assert_eq!(live.series["loss"].iter().map(|p| p.value).collect::<Vec<_>>(), [0.5, 0.25]);
    }
}
