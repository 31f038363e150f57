//! A set of a run's stages: of thousands each is looked up after each that ends.

use crate::config::graph::StageIndex;

/// A set of stages, by number.
#[derive(Clone, Debug, Default)]
pub(super) struct StageSet {
    has: Vec<bool>,
    count: usize,
}

impl StageSet {
    pub(super) fn contains(&self, stage: StageIndex) -> bool {
        self.has.get(stage).copied().unwrap_or(false)
    }

    pub(super) fn insert(&mut self, stage: StageIndex) {
        if self.has.len() <= stage {
            self.has.resize(stage + 1, false);
        }
        self.count += usize::from(!std::mem::replace(&mut self.has[stage], true));
    }

    /// Whether it was there.
    pub(super) fn remove(&mut self, stage: StageIndex) -> bool {
        let was = self.has.get_mut(stage).is_some_and(std::mem::take);
        self.count -= usize::from(was);
        was
    }

    pub(super) fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// All, in the order of their numbers.
    pub(super) fn iter(&self) -> impl Iterator<Item = StageIndex> {
        self.has.iter().enumerate().filter(|(_, has)| **has).map(|(stage, _)| stage)
    }
}

impl FromIterator<StageIndex> for StageSet {
    fn from_iter<I: IntoIterator<Item = StageIndex>>(stages: I) -> StageSet {
        let mut set = StageSet::default();
        stages.into_iter().for_each(|stage| set.insert(stage));
        set
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_is_a_set(doings in prop::collection::vec((0_usize..30, any::<bool>()), 0..80)) {
            let (mut set, mut model) = (StageSet::default(), BTreeSet::new());
            for (stage, put) in doings {
                match put {
                    true => {
                        set.insert(stage);
                        model.insert(stage);
                    }
                    false => prop_assert_eq!(set.remove(stage), model.remove(&stage)),
                }
                prop_assert_eq!(set.is_empty(), model.is_empty());
                prop_assert_eq!(set.contains(stage), model.contains(&stage));
            }
            prop_assert_eq!(set.iter().collect::<Vec<_>>(), model.iter().copied().collect::<Vec<_>>());
            let again: StageSet = model.into_iter().collect();
            prop_assert_eq!(again.iter().collect::<Vec<_>>(), set.iter().collect::<Vec<_>>());
        }
    }
}
