//! `textum run`.

use std::collections::BTreeSet;

use clap::Args;
use textum_core::pipeline::exec::{RunOptions, RunOutcome, run as execute};
use textum_core::pipeline::plan::select_stages;
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{BranchedFrom, RunStageState, RunState};
use textum_core::share::LiveTeller;

use super::background::{self, BackgroundArgs, InBackground};
use super::{by_whom, open_to_write};
use crate::args::{Format, Global};
use crate::failure::{Failure, INTERRUPTED, NOT_THERE, UNSUCCESSFUL};
use crate::render;
use crate::ui::{Ui, catch_interrupts};

/// How much of the end of a failed stage's log is looked at. In bytes.
const LAST_BYTES: usize = 64 << 10;
/// So many characters of each line are shown.
const LONGEST_LINE: usize = 2000;
/// Lines of a failed stage's log that are shown.
const LAST_LINES: usize = 20;

/// What `textum run` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum run                      what the plan says\n  textum run fit                  only fit and what it needs\n  textum run --set fit.rate=0.1   with one parameter changed, this once\n  textum run --force fit          execute fit although its result is recorded\n  textum run --place cluster      on the cluster that [place.cluster] declares\n  textum run --detach             go on in the background, also when the terminal closes\n  textum run --sandbox            in a fresh folder that holds only what is declared\n  textum run --vary fit.rate=0.05,0.1,0.2 --vary fit.depth=2..5   a sweep: every combination, each a run\n  textum run --vary 'fit.rate=log(0.001..0.1, 20)' --sample 5     five of them, drawn at random\n  textum run --from 7f3a#4        start from a checkpoint of a run (#last, #best:auc)"
)]
pub struct RunArgs {
    /// Only these stages and what they need
    #[arg(value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    pub stages: Vec<String>,
    /// Give a parameter another value, this once; typed like the one in the manifest
    #[arg(long, value_name = "NAME=VALUE", add = clap_complete::ArgValueCandidates::new(crate::complete::params))]
    pub set: Vec<String>,
    /// Make a run for each value, and for each combination when given several times: a list (0.05,0.1), whole numbers (2..5), steps (0..1:0.25), even(0..1, 5), log(0.001..0.1, 5)
    #[arg(long, value_name = "NAME=VALUES", add = clap_complete::ArgValueCandidates::new(crate::complete::params))]
    pub vary: Vec<String>,
    /// Only N combinations of a sweep, drawn at random
    #[arg(long, value_name = "N", requires = "vary", value_parser = clap::value_parser!(u32).range(1..))]
    pub sample: Option<u32>,
    /// Draw others: the same number draws the same
    #[arg(long, value_name = "N", requires = "sample", default_value_t = 0)]
    pub seed: u64,
    /// Do not ask before a sweep of more than 10,000 runs
    #[arg(long, requires = "vary")]
    pub yes: bool,
    /// Start a stage from a checkpoint: RUN#STEP, RUN#last, RUN#best:METRIC, RUN:STAGE#STEP
    #[arg(long, value_name = "RUN#STEP", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    from: Vec<String>,
    /// Execute this stage although its result is recorded, and say whether it comes out the same
    #[arg(long, value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    pub force: Vec<String>,
    /// Stages at once at most
    #[arg(short, long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub jobs: Option<u16>,
    /// Go on with stages that do not depend on a failed one
    #[arg(long)]
    pub keep_going: bool,
    /// At the end show each of the stages that `each` makes on a line of its own
    #[arg(long)]
    each: bool,
    /// Show what stages print
    #[arg(long)]
    echo: bool,
    /// Work in a fresh folder that holds only what stages declare
    #[arg(long)]
    pub sandbox: bool,
    /// Where stages execute, this once: PLACE for all, STAGE=PLACE for one; local is this machine
    #[arg(long, value_name = "[STAGE=]PLACE")]
    pub place: Vec<String>,
    /// Leave outputs that are known where they are, here or in a depot, unless a stage that is executed reads them
    #[arg(long, conflicts_with_all = ["sandbox", "vary"])]
    pub lazy: bool,
    /// Seal all stages: nothing that they do not declare can be read, written or connected to
    #[arg(long)]
    pub sealed: bool,
    /// Take results from before stages were observed for right, and say so in their record
    #[arg(long)]
    pub trust_old: bool,
    #[command(flatten)]
    background: BackgroundArgs,
    /// A name for the run
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// Words about the run
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
}

/// Runs.
pub fn run(global: &Global, args: &RunArgs, ui: &Ui) -> Result<u8, Failure> {
    args.label.as_deref().map_or(Ok(()), super::remark::check_label)?;
    if args.background.detach {
        return background::start(global, ui);
    }
    let background = InBackground::enter(&args.background);
    let mut project = open_to_write(global, ui)?;
    super::receive_receipts(&project, ui);
    match args.sandbox || !args.vary.is_empty() {
        true => super::registry::must_stand(&mut project, ui)?,
        false => super::registry::bring_inputs(&mut project, ui)?,
    }
    for set in &args.set {
        project.params.set(set)?;
        project.set.extend(set.split('=').next().map(str::to_string));
    }
    let (all_at, places) = super::place::chosen(&project, &args.place)?;
    let options = RunOptions {
        stages: select_stages(&project, &args.stages)?,
        from: args.from.iter().map(|name| start_from(&project, name)).collect::<Result<_, _>>()?,
        place: all_at,
        places,
        resumes: None,
        force: select_stages(&project, &args.force)?.into_iter().collect::<BTreeSet<_>>(),
        jobs: args.jobs.map(usize::from),
        keep_going: args.keep_going,
        echo: args.echo,
        sandbox: args.sandbox,
        lazy: args.lazy,
        sealed: args.sealed,
        trust_old: args.trust_old,
        label: args.label.clone(),
        note: args.note.clone(),
        arguments: std::env::args().skip(1).collect(),
        by: by_whom(),
    };
    if !args.vary.is_empty() {
        return super::sweep::run(&mut project, args, options, &background, ui);
    }
    carry_out(&mut project, &options, args.each, &background, ui)
}

/// Runs with these options and shows what came of it.
pub fn carry_out(
    project: &mut Project,
    options: &RunOptions,
    open: bool,
    background: &InBackground,
    ui: &Ui,
) -> Result<u8, Failure> {
    let cancel = catch_interrupts();
    let teller = LiveTeller::of(project);
    let outcome = {
        let events = ui.events();
        execute(project, options, &background.hearing(&teller.hearing(&*events)), cancel)
    };
    teller.end();
    let outcome = outcome?;
    background.recorded();
    for stage in &outcome.stages {
        let shown = |digest: Option<textum_core::store::Digest>| digest.map_or("–".to_string(), |d| d.to_string());
        let receipt = stage.execution.as_ref().map(|e| e.receipt);
        ui.say_more(&format!("  {}  key {}  receipt {}", stage.stage, shown(stage.key), shown(receipt)));
    }
    if ui.format == Format::Json {
        ui.json(&render::run::json(&outcome, &project.store));
    } else {
        show_failures(project, &outcome, ui);
        let templates = render::each::Templates::of(&project.manifest);
        ui.result(&render::run::text(&outcome, &project.manifest.metrics, &templates, open, &ui.style));
    }
    Ok(match outcome.state {
        RunState::Done => 0,
        // Only who pressed Ctrl-C here has interrupted; a rule or `textum stop` is a run that did not succeed.
        RunState::Stopped if cancel.asked() => INTERRUPTED,
        RunState::Stopped | RunState::Failed | RunState::Interrupted => UNSUCCESSFUL,
    })
}

/// The stage and the checkpoint that `RUN#STEP` names.
pub fn start_from(project: &Project, name: &str) -> Result<(usize, BranchedFrom), Failure> {
    let row = super::checkpoint(project, name)?;
    let Some(stage) = project.graph.index_of(&row.stage) else {
        let help = "the manifest has no such stage any more: `textum restore RUN#STEP` still brings the checkpoint back";
        return Err(Failure::new(NOT_THERE, format!("the checkpoint {name} is of a stage `{}`", row.stage), help));
    };
    Ok((stage, row.to_start_from()))
}

/// The last lines of failed stages, with why and how they ended.
fn show_failures(project: &Project, outcome: &RunOutcome, ui: &Ui) {
    for stage in outcome.stages.iter().filter(|s| s.state == RunStageState::Failed) {
        let Some(execution) = &stage.execution else { continue };
        let log = execution.log.and_then(|d| project.store.tail(&d, LAST_BYTES).ok()).unwrap_or_default();
        let text = String::from_utf8_lossy(&log).into_owned();
        let lines: Vec<&str> = text.lines().collect();
        let from = lines.len().saturating_sub(LAST_LINES);
        let style = &ui.err_style;
        let reason = execution.reason.as_deref().unwrap_or_default();
        ui.say(&format!("\n{} {reason}", style.bad(&format!("{} failed:", stage.stage))));
        for line in &lines[from..] {
            let shown: String = line.chars().take(LONGEST_LINE).collect();
            let cut = if shown.len() < line.len() { " …" } else { "" };
            ui.say(&format!("  {} {shown}{cut}", style.dim("│")));
        }
        let run = outcome.run.as_deref().and_then(|r| r.rsplit('-').next()).unwrap_or("last");
        ui.say(&format!("{} textum show {run} --log {} shows all it printed\n", style.accent("next:"), stage.stage));
    }
}
