//! `textum show`.

use clap::Args;
use textum_core::event::read_log;
use textum_core::inspect::lineage::TraceError;
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::{RunReceipt, StageReceipt, type_of};

use super::open;
use super::registry::registry_naming;
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE};
use crate::render::{self, text};
use crate::ui::Ui;

/// What `textum show` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum show last                 the newest run\n  textum show 7f3a --log fit       what fit printed\n  textum show 7f3a --log           what happened in the run, and when\n  textum show best:auc --receipt   the receipt itself, as stored\n  textum show b3:91ac22            what a digest is, and where it was met"
)]
pub struct ShowArgs {
    /// A run, a digest, a dataset version, or a published version
    #[arg(value_name = "RUN|DIGEST|NAME@V", default_value = "last", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    name: String,
    /// What a stage printed; without a stage, what happened in the run and when
    #[arg(long, value_name = "STAGE", num_args = 0..=1, default_missing_value = "", conflicts_with = "receipt", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    log: Option<String>,
    /// Show each of the stages that `each` makes on a line of its own, and their metrics
    #[arg(long)]
    each: bool,
    /// The receipt, byte for byte as stored
    #[arg(long)]
    receipt: bool,
}

/// Shows.
pub fn run(global: &Global, args: &ShowArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    if args.name.starts_with("b3:") {
        return digest(&project, args, ui);
    }
    if let Some(registry) = registry_naming(&project, &args.name, global)? {
        return super::registry::show_version(&registry, &args.name, ui);
    }
    if let Some((name, number)) = textum_core::data::split_name(&args.name) {
        return super::data::show_version(&project, name, number, global, ui);
    }
    let id = project.ledger.resolve_run(&args.name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    if args.receipt {
        ui.result(&String::from_utf8_lossy(&project.store.read(&row.receipt)?));
        return Ok(0);
    }
    let receipt = RunReceipt::load(&project.store, &row.receipt)?;
    if args.log.as_deref() == Some("") {
        return run_log(&project, &receipt, ui);
    }
    if let Some(stage) = &args.log {
        return log(&project, &receipt, stage, ui);
    }
    let stages: Vec<Option<StageReceipt>> = receipt
        .stages
        .iter()
        .map(|s| s.receipt.map(|d| StageReceipt::load(&project.store, &d)).transpose())
        .collect::<Result<_, _>>()?;
    let rebuilds = project.ledger.rebuilds_of(&id)?;
    let remarks = project.ledger.remarks_on(&id)?;
    let data = receipt.data.values().map(|d| (d.path.as_str(), &d.content.digest));
    let outputs = stages.iter().flatten().flat_map(|s| s.outputs()).map(|o| (&*o.path, &o.content.digest));
    let erased = project.ledger.erased_of(&project.store, data.chain(outputs))?;
    let shown = render::show::Shown {
        erased: &erased,
        run: &receipt,
        digest: row.receipt,
        stages: &stages,
        rebuilds: &rebuilds,
        versions: &super::versions_by_content(&project)?,
        label: project.ledger.label_of(&id)?,
        remarks: &remarks,
        directions: &project.manifest.metrics,
        templates: &render::each::Templates::of(&project.manifest),
        open: args.each,
    };
    match ui.format {
        Format::Json => ui.json(&render::show::json(&shown)),
        _ => ui.result(&render::show::text(&shown, &ui.style)),
    }
    Ok(0)
}

/// What happened in a run, and when.
fn run_log(project: &Project, run: &RunReceipt, ui: &Ui) -> Result<u8, Failure> {
    let Some(log) = &run.log else {
        let help = "runs made by an earlier Textum have none; `textum show RUN --log STAGE` shows what a stage printed";
        return Err(Failure::new(NOT_THERE, format!("the run {} has no log", run.run), help));
    };
    let logged = read_log(&String::from_utf8_lossy(&project.store.read(&log.digest)?));
    match ui.format {
        Format::Json => ui.json(&serde_json::json!(logged)),
        _ => ui.result(&render::show::log(run, &logged, &ui.style)),
    }
    Ok(0)
}

fn log(project: &Project, run: &RunReceipt, stage: &str, ui: &Ui) -> Result<u8, Failure> {
    let found = run.stages.iter().find(|s| s.stage == stage).and_then(|s| s.receipt);
    let Some(digest) = found else {
        let names: Vec<String> = run.stages.iter().filter(|s| s.receipt.is_some()).map(|s| s.stage.clone()).collect();
        let help = format!("stages with a log: {}", text::some(&names, 12));
        return Err(Failure::new(NOT_THERE, format!("the run {} has no log of a stage `{stage}`", run.run), help));
    };
    let receipt = StageReceipt::load(&project.store, &digest)?;
    ui.bytes(|out| project.store.copy_to(&receipt.log.digest, out).map(drop))?;
    Ok(0)
}

fn digest(project: &Project, args: &ShowArgs, ui: &Ui) -> Result<u8, Failure> {
    let digest = project.ledger.resolve_digest(&args.name, &project.store).map_err(TraceError::from)?;
    // A stage key stands for the receipt of its result.
    let digest = match project.store.contains(&digest)? {
        true => digest,
        false => project.ledger.result_of(&digest)?.unwrap_or(digest),
    };
    let places = project.ledger.places_of(&digest)?;
    let stored = project.store.contains(&digest)?;
    let small = stored && project.store.size_of(&digest)? <= 1 << 20;
    let bytes = if small { project.store.read(&digest)? } else { Vec::new() };
    let document = type_of(&bytes).filter(|t| t.starts_with("textum/"));
    if args.receipt {
        ui.result(&String::from_utf8_lossy(&bytes));
        return Ok(0);
    }
    let size = if stored { Some(project.store.size_of(&digest)?) } else { None };
    if ui.format == Format::Json {
        let met: Vec<_> = places
            .iter()
            .map(|p| serde_json::json!({"role": p.role, "path": p.path, "kind": p.kind, "receipt": p.receipt}))
            .collect();
        ui.json(&serde_json::json!({"digest": digest, "stored": stored, "size": size, "document": document, "places": met}));
        return Ok(0);
    }
    let what = match (&document, places.first()) {
        (Some(kind), _) => format!("a document, {kind}"),
        (None, Some(place)) => format!("a {}", if place.kind == "exec" { "file" } else { &place.kind }),
        (None, None) => "content".to_string(),
    };
    let held = size.map_or("not in the store".to_string(), text::bytes);
    let mut out = format!("{} is {what}, {held}\n", ui.style.bold(&digest.to_string()));
    let mut lines: Vec<String> = Vec::new();
    for place in &places {
        let receipt = StageReceipt::load(&project.store, &place.receipt)?;
        let verb = match place.role.as_str() {
            "write" => "written",
            "read" => "read",
            _ => "left unfinished",
        };
        lines.push(format!("  {verb} as {} by {} in run {}\n", place.path, receipt.inputs.stage, receipt.run));
    }
    lines.dedup();
    out.extend(lines.into_iter().take(20));
    match std::str::from_utf8(&bytes) {
        Ok(said) if document.is_some() => {
            let pretty =
                serde_json::from_str::<serde_json::Value>(said).and_then(|v| serde_json::to_string_pretty(&v)).unwrap_or_default();
            out.push_str(&format!("\n{pretty}\n"));
        }
        Ok(said) if !said.is_empty() && said.len() <= 2000 => out.push_str(&format!("\n{said}\n")),
        _ if stored => out.push_str(&format!("  to have it as a file: textum restore {} -o DIR\n", digest.short())),
        _ => {}
    }
    ui.result(&out);
    Ok(0)
}
