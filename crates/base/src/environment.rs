//! The environment of this process: the one place where it is asked for.
// This is the one place.
#![allow(clippy::disallowed_methods)]

use std::ffi::OsString;

/// A variable; none when it is not set, or is no text.
pub fn variable(name: &str) -> Option<String> {
    std::env::var(name).ok()
}

/// A variable, whatever its bytes.
pub fn raw_variable(name: &str) -> Option<OsString> {
    std::env::var_os(name)
}

/// The names of all variables.
pub fn names() -> Vec<OsString> {
    std::env::vars_os().map(|(name, _)| name).collect()
}

/// All variables that are text.
pub fn variables() -> Vec<(String, String)> {
    std::env::vars_os().filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_set_is_none_and_all_is_what_each_is() {
        assert_eq!((variable("TEXTUM_NOT_SET"), raw_variable("TEXTUM_NOT_SET")), (None, None));
        assert_eq!(variable("\u{1}=\u{2}"), None, "no name at all");
        for (name, value) in variables() {
            assert!(names().contains(&OsString::from(&name)), "{name}");
            assert_eq!(variable(&name), Some(value), "{name}");
        }
    }
}
