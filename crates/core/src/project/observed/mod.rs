//! What stages were seen to read: raw observations into documents, and documents held against what stands there now.
//!
//! [`ignore`]: what does not count; [`places`]: what a path is; [`packages`]: whose a file of an interpreter's folder is;
//! [`settle`]: an observation into a document; [`names`]: names in it that were asked for; [`check`]: what of it has changed; [`files`]: digests by metadata.
//! [`away`]: all that on another machine; [`seal`]: what a sealed stage may do.

mod away;
mod check;
mod files;
mod ignore;
mod keep;
mod names;
mod packages;
mod places;
mod seal;
mod settle;

pub use away::{AWAY_WORD, AwayOrder, SeenAway, execute_observed, read_seen_away, take_in_seen};
pub use check::{ObservedCheck, World};
pub use files::FileDigests;
pub use ignore::{IGNORED, Ignored};
pub use names::is_of_module;
pub use places::Places;
pub use seal::{can_seal, seal_of};
pub use settle::{SettleError, Settled, Stage, settle};

use std::collections::BTreeMap;
use std::sync::OnceLock;

/// Variables that are passed on to stages and count by value where stages are observed: time zone, language, where
/// libraries lie and what graphics processors there are. Those that only say where programs and files lie do not:
/// what was found by them is what counts.
const COUNTED: [&str; 9] =
    ["LANG", "LANGUAGE", "TZ", "LD_LIBRARY_PATH", "LIBRARY_PATH", "PKG_CONFIG_PATH", "JAVA_HOME", "R_HOME", "SSL_CERT_FILE"];
const COUNTED_PREFIXES: [&str; 4] = ["LC_", "CUDA_", "NVIDIA_", "ROCM_"];

/// The variables among these that count by value.
pub fn variables_that_count(variables: &[(String, String)]) -> BTreeMap<String, Option<String>> {
    let counts = |name: &str| COUNTED.contains(&name) || COUNTED_PREFIXES.iter().any(|p| name.starts_with(p));
    variables.iter().filter(|(name, _)| counts(name)).map(|(name, value)| (name.clone(), Some(value.clone()))).collect()
}

/// Variables that say who somebody is and where that person's files are. They count by value on the machine on which a result
/// was made: on another one they are other ones for everybody.
const OF_PERSON: [&str; 4] = ["HOME", "USER", "TMPDIR", "XDG_CACHE_HOME"];

/// Whether a variable counts only on the machine on which a result was made.
fn is_of_person(name: &str) -> bool {
    OF_PERSON.contains(&name)
}

/// What a document has of variables. Those of a person are left out where a sealed stage had folders of Textum's own.
fn variables_recorded(variables: &[(String, String)], sealed: bool) -> BTreeMap<String, Option<String>> {
    let mut all = variables_that_count(variables);
    for name in OF_PERSON.iter().filter(|name| !sealed || **name == "USER") {
        let value = variables.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone());
        all.insert((*name).to_string(), value);
    }
    all
}

/// Name of the processor and number of processors that this process may use.
fn processor() -> String {
    // The kernel takes a millisecond to say it, and hundreds of short stages ask.
    static SAID: OnceLock<String> = OnceLock::new();
    let said = SAID.get_or_init(|| {
        let text = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
        let name =
            text.lines().find_map(|l| l.strip_prefix("model name")?.split_once(':').map(|(_, name)| name.trim().to_string()));
        let count = std::thread::available_parallelism().map_or(1, usize::from);
        format!("{}, {count} processors", name.unwrap_or_else(|| std::env::consts::ARCH.to_string()))
    });
    said.clone()
}
