//! `textum verify`.

use clap::Args;
use textum_core::config::manifest::Manifest;
use textum_core::depot::VerifyOptions;
use textum_core::erase::is_cut_off;
use textum_core::maintain::verify::{Problem, VerifyReport, acknowledge, repair, verify};
use textum_core::project::depots::Depots;
use textum_core::project::workspace::{Project, Workspace};
use textum_core::share::verify_depot;
use textum_core::store::{Digest, Source};

use super::{by_whom, finish_erasing, here, variables};
use crate::args::{Format, Global};
use crate::failure::{DAMAGE, Failure};
use crate::render::{depot as depots, text};
use crate::ui::Ui;

/// What `textum verify` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum verify            packs, indexes, receipts and ledger agree, and every run has all it needs\n  textum verify --deep     every stored byte is what was written\n  textum verify --repair   make indexes and ledger anew, keep what is whole of damaged packs, and take lost\n                           content anew from the working tree where it is still there\n  textum verify --depot team --deep    every byte of a depot; with --repair what is lost there is sent anew"
)]
pub struct VerifyArgs {
    /// Read and check every stored byte
    #[arg(long)]
    deep: bool,
    /// Mend what can be mended; reads every stored byte
    #[arg(long)]
    repair: bool,
    /// Take the loss of receipts for known, so that it is no longer told of
    #[arg(long, conflicts_with_all = ["deep", "repair"])]
    acknowledge: bool,
    /// Look at a depot instead: whether it has what its receipts speak of
    #[arg(long, value_name = "NAME", conflicts_with = "acknowledge")]
    depot: Option<String>,
}

/// Verifies.
pub fn run(global: &Global, args: &VerifyArgs, ui: &Ui) -> Result<u8, Failure> {
    let workspace = Workspace::find(&here(global))?;
    if !workspace.state().is_dir() {
        ui.say("there is nothing to verify yet: nothing has been recorded");
        return Ok(0);
    }
    if let Some(name) = &args.depot {
        return of_depot(global, args, name, ui);
    }
    if args.acknowledge {
        let count = acknowledge(&workspace, &by_whom())?;
        match ui.format {
            Format::Json => ui.json(&serde_json::json!({"acknowledged": count})),
            _ if count == 0 => ui.result("no receipts are lost: there is nothing to acknowledge\n"),
            _ => ui.result(&format!("the loss of {} is acknowledged\n", text::counted(count as u64, "receipt"))),
        }
        return Ok(0);
    }
    // Half of an erasing would look like damage.
    if is_cut_off(&workspace)
        && let Ok(mut project) = Project::open(&here(global), variables())
    {
        finish_erasing(&mut project, ui)?;
    }
    let depots = depots_of(&workspace);
    let elsewhere = |digest: &Digest| depots.as_ref().is_some_and(|d| d.has(digest).unwrap_or(false));
    let report = match args.repair {
        true => repair(&workspace, &by_whom(), &elsewhere)?,
        false => verify(&workspace, args.deep, &elsewhere)?,
    };
    let good = report.problems.is_empty();
    if ui.format == Format::Json {
        ui.json(&report);
        return Ok(if good { 0 } else { DAMAGE });
    }
    let out = told(&report, ui);
    ui.result(&out);
    if !good && !args.repair {
        let help = "`textum verify --repair` makes anew what is derived, and takes lost content from the working tree";
        ui.say(&format!("{} {help}", ui.err_style.accent("next:")));
    } else if !good {
        ui.say(&format!(
            "{} outputs can be made again with `textum rebuild`; other content must come from another copy of the store; \
             lost receipts are told of until `textum verify --acknowledge`",
            ui.err_style.accent("next:")
        ));
    }
    Ok(if good { 0 } else { DAMAGE })
}

/// The depots of the project, as far as its manifest can be read.
fn depots_of(workspace: &Workspace) -> Option<Depots> {
    let manifest = Manifest::load(&workspace.manifest_path()).ok().filter(|m| !m.depots.is_empty())?;
    Some(Depots::new(manifest.depots, &manifest.name, workspace.depots_folder(), &variables()))
}

fn of_depot(global: &Global, args: &VerifyArgs, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let project = super::open_to_share(global, ui)?;
    let depot = project.depots.open(Some(name))?;
    let options = VerifyOptions { deep: args.deep || args.repair, heal: args.repair };
    let report = verify_depot(&project, &depot, options)?;
    match ui.format {
        Format::Json => ui.json(&depots::verify_json(name, &report)),
        _ => ui.result(&depots::verify_text(name, &report, options.deep, &ui.style)),
    }
    let good = report.missing.is_empty() && report.damage.iter().all(|d| d.healed);
    Ok(if good { 0 } else { DAMAGE })
}

fn touches(problem: &Problem) -> String {
    let mut parts = Vec::new();
    if !problem.datasets.is_empty() {
        parts.push(text::some(&problem.datasets, 6));
    }
    match problem.runs.len() {
        0 => {}
        1 => parts.push(format!("the run {}", problem.runs[0])),
        _ => parts.push(format!("the runs {}", text::some(&problem.runs, 6))),
    }
    format!("touches {}", parts.join(" and "))
}

/// What was found, for people.
fn told(report: &VerifyReport, ui: &Ui) -> String {
    let good = report.problems.is_empty();
    let style = &ui.style;
    let looked = format!(
        "{} in {}, {}, {}{}",
        text::counted(report.entries as u64, "entry").replace("entrys", "entries"),
        text::counted(report.packs as u64, "pack"),
        text::bytes(report.bytes),
        format_args!(
            "{}, {} of datasets",
            text::counted(report.runs as u64, "run"),
            text::counted(report.versions as u64, "version")
        ),
        if report.deep { "; every byte was read" } else { "" }
    );
    let mut out = match good {
        true => format!("{}: {looked}\n", style.good("all is there")),
        false => format!("{}: {looked}\n\n", style.bad(&text::counted(report.problems.len() as u64, "problem"))),
    };
    for repaired in &report.repaired {
        out.push_str(&format!("  {} {repaired}\n", style.accent("mended:")));
    }
    for problem in &report.problems {
        out.push_str(&format!("  {}\n", problem.what));
        if !problem.runs.is_empty() || !problem.datasets.is_empty() {
            out.push_str(&format!("    {}\n", style.dim(&touches(problem))));
        }
    }
    if report.elsewhere > 0 {
        let count = text::counted(report.elsewhere as u64, "content");
        out.push_str(&style.dim(&format!("  {count} not here but in depots, from where they come when they are needed\n")));
    }
    if report.lost > 0 {
        let lost = text::counted(report.lost as u64, "receipt");
        out.push_str(&style.dim(&format!("  {lost} lost, which somebody has acknowledged\n")));
    }
    if report.dropped > 0 {
        let dropped = text::counted(report.dropped as u64, "output");
        out.push_str(&style.dim(&format!("  {dropped} dropped by `textum prune`, to be rebuilt from what is there\n")));
    }
    if report.erased > 0 {
        let erased = text::counted(report.erased as u64, "content");
        out.push_str(
            &style
                .dim(&format!("  {erased} erased, as somebody wanted: `textum data erase NAME --report FILE` gives the account\n")),
        );
    }
    out
}
