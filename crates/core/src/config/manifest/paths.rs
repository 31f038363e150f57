//! Paths as the manifest writes them, and what is said of one that is none; amounts of memory.

use textum_base::PathFault;

/// What is said of a path that is none, after "the path … ", and what to write instead.
pub(super) fn advice(fault: PathFault, may_be_reference: bool) -> (&'static str, &'static str) {
    match fault {
        PathFault::Empty => ("is empty", "write a path relative to the project"),
        PathFault::NotRelative if may_be_reference => {
            ("is not relative", "move it into the project, or add hold = \"reference\" to leave its bytes there")
        }
        PathFault::NotRelative => {
            ("is not relative", "write a path relative to the folder of textum.toml; other files cannot be traced")
        }
        PathFault::Leaves => ("leaves the project", "move the file into the project, or a link's target below it"),
        PathFault::Project => ("names the project itself", "name the files or folders in it that count"),
        PathFault::NotPlain => ("is not in its plain form", "write it without `.` and empty parts"),
        PathFault::Reserved => ("lies in a folder of git's or of Textum's own", "choose a path outside .git and .textum"),
        PathFault::Nul => ("holds a NUL byte", "no file can have such a name"),
        PathFault::NotAbsolute => ("is no plain absolute path", "write the whole path without `..`, as in /mnt/looms/images"),
    }
}

/// A number of bytes such as `500MiB`, `2GiB`, `1.5GB` or `1048576`.
pub fn parse_bytes(text: &str) -> Option<u64> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic()).len();
    let number: f64 = text[..digits].trim().parse().ok()?;
    let unit: f64 = match text[digits..].to_ascii_lowercase().as_str() {
        "" | "b" => 1.0,
        "kb" => 1e3,
        "mb" => 1e6,
        "gb" => 1e9,
        "tb" => 1e12,
        "kib" | "k" => 1024.0,
        "mib" | "m" => 1024.0 * 1024.0,
        "gib" | "g" => 1024.0 * 1024.0 * 1024.0,
        "tib" | "t" => 1024.0 * 1024.0 * 1024.0 * 1024.0,
        _ => return None,
    };
    let bytes = number * unit;
    (0.0..1e18).contains(&bytes).then_some(bytes as u64)
}

#[cfg(test)]
mod tests {
    use super::parse_bytes;

    #[test]
    fn amounts_are_read() {
        let read = ["1.5GiB", "500MiB", "1048576", "1.5GB", "lots", "-1", "1e99"].map(parse_bytes);
        let expected = [Some(1_610_612_736), Some(524_288_000), Some(1_048_576), Some(1_500_000_000), None, None, None];
        assert_eq!(read, expected);
    }
}
