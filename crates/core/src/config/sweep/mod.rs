//! Many settings of the parameters: what `fit.rate=0.05,0.1` or `fit.depth=2..5` means, and the settings
//! that several of them make together.

mod range;

use std::collections::{BTreeSet, HashSet};

use serde_json::Value;

pub use range::{RangeError, values};

use crate::config::manifest::{Params, SetError};

/// A parameter and the values that it is to have.
#[derive(Clone, Debug, PartialEq)]
pub struct Varied {
    /// Its name.
    pub name: String,
    /// As it was written.
    pub text: String,
    /// Its values, each of the type in the manifest.
    pub values: Vec<Value>,
}

/// Why a sweep cannot be made.
#[derive(Debug, thiserror::Error, PartialEq)]
pub enum SweepError {
    /// The parameter is not there, or a value is of another type.
    #[error(transparent)]
    Set(#[from] SetError),
    /// The values do not parse.
    #[error("`{name}`: {source}")]
    Range {
        /// The parameter.
        name: String,
        /// What is wrong.
        source: RangeError,
    },
    /// One parameter was varied twice, or set and varied.
    #[error("`{0}` is given twice")]
    Twice(String),
    /// The parameters have more settings together than anybody wants.
    #[error("a sweep of {0} runs is more than a million")]
    Endless(u128),
}

/// One setting: names and values.
pub type Setting = Vec<(String, Value)>;

impl Varied {
    /// Reads `NAME=VALUES`, the values typed like the one in the manifest.
    pub fn parse(text: &str, params: &Params) -> Result<Varied, SweepError> {
        let (name, written) = text.split_once('=').ok_or_else(|| SetError::Form(text.to_string()))?;
        if params.get(name).is_none() {
            return Err(params.no_leaf(name).into());
        }
        let texts = values(written).map_err(|source| SweepError::Range { name: name.into(), source })?;
        let mut met = HashSet::new();
        let mut typed: Vec<Value> = Vec::new();
        for text in texts {
            let value = params.typed(name, &text)?;
            // 0.1 and 0.10 are one value, and so are 0 and -0.
            let written = if value.as_f64() == Some(0.0) { "0".into() } else { value.to_string() };
            if met.insert(written) {
                typed.push(value);
            }
        }
        Ok(Varied { name: name.to_string(), text: written.to_string(), values: typed })
    }
}

/// So many numbers below `total`, each as likely, by Floyd's algorithm (Bentley and Floyd 1987, Programming
/// pearls: a sample of brilliance). The random numbers are the BLAKE3 stream of the seed: the same on every
/// machine and in every version.
fn drawn(total: usize, count: usize, seed: u64) -> Vec<usize> {
    let mut stream = blake3::Hasher::new().update(b"textum sweep ").update(&seed.to_le_bytes()).finalize_xof();
    let mut below = |limit: u64| {
        let mut bytes = [0; 16];
        stream.fill(&mut bytes);
        (u128::from_le_bytes(bytes) % u128::from(limit)) as usize
    };
    let mut found = BTreeSet::new();
    for at in total - count..total {
        let number = below(at as u64 + 1);
        if !found.insert(number) {
            found.insert(at);
        }
    }
    found.into_iter().collect()
}

/// How many settings the full grid has.
pub fn size(varied: &[Varied]) -> u128 {
    varied.iter().fold(1, |size: u128, v| size.saturating_mul(v.values.len() as u128))
}

/// The settings of a sweep: the full grid, the last parameter changing fastest; or so many of it, drawn at
/// random, the same for the same seed, in the order of the grid.
pub fn settings(varied: &[Varied], sample: Option<usize>, seed: u64) -> Result<Vec<Setting>, SweepError> {
    for (i, one) in varied.iter().enumerate() {
        if varied[..i].iter().any(|other| other.name == one.name) {
            return Err(SweepError::Twice(one.name.clone()));
        }
    }
    let whole = size(varied);
    let count = sample.map_or(whole, |count| whole.min(count as u128));
    if count > range::MOST {
        return Err(SweepError::Endless(count));
    }
    let total = usize::try_from(whole).unwrap_or(usize::MAX);
    let chosen: Vec<usize> = match sample {
        Some(count) if count < total => drawn(total, count, seed),
        _ => (0..total).collect(),
    };
    let setting = |mut number: usize| {
        let mut setting: Setting = Vec::with_capacity(varied.len());
        for one in varied.iter().rev() {
            setting.push((one.name.clone(), one.values[number % one.values.len()].clone()));
            number /= one.values.len();
        }
        setting.reverse();
        setting
    };
    Ok(chosen.into_iter().map(setting).collect())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn params() -> Params {
        let tables = serde_json::from_str(r#"{"fit":{"rate":0.2,"depth":3,"kind":"tree"}}"#).unwrap();
        Params::from_tables(&tables)
    }

    #[test]
    fn values_take_the_type_of_the_manifest() {
        let of = |text: &str| Varied::parse(text, &params()).map(|v| serde_json::to_string(&v.values).unwrap());
        assert_eq!(of("fit.rate=0.05,0.1,0.10,1").unwrap(), "[0.05,0.1,1.0]");
        assert_eq!(of("fit.depth=2..5").unwrap(), "[2,3,4,5]");
        assert_eq!(of("fit.rate=0,-0,0.0").unwrap(), "[0.0]");
        // As many as may be written are read soon.
        assert_eq!(Varied::parse("fit.depth=0..999998", &params()).unwrap().values.len(), 999_999);
        let many = ["fit.depth=0..9999", "fit.rate=0..9999:1"].map(|t| Varied::parse(t, &params()).unwrap());
        assert_eq!(settings(&many, None, 0), Err(SweepError::Endless(100_000_000)));
        assert_eq!(settings(&many, Some(2_000_000), 0), Err(SweepError::Endless(2_000_000)));
        assert_eq!(settings(&many, Some(5), 0).unwrap().len(), 5);
        assert_eq!(of("fit.kind=tree,forest").unwrap(), r#"["tree","forest"]"#);
        for (bad, why) in [
            ("fit.rat=1", "did you mean `fit.rate`"),
            ("fit=1", "parameters of its own"),
            ("fit.depth=1.5,2", "whole number"),
            ("fit.rate=", "no values"),
            ("fit.rate", "NAME=VALUE"),
            ("fit.depth=5..2", "backwards"),
        ] {
            let said = of(bad).unwrap_err().to_string();
            assert!(said.contains(why), "{bad}: {said}");
        }
    }

    proptest! {
        #[test]
        fn a_sample_is_a_part_of_the_grid(a in 1usize..6, b in 1usize..6, count in 1usize..40, seed in any::<u64>()) {
            let list = |n: usize| (0..n).map(|i| i.to_string()).collect::<Vec<_>>().join(",");
            let varied = [format!("fit.depth={}", list(a)), format!("fit.rate={}", list(b))].map(|t| Varied::parse(&t, &params()).unwrap());
            let all = settings(&varied, None, 0).unwrap();
            prop_assert_eq!(all.len(), a * b);
            let drawn = settings(&varied, Some(count), seed).unwrap();
            prop_assert_eq!(drawn.len(), count.min(a * b));
            prop_assert!(drawn.iter().all(|s| all.contains(s)));
            prop_assert!(drawn.windows(2).all(|w| w[0] != w[1]));
            prop_assert_eq!(drawn, settings(&varied, Some(count), seed).unwrap());
        }
    }
}
