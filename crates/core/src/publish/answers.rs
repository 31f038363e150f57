//! Predictions held against others.

use super::PublishError;

/// Predictions as a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answers {
    /// The columns.
    pub columns: Vec<String>,
    /// The rows.
    pub rows: Vec<Vec<String>>,
}

/// A row that is predicted otherwise.
#[derive(Clone, Debug, PartialEq, serde::Serialize)]
pub struct RowDifference {
    /// The row of the example, from 1; none: all of them.
    pub row: Option<u64>,
    /// The column.
    pub column: String,
    /// What it was.
    pub was: String,
    /// What it is.
    pub is: String,
}

impl Answers {
    /// Out of CSV; there must be a row for each that came in.
    pub fn read(bytes: &[u8], rows: u64, command: &str) -> Result<Answers, PublishError> {
        let help = "let it print a header and then a row of predictions, as CSV, for each row that comes in";
        let wrong = |what: String| PublishError::refused(format!("`{command}` {what}"), help);
        let mut reader = csv::ReaderBuilder::new().from_reader(bytes);
        let columns: Vec<String> =
            reader.headers().map_err(|e| wrong(format!("did not answer with CSV: {e}")))?.iter().map(str::to_string).collect();
        if columns.iter().all(String::is_empty) {
            return Err(wrong("answered nothing".to_string()));
        }
        let mut found = Vec::new();
        for record in reader.records() {
            let record = record.map_err(|e| wrong(format!("did not answer with CSV: {e}")))?;
            found.push(record.iter().map(str::to_string).collect());
        }
        let answers = Answers { columns, rows: found };
        match answers.rows.len() as u64 {
            n if n == rows => Ok(answers),
            n => Err(wrong(format!("answered {n} rows to {rows}"))),
        }
    }
}

/// Whether two cells say the same: the same text, or numbers no further apart than `within`, relative to the larger one.
fn same(was: &str, is: &str, within: f64) -> bool {
    if was == is {
        return true;
    }
    let (Ok(a), Ok(b)) = (was.trim().parse::<f64>(), is.trim().parse::<f64>()) else { return false };
    a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= within * a.abs().max(b.abs())
}

/// What is predicted otherwise.
pub fn compare_answers(was: &Answers, is: &Answers, within: f64) -> Vec<RowDifference> {
    let mut found = Vec::new();
    if was.columns != is.columns {
        let (was, is) = (was.columns.join(","), is.columns.join(","));
        return vec![RowDifference { row: None, column: "the header".to_string(), was, is }];
    }
    for (at, (old, new)) in was.rows.iter().zip(&is.rows).enumerate() {
        for (column, (a, b)) in was.columns.iter().zip(old.iter().zip(new)) {
            if !same(a, b, within) {
                let row = Some(at as u64 + 1);
                found.push(RowDifference { row, column: column.clone(), was: a.clone(), is: b.clone() });
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Answers {
        Answers::read(text.as_bytes(), text.lines().count() as u64 - 1, "p").unwrap()
    }

    #[test]
    fn rows_that_are_predicted_otherwise_are_named() {
        let was = read("loom,risk\nL01,0.25\nL02,0.5\nL03,0.125\n");
        assert_eq!(compare_answers(&was, &was, 0.0), []);
        assert_eq!(compare_answers(&was, &read("loom,risk\nL01,0.250\nL02,5e-1\nL03,.125\n"), 0.0), []);
        let is = read("loom,risk\nL01,0.25\nL02,0.5000001\nL03,0.125\n");
        let found = compare_answers(&was, &is, 0.0);
        let wanted = RowDifference { row: Some(2), column: "risk".into(), was: "0.5".into(), is: "0.5000001".into() };
        assert_eq!(found, [wanted]);
        assert_eq!(compare_answers(&was, &is, 1e-6), []);
        assert_eq!(compare_answers(&was, &read("loom,score\nL01,1\nL02,1\nL03,1\n"), 1.0)[0].row, None);
    }

    #[test]
    fn too_few_rows_or_no_csv_are_told() {
        for (text, rows, wanted) in [
            ("a\n1\n", 2, "answered 1 rows to 2"),
            ("a\n1\n2\n3\n", 2, "answered 3 rows to 2"),
            ("", 1, "answered nothing"),
            ("a,b\n1\n", 1, "did not answer with CSV"),
        ] {
            let said = Answers::read(text.as_bytes(), rows, "p").unwrap_err().to_string();
            assert!(said.contains(wanted), "{said}");
        }
    }
}
