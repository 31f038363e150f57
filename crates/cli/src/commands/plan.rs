//! `textum plan`.

use clap::Args;
use textum_core::pipeline::plan::{Action, Decision, Plan, PlanContext, ReadDetail, read_detail, select_stages};
use textum_core::project::fingerprint::Reason;
use textum_core::project::observed::IGNORED;
use textum_core::project::workspace::Project;
use textum_core::record::receipt::Unchecked;

use super::{here, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, UNSUCCESSFUL};
use crate::render::{
    self,
    graph::{Folded, Node},
};
use crate::ui::Ui;

/// What `textum plan` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum plan                    every stage, what would be done, and why\n  textum plan fit                only fit and what it needs\n  textum plan --check            exit status 1 if anything would run: for CI\n  textum plan --graph            the pipeline, drawn\n  textum plan --graph --format mermaid > pipeline.mmd"
)]
pub struct PlanArgs {
    /// Only these stages and what they need
    #[arg(value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    stages: Vec<String>,
    /// Draw the graph of stages (also --format dot, mermaid or json)
    #[arg(long)]
    graph: bool,
    /// Show each of the stages that `each` makes on a line of its own
    #[arg(long)]
    each: bool,
    /// Exit with 1 if anything would be executed or put in place
    #[arg(long)]
    check: bool,
    /// Plan as if every stage were sealed, as `textum run --sealed` does
    #[arg(long)]
    sealed: bool,
    /// Plan as if a parameter had this value
    #[arg(long, value_name = "NAME=VALUE", add = clap_complete::ArgValueCandidates::new(crate::complete::params))]
    set: Vec<String>,
}

/// What does not count though stages read it, and why.
fn ignored(project: &Project) -> String {
    let own = project.manifest.observe.ignore.iter().map(|pattern| (pattern.as_str(), "[observe] ignore"));
    let all: Vec<String> = IGNORED.iter().copied().chain(own).map(|(pattern, why)| format!("  {pattern:<36}  {why}")).collect();
    format!("never counted of what stages read:\n{}", all.join("\n"))
}

/// What has changed in a read; of one that is yet to be brought nothing can be said by looking at the disk.
fn detail_of(project: &Project, reason: &Reason) -> Option<ReadDetail> {
    if project.scanner.expected(&reason.name).is_some() { None } else { read_detail(project, reason) }
}

/// What stages had from where nothing can be checked, by their names.
fn unchecked(plan_context: &PlanContext<'_>, plan: &Plan) -> Result<Vec<(String, Unchecked)>, Failure> {
    let of = |decision: &Decision| Ok(plan_context.unchecked(decision)?.map(|what| (decision.stage.clone(), what)));
    plan.decisions.iter().filter_map(|decision| of(decision).transpose()).collect()
}

/// Plans.
pub fn run(global: &Global, args: &PlanArgs, ui: &Ui) -> Result<u8, Failure> {
    if !args.graph {
        ui.only(&[Format::Text, Format::Json])?;
    }
    let mut project = Project::open(&here(global), variables())?;
    for set in &args.set {
        project.params.set(set)?;
    }
    let inputs = super::registry::resolve_inputs(&mut project, ui)?.map(|(_, _, inputs)| inputs).unwrap_or_default();
    textum_core::publish::expect(&mut project, &inputs);
    let project = project;
    let wanted = select_stages(&project, &args.stages)?;
    let folded = Folded::of(&project.graph, args.each);
    if args.graph && ui.format != Format::Text {
        ui.result(&match ui.format {
            Format::Dot => render::graph::dot(&folded, &project.manifest.name),
            Format::Mermaid => render::graph::mermaid(&folded),
            _ => serde_json::to_string_pretty(&render::graph::json(&project.graph)).unwrap_or_default(),
        });
        return Ok(0);
    }
    let selected = project.graph.select(&wanted);
    let plan_context = PlanContext { sealed: args.sealed, ..PlanContext::new(&project, &selected, Default::default())? };
    let plan = Plan::make(&plan_context, &selected)?;
    project.save_looks();
    let detailed: Vec<render::plan::Detailed<'_>> =
        plan.decisions.iter().map(|d| (d, d.reasons.iter().map(|r| detail_of(&project, r)).collect())).collect();
    let unchecked = unchecked(&plan_context, &plan)?;
    if ui.format == Format::Json {
        ui.json(&render::plan::json(&detailed, &unchecked, &project.manifest, &inputs));
    } else if args.graph {
        let templates = if args.each { Default::default() } else { render::each::Templates::of(&project.manifest) };
        let label = |node: &Node| {
            let decisions: Vec<_> = plan.decisions.iter().filter(|d| node.stages.contains(&d.index)).collect();
            let runs = decisions.iter().any(|d| d.action != Action::UpToDate);
            let word = match runs {
                true => format!("  {}", render::each::counted_words(decisions.iter().map(|d| render::plan::word(d.action)))),
                false => String::new(),
            };
            let mut writes: Vec<&str> = Vec::new();
            for path in node.stages.iter().flat_map(|s| project.manifest.stages[*s].outputs()) {
                let path = templates.path(path);
                if !writes.contains(&path) {
                    writes.push(path);
                }
            }
            let name = render::graph::marked(&format!("{}{word}", node.name), runs, &ui.style);
            format!("{name}  {}", ui.style.dim(&writes.join(", ")))
        };
        ui.result(&render::graph::drawn(&folded, label));
    } else {
        ui.result(&render::plan::text(&plan, &detailed, &project.manifest, args.each, &ui.style));
        render::observed::unchecked(&unchecked, &ui.style).into_iter().for_each(|line| ui.result(&format!("{line}\n")));
        inputs.iter().filter_map(render::plan::published).for_each(|line| ui.result(&format!("{line}\n")));
        ui.say_more(&ignored(&project));
    }
    Ok(if args.check && plan.has_work() { UNSUCCESSFUL } else { 0 })
}
