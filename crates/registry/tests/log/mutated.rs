//! An entry that was changed.

use super::*;
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whatever becomes of the bytes of a signed entry: it is told, or says what it said.
    #[test]
    fn a_signed_entry_says_what_it_said_or_is_told(at in 0.0..1.0_f64, what in prop::sample::select(vec![0_u8, 1, 2]), byte: u8) {
        static KEY: std::sync::OnceLock<PrivateKey> = std::sync::OnceLock::new();
        let key = KEY.get_or_init(key);
        let entry = Entry {
            r#type: ENTRY.into(),
            number: 1,
            previous: None,
            id: "0123456789abcdef".into(),
            at: "2026-11-26T10:00:00Z".into(),
            by: "ada@loom".into(),
            action: section("weaving", &[("live", 2)], true, Kind::Model),
        };
        let sealed = envelope::seal(&entry, Some(&signer(key))).unwrap();
        let mut bytes = sealed.clone();
        let at = (at * bytes.len() as f64) as usize;
        match what {
            0 => bytes[at] = byte,
            1 => bytes.truncate(at),
            _ => bytes.insert(at, byte),
        }
        match envelope::open(&bytes) {
            Ok((found, Signed::By(by))) => {
                prop_assert_eq!(found, entry);
                prop_assert_eq!(by, KeyId::of(key.public_key()));
            }
            Ok((_, Signed::No)) => prop_assert!(false, "a signature does not go away"),
            Ok((_, Signed::Wrong(_))) | Err(_) => prop_assert_ne!(bytes, sealed),
        }
    }
}
