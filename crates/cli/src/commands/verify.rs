//! `textum verify`.

use clap::Args;
use textum_core::store::Store;
use textum_core::verify::verify;
use textum_core::workspace::Workspace;

use super::here;
use crate::args::{Format, Global};
use crate::failure::{DAMAGE, Failure};
use crate::render::text;
use crate::ui::Ui;

/// What `textum verify` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum verify            packs, indexes, receipts and ledger agree, and every run has all it needs\n  textum verify --deep     every stored byte is what was written\n  textum verify --repair   make indexes and ledger anew from packs and receipts"
)]
pub struct VerifyArgs {
    /// Read and check every stored byte
    #[arg(long)]
    deep: bool,
    /// Make anew what is derived: indexes and the ledger
    #[arg(long)]
    repair: bool,
}

/// Verifies.
pub fn run(global: &Global, args: &VerifyArgs, ui: &Ui) -> Result<u8, Failure> {
    ui.only(&[Format::Text, Format::Json])?;
    let workspace = Workspace::find(&here(global))?;
    if !workspace.state().is_dir() {
        ui.say("there is nothing to verify yet: nothing has been recorded");
        return Ok(0);
    }
    let store = Store::open(&workspace.store_folder());
    let report = verify(&store, &workspace.ledger_path(), args.deep, args.repair)?;
    let good = report.problems.is_empty();
    if ui.format == Format::Json {
        ui.json(&report);
        return Ok(if good { 0 } else { DAMAGE });
    }
    let style = &ui.style;
    let looked = format!(
        "{} in {}, {}, {}{}",
        text::counted(report.entries as u64, "entry").replace("entrys", "entries"),
        text::counted(report.packs as u64, "pack"),
        text::bytes(report.bytes),
        text::counted(report.runs as u64, "run"),
        if report.deep { "; every byte was read" } else { "" }
    );
    let mut out = match good {
        true => format!("{}: {looked}\n", style.good("all is there")),
        false => format!("{}: {looked}\n\n", style.bad(&text::counted(report.problems.len() as u64, "problem"))),
    };
    for repaired in &report.repaired {
        out.push_str(&format!("  {} {repaired}\n", style.accent("made anew")));
    }
    for problem in &report.problems {
        out.push_str(&format!("  {}\n", problem.what));
        if !problem.runs.is_empty() {
            out.push_str(&format!("    {}\n", style.dim(&format!("touches {}", text::some(&problem.runs, 6)))));
        }
    }
    ui.result(&out);
    if report.problems.iter().any(|p| p.derived) {
        ui.say(&format!("{} `textum verify --repair` makes indexes and the ledger anew", ui.err_style.accent("next:")));
    } else if !good {
        ui.say(&format!(
            "{} outputs can be made again with `textum rebuild`; other content must come from another copy of the store",
            ui.err_style.accent("next:")
        ));
    }
    Ok(if good { 0 } else { DAMAGE })
}
