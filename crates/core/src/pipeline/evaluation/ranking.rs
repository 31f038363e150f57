//! The order of the rows of each query.

use super::Labels;
use super::judge::{Judge, mean};

/// What the rows of a query come to.
#[derive(Clone, Copy)]
struct Query {
    ndcg: f64,
    ndcg_at: f64,
    reciprocal: f64,
    recall: f64,
}

/// Orders of the rows of queries. Each query counts by the mean weight of its rows.
pub struct Ranked {
    queries: Vec<(Query, Vec<u32>)>,
    rows: usize,
}

/// Discounted cumulative gain of the first rows (Järvelin and Kekäläinen, "Cumulated Gain-Based Evaluation of IR
/// Techniques", 2002). Rows of the same score share the gain of their places (McSherry and Najork, "Computing Information
/// Retrieval Performance Measures Efficiently in the Presence of Tied Scores", 2008).
fn gain(sorted: &[(f64, f64)], at: usize) -> f64 {
    let discount = |place: usize| if place < at { 1.0 / (place as f64 + 2.0).log2() } else { 0.0 };
    let (mut sum, mut place) = (0.0, 0);
    for tied in sorted.chunk_by(|a, b| a.0 == b.0) {
        let discounts: f64 = (place..place + tied.len()).map(discount).sum();
        sum += discounts * tied.iter().map(|(_, relevance)| relevance).sum::<f64>() / tied.len() as f64;
        place += tied.len();
    }
    sum
}

fn query(scores: &[f64], relevance: &[f64], rows: &[u32], at: usize) -> Query {
    let mut sorted: Vec<(f64, f64)> = rows.iter().map(|r| (scores[*r as usize], relevance[*r as usize])).collect();
    sorted.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut best: Vec<(f64, f64)> = sorted.iter().map(|(_, relevance)| (*relevance, *relevance)).collect();
    best.sort_by(|a, b| b.0.total_cmp(&a.0));
    let share = |at: usize| gain(&sorted, at) / gain(&best, at);
    let relevant = sorted.iter().filter(|(_, r)| *r > 0.0).count() as f64;
    // Of rows with the same score a relevant one stands last: nothing is told in its favour.
    let place = |score: f64| sorted.iter().filter(|(s, _)| *s >= score).count();
    let places: Vec<usize> = sorted.iter().filter(|(_, r)| *r > 0.0).map(|(s, _)| place(*s)).collect();
    Query {
        ndcg: share(sorted.len()),
        ndcg_at: share(at),
        reciprocal: places.first().map_or(0.0, |first| 1.0 / *first as f64),
        recall: places.iter().filter(|p| **p <= at).count() as f64 / relevant,
    }
}

impl Ranked {
    /// Scores by which rows stand in order, how relevant each is, and which belong together.
    pub fn new(scores: &[f64], relevance: &[f64], queries: &Labels, at: u32) -> Ranked {
        let place = queries.distinct().into_iter().enumerate().map(|(i, q)| (q, i)).collect();
        let mut members: Vec<Vec<u32>> = vec![Vec::new(); queries.distinct().len()];
        queries.places(&place).enumerate().for_each(|(row, q)| members[q].push(row as u32));
        let judged = members.into_iter().map(|rows| (query(scores, relevance, &rows, at as usize), rows));
        Ranked { queries: judged.collect(), rows: scores.len() }
    }
}

impl Judge for Ranked {
    fn names(&self) -> Vec<String> {
        ["ndcg", "ndcg_at", "mrr", "recall_at", "queries", "without_relevant", "rows"].map(String::from).to_vec()
    }

    fn values(&self, weights: &[f64]) -> Vec<f64> {
        let (mut sums, mut told, mut without, mut queries) = ([0.0; 4], 0.0, 0.0, 0.0);
        for (query, rows) in &self.queries {
            let weight = rows.iter().map(|r| weights[*r as usize]).sum::<f64>() / rows.len() as f64;
            queries += f64::from(u8::from(weight > 0.0));
            // A query without any relevant row has no right order: it is left out and counted.
            if query.ndcg.is_nan() || query.recall.is_nan() {
                without += f64::from(u8::from(weight > 0.0));
                continue;
            }
            told += weight;
            let of = [query.ndcg, query.ndcg_at, query.reciprocal, query.recall];
            sums.iter_mut().zip(of).for_each(|(sum, value)| *sum += weight * value);
        }
        let means = sums.map(|sum| mean(sum, told));
        means.into_iter().chain([queries, without, weights.iter().sum()]).collect()
    }

    fn rows(&self) -> usize {
        self.rows
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_figures_are_those_of_an_independent_library() {
        // scikit-learn 1.9: ndcg_score([[10, 0, 0, 1, 5]], [[.1, .2, .3, 4, 70]]) = 0.69569…; with k = 4 0.41238…; with
        // tied scores [[1, 0, 0, 0, 1]] 0.92797…
        let relevance = [10.0, 0.0, 0.0, 1.0, 5.0];
        let labels = |text: &str| text.split(' ').collect::<Labels>();
        let of = |scores: &[f64], at| Ranked::new(scores, &relevance, &labels("a a a a a"), at).values(&[1.0; 5]);
        let found = of(&[0.1, 0.2, 0.3, 4.0, 70.0], 4);
        assert!(
            (found[0] - 0.695_694_044_381_307_6).abs() < 1e-9 && (found[1] - 0.412_381_881_753_453_1).abs() < 1e-9,
            "{found:?}"
        );
        assert_eq!(&found[2..], [1.0, 2.0 / 3.0, 1.0, 0.0, 5.0]);
        let tied = of(&[1.0, 0.0, 0.0, 0.0, 1.0], 5);
        assert!((tied[0] - 0.927_973_309_479_490_5).abs() < 1e-9, "{tied:?}");
        assert_eq!(tied[2], 0.5, "two share the first place");
        let two = Ranked::new(&[2.0, 1.0, 1.0], &[1.0, 0.0, 0.0], &labels("a a b"), 10).values(&[1.0; 3]);
        assert_eq!(two, [1.0, 1.0, 1.0, 1.0, 2.0, 1.0, 3.0], "a query without any relevant row is left out");
    }
}
