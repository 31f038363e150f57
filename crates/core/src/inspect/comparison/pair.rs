//! Two runs whose models have judged the same rows.

use super::Side;
use crate::config::manifest::{Command, Evaluation, Intervals};
use crate::data::{DataError, table_in_store};
use crate::pipeline::evaluation::{EvaluationError, Paired, PairedError, Predictions, Rows, paired};
use crate::project::workspace::Project;
use crate::record::receipt::Content;
use crate::table::{Table, TableError};

/// So many rows on which both disagree are shown.
const SHOWN: usize = 10;

/// Why two runs could not be held against one another row by row.
#[derive(Debug, thiserror::Error)]
pub enum PairError {
    /// A run has no evaluation, or several and none was named.
    #[error("{0}")]
    Stage(String),
    /// Both have judged something else.
    #[error("the stage `{0}` judges something else in the two runs: other columns, or another truth")]
    Other(String),
    /// The predictions could not be found.
    #[error(transparent)]
    Data(#[from] DataError),
    /// They could not be judged.
    #[error(transparent)]
    Paired(#[from] PairedError),
}

/// How two runs are held against one another.
#[derive(Clone, Debug, Default)]
pub struct PairOptions {
    /// The stage that evaluates, if there are several.
    pub stage: Option<String>,
    /// The columns that tell rows apart.
    pub key: Vec<String>,
}

/// What an evaluation of a run has judged.
struct Judgement<'s> {
    stage: &'s str,
    evaluation: &'s Evaluation,
    content: &'s Content,
}

fn judgement<'s>(side: &'s Side, wanted: Option<&str>) -> Result<Judgement<'s>, PairError> {
    let run = &side.run.run;
    let all: Vec<Judgement<'s>> = side
        .executed()
        .filter_map(|receipt| {
            let Command::Evaluate(evaluation) = &receipt.inputs.run else { return None };
            let read = receipt.reads.iter().find(|r| *r.at.path == *evaluation.predictions)?;
            Some(Judgement { stage: &receipt.inputs.stage, evaluation, content: &read.at.content })
        })
        .collect();
    let names: Vec<&str> = all.iter().map(|j| j.stage).collect();
    let wrong = |what: String| Err(PairError::Stage(what));
    match (wanted, names.as_slice()) {
        (Some(wanted), _) => match names.iter().position(|n| *n == wanted) {
            Some(at) => Ok(all.into_iter().nth(at)).and_then(|j| j.ok_or_else(|| PairError::Stage(wanted.to_string()))),
            None => wrong(format!("the run {run} has no stage `{wanted}` that evaluates predictions")),
        },
        (None, [_]) => all.into_iter().next().ok_or_else(|| PairError::Stage(run.clone())),
        (None, []) => wrong(format!("no stage of the run {run} evaluates predictions")),
        (None, several) => wrong(format!("several stages of the run {run} evaluate predictions: {}", several.join(", "))),
    }
}

/// The columns of a declared key that both tables have.
fn key_of(project: &Project, tables: [&Table<'_>; 2]) -> Result<Vec<String>, TableError> {
    let columns = [tables[0].open()?.columns, tables[1].open()?.columns];
    let has = |key: &&Vec<String>| !key.is_empty() && key.iter().all(|k| columns.iter().all(|c| c.contains(k)));
    Ok(project.manifest.data.iter().map(|d| &d.key).find(has).cloned().unwrap_or_default())
}

/// What came of it: the stage, the columns that told rows apart, and the rest.
pub struct Pair {
    /// The stage that evaluates.
    pub stage: String,
    /// The columns that told rows apart; none: rows in the same places.
    pub key: Vec<String>,
    /// How intervals were found.
    pub intervals: Intervals,
    /// Everything else.
    pub paired: Paired,
}

/// Holds two runs against one another on the rows that both have judged.
pub fn pair(project: &Project, a: &Side, b: &Side, options: &PairOptions) -> Result<Pair, PairError> {
    let first = judgement(a, options.stage.as_deref())?;
    let second = judgement(b, options.stage.as_deref())?;
    let same = first.evaluation.truth == second.evaluation.truth && first.evaluation.judged == second.evaluation.judged;
    if !same {
        return Err(PairError::Other(second.stage.to_string()));
    }
    // What is asked for now holds for both.
    let evaluation = second.evaluation;
    let table = |side: &Side, of: &Judgement<'_>| {
        let name = format!("{} of {}", of.evaluation.predictions, side.run.run);
        table_in_store(&project.store, &name, &of.evaluation.predictions, of.content, &Default::default())
    };
    let tables = [table(a, &first)?, table(b, &second)?];
    let failed = |e: TableError| PairError::Paired(e.into());
    let key = match options.key.is_empty() {
        true => key_of(project, [&tables[0], &tables[1]]).map_err(failed)?,
        false => options.key.clone(),
    };
    let judged = |e: EvaluationError| PairError::Paired(e.into());
    let rows = [Predictions::of(&tables[0], evaluation).map_err(judged)?, Predictions::of(&tables[1], evaluation).map_err(judged)?];
    let keys = match key.is_empty() {
        true => [None, None],
        false => [Some(Rows::of(&tables[0], &key).map_err(failed)?), Some(Rows::of(&tables[1], &key).map_err(failed)?)],
    };
    let usual = Intervals { level: "0.95".into(), resamples: 1000, seed: 0 };
    let intervals = evaluation.intervals.clone().unwrap_or(usual);
    let known = evaluation.directions();
    let declared = &project.manifest.metrics;
    let better = |name: &str| declared.iter().chain(&known).find(|(n, _)| n == name).map(|(_, better)| *better);
    let found = paired(evaluation, (&rows[0], keys[0].as_ref()), (&rows[1], keys[1].as_ref()), &intervals, &better, SHOWN)?;
    Ok(Pair { stage: second.stage.to_string(), key, intervals, paired: found })
}
