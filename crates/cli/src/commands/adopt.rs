//! `textum adopt`.

use clap::Args;
use textum_core::pipeline::adopt::{Adopted, adopt, adoptable};
use textum_core::pipeline::plan::select_stages;
use textum_core::project::workspace::Project;

use super::{here, open, variables};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::text;
use crate::ui::{Style, Ui};

/// What `textum adopt` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum adopt                all stages\n  textum adopt fit            one stage\n  textum adopt --dry-run      only tell what would be written"
)]
pub struct AdoptArgs {
    /// The stages; all unless said
    #[arg(value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    stages: Vec<String>,
    /// Write nothing
    #[arg(long)]
    dry_run: bool,
}

/// Writes what stages were seen to read into the manifest.
pub fn run(global: &Global, args: &AdoptArgs, ui: &Ui) -> Result<u8, Failure> {
    drop(open(global, ui)?);
    let project = match args.dry_run {
        true => Project::open(&here(global), variables())?,
        false => Project::open_to_write(&here(global), variables())?,
    };
    let mut stages = select_stages(&project, &args.stages)?;
    if stages.is_empty() {
        stages = project.graph.order().to_vec();
    }
    let mut found = adoptable(&project, &stages)?;
    let any = found.iter().any(|a| !a.reads.is_empty());
    if any && !args.dry_run {
        adopt(&project, &mut found)?;
    }
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"written": any && !args.dry_run, "stages": found})),
        _ => ui.result(&told(&found, args.dry_run, &ui.style)),
    }
    Ok(0)
}

fn told(found: &[Adopted], dry_run: bool, style: &Style) -> String {
    let count: u64 = found.iter().map(|a| a.reads.len() as u64).sum();
    if found.is_empty() {
        return "nothing to adopt: no stage was seen to read a file of the project that it does not declare".to_string();
    }
    let verb = if dry_run { "would be added to" } else { "added to" };
    let mut out = match count {
        0 => "nothing to adopt\n".to_string(),
        _ => format!("{} {verb} {}\n", text::counted(count, "read"), style.bold("textum.toml")),
    };
    for adopted in found {
        for path in &adopted.reads {
            out.push_str(&format!("\n  {}  {} {path}", adopted.stage, style.good("+")));
        }
        if !adopted.after.is_empty() {
            out.push_str(&format!("\n  {}  comes after {} now", adopted.stage, adopted.after.join(", ")));
        }
        if adopted.kept {
            out.push_str(&format!("\n  {}  {}", adopted.stage, style.dim("its result stands, told with these reads")));
        }
        for (path, writer) in &adopted.circles {
            out.push_str(&format!(
                "\n  {}  {} {path}: {writer} writes it and comes after {} already; let one of the two do without the other",
                adopted.stage,
                style.bad("not"),
                adopted.stage
            ));
        }
        for path in &adopted.gone {
            out.push_str(&format!("\n  {}  {} {path}: it is not there any more", adopted.stage, style.bad("not")));
        }
    }
    out
}
