//! `textum runs`.

use std::collections::{HashMap, HashSet};

use clap::Args;
use textum_core::config::manifest::Better;
use textum_core::inspect::curve::steps_of;
use textum_core::pipeline::exec::{live_runs, live_view};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::{Field, NameError, RunRow, Selection, SortKey, VersionNumbers};
use textum_core::record::receipt::RunReceipt;
use textum_core::share::remote_runs;
use textum_core::table::filter::parse;

use super::{open, versions_by_content};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE, pointed_at};
use crate::render;
use crate::render::runs::Entry;
use crate::ui::Ui;

/// What `textum runs` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum runs                          the newest 20; a sweep is one line\n  textum runs sweep-3fa2c1             the runs of a sweep\n  textum runs --by auc --last 5        the five best by a metric\n  textum runs --where 'fit.rate < 0.2 and data.shifts = shifts@2 and state = done'\n  textum runs --group-by fit.depth     count, best and spread for each value of a parameter\n  textum runs --columns fit.rate,auc,took\n  textum runs --steps 7f3a             the steps and checkpoints of a run\n  textum runs --live                   what is at work now, here and elsewhere\n  textum runs --all --format csv > runs.csv\n\nRuns are told apart by run, label, state, started, took, sweep, by, data.NAME, parameters and metrics;\nwith --where and --group-by also by used.PACKAGE (the version that was used) and undeclared (files of\nthe project that were read without being declared): --where \"undeclared contains 'lib/units.py'\"; and by place, where stages were executed: --where 'place = cluster'"
)]
pub struct RunsArgs {
    /// Only the runs of this sweep
    #[arg(value_name = "SWEEP", add = clap_complete::ArgValueCandidates::new(crate::complete::runs_and_sweeps))]
    sweep: Option<String>,
    /// N at most: the newest, or the first in the order of --by
    #[arg(long, value_name = "N", default_value_t = 20, conflicts_with = "all")]
    last: usize,
    /// All runs
    #[arg(long)]
    all: bool,
    /// Sort by a metric (the best first), a parameter, data.NAME, took, started or label
    #[arg(long, value_name = "NAME", add = clap_complete::ArgValueCandidates::new(crate::complete::fields))]
    by: Option<String>,
    /// Turn the order round
    #[arg(long)]
    reverse: bool,
    /// Only runs that meet a condition
    #[arg(long = "where", value_name = "CONDITION")]
    condition: Option<String>,
    /// A line for each value of a parameter, dataset or other field
    #[arg(long, value_name = "NAME", conflicts_with_all = ["last", "flat"], add = clap_complete::ArgValueCandidates::new(crate::complete::fields))]
    group_by: Option<String>,
    /// Just these columns beside the run
    #[arg(long, value_name = "NAME,NAME…", value_delimiter = ',', conflicts_with = "group_by")]
    columns: Option<Vec<String>>,
    /// Each run of a sweep on a line of its own
    #[arg(long)]
    flat: bool,
    /// The runs at work now: here, and those that depots have heard of
    #[arg(long, conflicts_with_all = ["by", "condition", "group_by", "columns", "sweep", "last", "reverse", "flat", "steps", "all"])]
    live: bool,
    /// The steps of this run instead: metrics and checkpoints
    #[arg(long, value_name = "RUN", conflicts_with_all = ["by", "condition", "group_by", "columns", "sweep", "last", "reverse", "flat"], add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    steps: Option<String>,
}

/// Lists the runs.
pub fn run(global: &Global, args: &RunsArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    if args.live {
        return live(&project, ui);
    }
    if let Some(name) = &args.steps {
        return steps(&project, name, args.all, ui);
    }
    let versions = versions_by_content(&project)?;
    let numbers: VersionNumbers = versions.iter().map(|(k, v)| (k.clone(), v.number)).collect();
    let most = (!args.all).then_some(args.last);
    let mut asked = Selection { by: sort_key(&project, args)?, sweep: sweep(&project, args)?, most, ..Selection::default() };
    if let Some(text) = &args.condition {
        let condition = parse(text).map_err(|e| pointed_at(text, &e))?;
        asked.condition = Some((text.clone(), condition));
    }
    if let Some(name) = &args.group_by {
        return groups(&project, asked, name, args, &numbers, ui);
    }
    let plain = asked.by.is_none() && asked.condition.is_none() && asked.sweep.is_none() && args.columns.is_none();
    let folded = plain && !args.flat && ui.format == Format::Text;
    let (entries, more) = match folded {
        true => newest_entries(&project, most)?,
        false => {
            let (runs, more) = project.ledger.select(&asked, &numbers)?;
            (runs.into_iter().map(|r| Entry::Run(Box::new(r))).collect(), more)
        }
    };
    if ui.format == Format::Json {
        ui.json(&render::runs::json(entries.iter().flat_map(Entry::runs), &versions));
        return Ok(0);
    }
    let columns = args.columns.as_ref().map(|names| fields(&project, names)).transpose()?;
    if ui.format == Format::Csv {
        ui.result(&render::csv::runs(entries.iter().flat_map(Entry::runs), &versions, columns.as_deref()));
        return Ok(0);
    }
    let first = asked.by.as_ref().and_then(|key| match &key.field {
        Field::Metric(name) | Field::Param(name) | Field::Data(name) => Some(name.as_str()),
        _ => None,
    });
    let width = (ui.format == Format::Text).then_some(ui.width);
    let look = render::runs::Listing {
        directions: &project.manifest.metrics,
        versions: &versions,
        now: textum_base::clock::now(),
        width,
        columns: columns.as_deref(),
        first,
    };
    let listed = look.list(&entries);
    match ui.format {
        Format::Md => ui.result(&listed.markdown()),
        _ if entries.is_empty() && (args.condition.is_some() || args.sweep.is_some()) => ui.say("no run meets that"),
        _ if entries.is_empty() => ui.say("no runs yet: make one with `textum run`"),
        _ => ui.result(&listed.text(more, asked.by.is_some() || asked.condition.is_some(), &ui.style)),
    }
    for id in textum_core::pipeline::exec::live_runs(&project.workspace.runs_folder()) {
        ui.say(&format!("{id} is at work now: textum follow {}", id.rsplit('-').next().unwrap_or_default()));
    }
    super::tell_unattended(&project, ui)?;
    Ok(0)
}

fn sweep(project: &Project, args: &RunsArgs) -> Result<Option<String>, Failure> {
    let Some(name) = &args.sweep else { return Ok(None) };
    let known = project.ledger.sweeps()?;
    let fits =
        |k: &&String| k.starts_with(name.as_str()) || k.strip_prefix("sweep-").is_some_and(|rest| rest.starts_with(name.as_str()));
    let fitting: Vec<&String> = known.iter().filter(fits).collect();
    match fitting.as_slice() {
        [one] => Ok(Some((*one).clone())),
        [] => {
            let help = match known.is_empty() {
                true => "make one with `textum run --vary NAME=VALUES`; `textum show RUN` shows a single run".to_string(),
                false => format!("sweeps: {}; `textum show RUN` shows a single run", render::text::some(&known, 8)),
            };
            Err(Failure::new(NOT_THERE, format!("there is no sweep `{name}`"), help))
        }
        several => {
            let names: Vec<String> = several.iter().map(|s| (*s).clone()).collect();
            Err(Failure::new(USAGE, format!("`{name}` is ambiguous: {}", names.join(", ")), "give more of it"))
        }
    }
}

/// The runs at work now.
fn live(project: &Project, ui: &Ui) -> Result<u8, Failure> {
    let runs = project.workspace.runs_folder();
    let here: Vec<_> = live_runs(&runs).iter().filter_map(|run| live_view(&runs, run)).collect();
    let mut elsewhere = Vec::new();
    for decl in &project.manifest.depots {
        let found = project.depots.open(Some(&decl.name)).map_err(Failure::from);
        match found.and_then(|depot| Ok(remote_runs(&depot, &project.manifest.name)?)) {
            Ok(found) => elsewhere.extend(found),
            Err(e) => ui.say(&format!("{} the depot {} was not asked: {}", ui.err_style.bad("note:"), decl.name, e.message)),
        }
    }
    elsewhere.retain(|r| here.iter().all(|h| h.draft.run != r.state.run));
    let now = textum_base::clock::now();
    match ui.format {
        Format::Json => ui.json(&render::live::json(&here, &elsewhere)),
        _ if here.is_empty() && elsewhere.is_empty() => ui.say("no run is at work"),
        Format::Csv => ui.result(&render::live::csv(&here, &elsewhere)),
        Format::Md => ui.result(&render::live::markdown_of(&here, &elsewhere, now)),
        _ => ui.result(&render::live::text(&here, &elsewhere, now, &ui.style)),
    }
    Ok(0)
}

/// A metric's best comes first; whatever else is sorted, its smallest.
fn sort_key(project: &Project, args: &RunsArgs) -> Result<Option<SortKey>, Failure> {
    let Some(name) = &args.by else {
        return Ok(args.reverse.then_some(SortKey { field: Field::Started, descending: false }));
    };
    let field = known_by_run(project, name)?;
    let descending = match &field {
        Field::Metric(name) => !project.manifest.metrics.iter().any(|(n, b)| n == name && *b == Better::Lower),
        Field::Started => true,
        _ => false,
    };
    Ok(Some(SortKey { field, descending: descending != args.reverse }))
}

fn fields(project: &Project, names: &[String]) -> Result<Vec<(String, Field)>, Failure> {
    names.iter().map(|n| Ok((n.trim().to_string(), known_by_run(project, n.trim())?))).collect()
}

/// A field that each run is listed or sorted by.
fn known_by_run(project: &Project, name: &str) -> Result<Field, Failure> {
    let field = project.ledger.field(name)?;
    if field.is_only_for_conditions() {
        let what = format!("runs are not listed or sorted by `{name}`");
        return Err(Failure::new(USAGE, what, format!("ask with it: --where '{name} = …', or --group-by {name}")));
    }
    Ok(field)
}

/// The newest entries of the list: runs, and sweeps as one each.
fn newest_entries(project: &Project, most: Option<usize>) -> Result<(Vec<Entry>, usize), Failure> {
    let all = project.ledger.ids_and_sweeps()?;
    let mut entries: Vec<(Option<String>, Vec<String>)> = Vec::new();
    for (id, sweep) in all {
        let known = sweep.as_ref().and_then(|s| entries.iter().position(|(k, _)| k.as_ref() == Some(s)));
        match known {
            Some(at) => entries[at].1.push(id),
            None => entries.push((sweep, vec![id])),
        }
    }
    let total = entries.len();
    let shown = most.unwrap_or(total).min(total);
    let more = entries[shown..].iter().map(|(_, ids)| ids.len()).sum();
    entries.truncate(shown);
    let ids: HashSet<String> = entries.iter().flat_map(|(_, ids)| ids).cloned().collect();
    let mut rows: HashMap<String, RunRow> = project.ledger.runs_with(&ids)?.into_iter().map(|r| (r.run.clone(), r)).collect();
    let made = entries.into_iter().map(|(sweep, ids)| {
        let runs: Vec<RunRow> = ids.iter().filter_map(|id| rows.remove(id)).collect();
        Ok(match sweep {
            Some(name) => Entry::Sweep { name, runs },
            None => Entry::Run(Box::new(runs.into_iter().next().ok_or(NameError::NoRuns)?)),
        })
    });
    Ok((made.collect::<Result<_, Failure>>()?, more))
}

fn groups(
    project: &Project,
    mut asked: Selection,
    name: &str,
    args: &RunsArgs,
    numbers: &VersionNumbers,
    ui: &Ui,
) -> Result<u8, Failure> {
    let field = project.ledger.field(name)?;
    let directions = &project.manifest.metrics;
    let metric = match asked.by.take().map(|key| key.field) {
        Some(Field::Metric(name)) => Some(name),
        Some(_) => {
            let help = "name a metric with --by: its best and spread are told for each group";
            return Err(Failure::new(USAGE, "groups are told by a metric", help));
        }
        None => directions.iter().map(|(n, _)| n.clone()).find(|n| project.ledger.field(n).is_ok()),
    };
    // A group is made of all runs, not of the newest ones.
    asked.most = None;
    let (runs, _) = project.ledger.select(&asked, numbers)?;
    let better = metric.as_deref().map(|m| {
        let known = directions.iter().find(|(n, _)| n == m).map_or(Better::Higher, |(_, b)| *b);
        let turned = if known == Better::Higher { Better::Lower } else { Better::Higher };
        (m, if args.reverse { turned } else { known })
    });
    let found = project.ledger.groups(&runs, &field, better, numbers)?;
    match ui.format {
        Format::Json => ui.json(&render::groups::json(&found, better)),
        Format::Csv => ui.result(&render::csv::groups(name, &found, better.map(|(name, _)| name))),
        Format::Md => ui.result(&render::groups::markdown(name, &found, better)),
        _ if found.is_empty() => ui.say("no run meets that"),
        _ => ui.result(&render::groups::text(name, &found, better, &ui.style)),
    }
    Ok(0)
}

fn steps(project: &Project, name: &str, all: bool, ui: &Ui) -> Result<u8, Failure> {
    if let Some(run) = super::live_run(project, name) {
        let help = format!(
            "textum follow {} shows it; its steps are listed when it has ended",
            run.rsplit('-').next().unwrap_or_default()
        );
        return Err(Failure::new(NOT_THERE, format!("{run} is still at work"), help));
    }
    let id = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    let receipt = RunReceipt::load(&project.store, &row.receipt)?;
    let checkpoints = project.ledger.checkpoints_of(&id)?;
    let found = steps_of(&project.store, &receipt, &checkpoints, &project.manifest.metrics)?;
    match ui.format {
        Format::Json => ui.json(&render::steps::json(&id, &found)),
        Format::Csv => ui.result(&render::steps::csv(&found)),
        Format::Md => ui.result(&render::steps::markdown(&found)),
        _ if found.is_empty() => ui.say(&format!("no stage of {id} told of steps: see textum emit --help")),
        _ => ui.result(&render::steps::text(&id, &found, &project.manifest.metrics, all, ui.width, &ui.style)),
    }
    Ok(0)
}
