//! `textum trace`.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::{Path, PathBuf};

use clap::Args;
use textum_base::ProjectPath;
use textum_core::fsio::TreeDir;
use textum_core::inspect::lineage::{NodeKind, Target, Trace, find_target, trace};
use textum_core::inspect::provenance::{Provenance, STATEMENT_TYPE, cyclonedx, prov_json, ro_crate, statement};
use textum_core::project::tree::put_new;
use textum_core::project::workspace::Project;
use textum_core::publish::PublishError;
use textum_core::record::receipt::{EnvironmentRecord, ObservedFile, ObservedInputs, RunReceipt, StageReceipt};
use textum_core::registry::envelope::seal_payload;

use super::registry::{WhichRegistry, WhoSigns, nothing_of_a_registry};
use super::{here, open, versions_by_content};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render;
use crate::ui::Ui;

/// What `textum trace` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum trace build/model.json          a file of the project\n  textum trace ~/Downloads/model.json    a copy of it, known by its content\n  textum trace last                      everything that the last run made\n  textum trace 7f3a:build/model.json     a file as a past run made it\n  textum trace build/model.json --code code-of-then\n  textum trace build/model.json --format dot | dot -Tsvg > lineage.svg\n  textum trace build/model.json --format prov         also intoto, cyclonedx and ro-crate"
)]
pub struct TraceArgs {
    /// A file anywhere on disk, a run, RUN:PATH, a digest, or a published version
    #[arg(value_name = "FILE|RUN|DIGEST", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    name: String,
    /// Write the exact code and other sources that are no dataset into this folder
    #[arg(long, value_name = "DIR", value_hint = clap::ValueHint::DirPath)]
    code: Option<PathBuf>,
    /// Tell every observed file, not only groups of them
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    who: WhoSigns,
}

/// Traces.
pub fn run(global: &Global, args: &TraceArgs, ui: &Ui) -> Result<u8, Failure> {
    if ui.format != Format::Intoto {
        nothing_of_a_registry(&WhichRegistry::default(), &args.who, "a trace that is not signed: only --format intoto is")?;
    }
    let project = open(global, ui)?;
    let name = super::registry::as_of_run(&project, &args.name, global, ui)?;
    let target = find_target(&project, &name, &here(global))?;
    let found = trace(&project.store, &target)?;
    if let Some(folder) = &args.code {
        return write_code(&project, &found, &here(global).join(folder), ui);
    }
    match ui.format {
        Format::Dot => ui.result(&render::trace::dot(&found)),
        Format::Mermaid => ui.result(&render::trace::mermaid(&found)),
        Format::Prov | Format::Intoto | Format::Cyclonedx | Format::RoCrate => {
            open_form(&project, &target, &found, global, args, ui)?
        }
        _ => tell(&project, &target, &found, args.all, ui)?,
    }
    Ok(0)
}

/// Prints the trace in an open form.
fn open_form(project: &Project, target: &Target, found: &Trace, global: &Global, args: &TraceArgs, ui: &Ui) -> Result<(), Failure> {
    let mut runs = BTreeMap::new();
    for (_, receipt) in &found.receipts {
        if let Some(row) = project.ledger.run(&receipt.run)? {
            runs.insert(receipt.run.clone(), RunReceipt::load(&project.store, &row.receipt)?);
        }
    }
    let told = Provenance {
        target,
        trace: found,
        runs: &runs,
        project: &project.manifest.name,
        about: project.manifest.about.as_deref(),
        textum: env!("CARGO_PKG_VERSION"),
    };
    match ui.format {
        Format::Prov => ui.json(&prov_json(&told)),
        Format::Cyclonedx => ui.json(&cyclonedx(&told)),
        Format::RoCrate => ui.json(&ro_crate(&told)),
        _ => {
            let signer = super::registry::signer(global, &args.who)?;
            let text = serde_json::to_vec(&statement(&told)).unwrap_or_default();
            let sealed = seal_payload(STATEMENT_TYPE, &text, signer.as_ref()).map_err(PublishError::from)?;
            ui.json(&serde_json::from_slice::<serde_json::Value>(&sealed).unwrap_or_default());
            if signer.is_none() {
                ui.say(&ui.err_style.dim("not signed: name a key with --key, TEXTUM_KEY or git's user.signingkey"));
            }
        }
    }
    Ok(())
}

fn tell(project: &Project, target: &Target, found: &Trace, all: bool, ui: &Ui) -> Result<(), Failure> {
    let mut runs = BTreeMap::new();
    let mut environments: Vec<EnvironmentRecord> = Vec::new();
    let (mut used_by, mut met): (Vec<String>, HashSet<(String, String)>) = (Vec::new(), HashSet::new());
    for (_, receipt) in &found.receipts {
        if let Some(row) = project.ledger.run(&receipt.run)? {
            runs.insert(receipt.run.clone(), RunReceipt::load(&project.store, &row.receipt)?);
        }
        if let Some(digest) = receipt.environment.filter(|_| receipt.inputs.environment.is_some()) {
            let record = EnvironmentRecord::load(&project.store, &digest)?;
            if !environments.contains(&record) {
                environments.push(record);
            }
        }
    }
    for place in project.ledger.places_of(&target.digest)?.iter().filter(|p| p.role == "read") {
        let receipt = StageReceipt::load(&project.store, &place.receipt)?;
        let line = format!("{} in run {}", receipt.inputs.stage, receipt.run);
        if met.insert((receipt.inputs.stage, receipt.run)) {
            used_by.push(line);
        }
    }
    let nodes = found.nodes.iter().filter(|n| matches!(n.kind, NodeKind::File | NodeKind::Folder | NodeKind::Checkpoint));
    let erased = project.ledger.erased_of(&project.store, nodes.map(|n| (n.name.as_str(), &n.digest)))?;
    let told = render::trace::Told {
        erased: &erased,
        target,
        trace: found,
        runs: &runs,
        environments: &environments,
        used_by: &used_by,
        versions: &versions_by_content(project)?,
        all,
        store: &project.store,
        now: textum_base::clock::now(),
    };
    match ui.format {
        Format::Json => ui.json(&render::trace::json(&told)),
        _ => ui.result(&render::trace::text(&told, &ui.style)),
    }
    Ok(())
}

/// Files of the project that an execution read without declaring them.
fn observed_files(project: &Project, receipt: &StageReceipt) -> Result<Vec<ObservedFile>, Failure> {
    match receipt.observed.as_ref().and_then(|o| o.inputs) {
        Some(digest) => Ok(ObservedInputs::load(&project.store, &digest)?.project_files(&project.store)?),
        None => Ok(Vec::new()),
    }
}

/// Writes out every source that is no dataset, as it was.
fn write_code(project: &Project, found: &Trace, folder: &Path, ui: &Ui) -> Result<u8, Failure> {
    let tree = TreeDir::create(folder)?;
    let mut written = BTreeSet::new();
    for (_, receipt) in &found.receipts {
        for file in observed_files(project, receipt)? {
            let Ok(path) = ProjectPath::new(&file.path) else { continue };
            let target = tree.full(&path);
            if !written.contains(&target) && tree.standing(&path)?.is_none() {
                put_new(&project.store, &file.content(), &tree, &path)?;
                written.insert(target);
            }
        }
        for read in receipt.reads.iter().filter(|r| r.by.is_empty() && r.dataset.is_none() && r.hold.is_store()) {
            let Some(path) = read.at.path.in_project() else { continue };
            let target = tree.full(&path);
            if written.contains(&target) {
                continue;
            }
            if tree.standing(&path)?.is_some() {
                let help = "choose a folder that does not hold it: nothing is overwritten";
                return Err(Failure::new(USAGE, format!("{} is there already", target.display()), help));
            }
            put_new(&project.store, &read.at.content, &tree, &path)?;
            written.insert(target);
        }
    }
    let sources = found.nodes.iter().filter(|n| matches!(n.kind, NodeKind::File | NodeKind::Folder)).count();
    ui.say_more(&format!("{sources} files and folders in the trace"));
    let list: Vec<String> = written.iter().map(|p| p.display().to_string()).collect();
    ui.result(&list.join("\n"));
    Ok(0)
}
