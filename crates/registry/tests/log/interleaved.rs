//! Writers side by side, each with what it has read at some time.

use super::*;
use proptest::prelude::*;

#[derive(Clone, Debug)]
enum Step {
    Publish(u8),
    Alias(u64, Option<u64>),
    Clear,
    Retire(u64),
    Note(u64),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        3 => (0..6_u8).prop_map(Step::Publish),
        3 => (1..5_u64, proptest::option::of(0..4_u64)).prop_map(|(v, only)| Step::Alias(v, only)),
        1 => Just(Step::Clear),
        1 => (1..5_u64).prop_map(Step::Retire),
        1 => (1..5_u64).prop_map(Step::Note),
    ]
}

fn action(registry: &Registry, step: &Step) -> Action {
    let name = "stops".to_string();
    match step {
        Step::Publish(n) => publication(registry, "common", "stops", &n.to_string()),
        Step::Alias(version, only) => {
            let only = only.map(|n| if n == 0 { OnlyIf::None } else { OnlyIf::Version(n) });
            alias(Some(*version), only)
        }
        Step::Clear => alias(None, None),
        Step::Retire(version) => Action::Retire { name, version: *version, because: "x".into() },
        Step::Note(version) => Action::Note { name, version: *version, text: "n".into() },
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Several write, each with what it has read at some time; all readers come to the same, and it keeps the rules.
    #[test]
    fn any_order_of_writers_gives_all_readers_the_same(steps in proptest::collection::vec((0..3_usize, step()), 1..40)) {
        let folder = tempfile::tempdir().unwrap();
        let storage: Arc<dyn Storage> = Arc::new(Memory::default());
        let logs: Vec<Log> = (0..3)
            .map(|n| Log::new(storage.clone(), Some(folder.path().join(format!("{n}/registry.jsonl"))), "test"))
            .collect();
        let mut made = 0;
        for (who, step) in &steps {
            let result = logs[*who].append::<LogError>(None, &Identity::new("w", "loom"), |registry| Ok(Some(action(registry, step))));
            match result {
                Ok((_, Appended::Made(entry))) => {
                    made += 1;
                    prop_assert_eq!(entry.number, made);
                }
                Ok(_) => prop_assert!(false),
                Err(LogError::NoEffect(_)) => {}
                Err(other) => return Err(TestCaseError::fail(other.to_string())),
            }
        }
        let all: Vec<Registry> = logs.iter().map(|log| log.whole().unwrap()).collect();
        // A glance says of each version what the whole log says, whoever wrote last, and whatever was remembered before.
        for (log, whole) in logs.iter().zip(&all) {
            log.remember(whole);
            for (name, model, version) in whole.versions() {
                let number = version.publication.version;
                let (part, found) = log.glance(name, Which::Number(number)).unwrap();
                let said = &part.models[name];
                prop_assert_eq!((found, said.version(number)), (number, Some(version)));
                prop_assert_eq!(&said.aliases, &model.aliases);
                prop_assert_eq!(said.version(number - 1), model.version(number - 1));
                prop_assert_eq!(&part.sections, &whole.sections);
            }
            for (alias, state) in whole.models.get("stops").iter().flat_map(|m| &m.aliases) {
                prop_assert_eq!(log.glance("stops", Which::Alias(alias)).unwrap().1, state.version);
            }
            prop_assert!(log.glance("stops", Which::Number(99)).is_none() && log.glance("nothing", Which::Number(1)).is_none());
        }
        let fresh = Log::new(storage, None, "test").whole().unwrap();
        prop_assert!(all.iter().all(|r| *r == fresh));
        prop_assert_eq!(fresh.entries.len() as u64, made);
        if let Some(model) = fresh.models.get("stops") {
            let mut contents: Vec<Digest> = model.versions.iter().map(|v| v.publication.content).collect();
            let count = contents.len();
            contents.sort_unstable();
            contents.dedup();
            prop_assert_eq!(contents.len(), count);
            for (at, version) in model.versions.iter().enumerate() {
                prop_assert_eq!(version.publication.version, at as u64 + 1);
            }
            for state in model.aliases.values() {
                prop_assert!(model.version(state.version).unwrap().retired.is_none());
            }
        }
    }
}
