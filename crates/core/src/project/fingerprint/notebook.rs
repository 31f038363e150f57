//! Notebooks count by their code cells only, so that saving outputs changes nothing.

use serde_json::Value;

use crate::store::Digest;

/// The digest of a notebook's code: the BLAKE3 of the JSON array of the code cells' sources, in order.
/// `None` when the bytes are no notebook; they count as they are then.
pub fn code_digest(bytes: &[u8]) -> Option<Digest> {
    let notebook: Value = serde_json::from_slice(bytes).ok()?;
    let sources: Vec<String> = notebook["cells"]
        .as_array()?
        .iter()
        .filter(|cell| cell["cell_type"] == "code")
        .map(|cell| match &cell["source"] {
            Value::Array(lines) => lines.iter().filter_map(Value::as_str).collect(),
            other => other.as_str().unwrap_or_default().to_string(),
        })
        .collect();
    Some(Digest::of(&serde_json::to_vec(&sources).ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn outputs_and_prose_do_not_count() {
        let notebook = |code: &str, output: &str| {
            format!(
                r##"{{"cells":[{{"cell_type":"markdown","source":["# {output}"]}},{{"cell_type":"code","source":["{code}"],"outputs":["{output}"]}}]}}"##
            )
        };
        let digest = |code, output| code_digest(notebook(code, output).as_bytes()).unwrap();
        assert_eq!(digest("x = 1", "a"), digest("x = 1", "b"));
        assert_ne!(digest("x = 1", "a"), digest("x = 2", "a"));
        assert_eq!(code_digest(b"not json"), None);
    }
}
