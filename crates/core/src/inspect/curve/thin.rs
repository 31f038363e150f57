//! Many points to as many as can be drawn, without losing a peak.

use super::Point;

/// At most about `most` points: of each stretch the first, the lowest, the highest and the last; a stretch
/// with a value that is not finite keeps one of those, so that the gap is seen.
pub fn thinned(points: &[Point], most: usize) -> Vec<Point> {
    if points.len() <= most.max(4) {
        return points.to_vec();
    }
    let stretch = points.len().div_ceil((most / 4).max(1));
    let mut kept = Vec::new();
    for part in points.chunks(stretch) {
        let finite = || part.iter().enumerate().filter(|(_, p)| p.value.is_finite());
        let by = |a: &(usize, &Point), b: &(usize, &Point)| a.1.value.total_cmp(&b.1.value);
        let mut places: Vec<usize> = [Some(0), Some(part.len() - 1)].into_iter().flatten().collect();
        places.extend(finite().min_by(by).map(|(i, _)| i));
        places.extend(finite().max_by(by).map(|(i, _)| i));
        places.extend(part.iter().position(|p| !p.value.is_finite()));
        places.sort_unstable();
        places.dedup();
        kept.extend(places.into_iter().map(|i| part[i]));
    }
    kept
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn peaks_and_ends_survive(values in prop::collection::vec(-1e6f64..1e6, 1..3000), most in 4usize..400) {
            let points: Vec<Point> = (0..).zip(&values).map(|(step, v)| Point { step, seconds: 0.0, value: *v }).collect();
            let kept = thinned(&points, most);
            let extreme = |p: &[Point]| p.iter().map(|p| p.value).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
            prop_assert_eq!(extreme(&points), extreme(&kept));
            prop_assert_eq!((points[0], points[points.len() - 1]), (kept[0], kept[kept.len() - 1]));
            prop_assert!(kept.len() <= most.max(5) * 5 / 4 + 5);
            prop_assert!(kept.windows(2).all(|w| w[0].step < w[1].step));
        }
    }
}
