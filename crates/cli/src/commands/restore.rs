//! `textum restore`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use textum_base::{MANIFEST_NAME, ProjectPath};
use textum_core::data::{find_data, split_name, version_with};
use textum_core::inspect::lineage::{Origin, find_target, trace};
use textum_core::maintain::restore::{
    Restored, Wanted, of_digest, of_run, of_tree, of_version, restore_environment, restore_into, restore_params, restore_tree,
};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::{Content, PathContent, RunReceipt, StageReceipt};

use super::{by_whom, here, open_to_bring};
use crate::args::{Format, Global};
use crate::failure::{Failure, UNSUCCESSFUL, USAGE};
use crate::render::table::{Cell, Look, table};
use crate::render::text;
use crate::ui::Ui;

/// What `textum restore` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  git checkout OLD && textum restore   data and outputs as they were at that commit\n  textum restore 7f3a                  data and outputs of a run\n  textum restore 7f3a --code           its code and other files as well\n  textum restore 7f3a:build/model.json one file of it\n  textum restore shifts@1              a version of a dataset\n  textum restore 7f3a#4                a checkpoint of a run\n  textum restore best:auc --params     the parameters of a run, into the manifest\n  textum restore best:auc -o ~/best    everything of a run, into another folder"
)]
pub struct RestoreArgs {
    /// A run, RUN:PATH, a dataset version, or a digest; left out: what textum.receipt.json says
    #[arg(value_name = "RUN|RUN:PATH|NAME@V|DIGEST", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    name: Option<String>,
    /// Put it into this folder, code included, and leave the working tree alone
    #[arg(short, long, value_name = "DIR", value_hint = clap::ValueHint::DirPath)]
    output: Option<PathBuf>,
    /// Write the run's parameters into the manifest and its `param_files` instead; comments stay
    #[arg(long, conflicts_with_all = ["output", "code"])]
    params: bool,
    /// Make the environment that a run had in this new folder: from kept files, without a network, or from exact versions
    #[arg(long, value_name = "DIR", value_hint = clap::ValueHint::DirPath, conflicts_with_all = ["output", "code", "params"])]
    environment: Option<PathBuf>,
    /// Bring back code and other files that are no dataset as well
    #[arg(long)]
    code: bool,
}

/// Restores.
pub fn run(global: &Global, args: &RestoreArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open_to_bring(global, ui)?;
    if args.params {
        return params(&project, args, ui);
    }
    if let Some(folder) = &args.environment {
        return environment(&project, args, &here(global).join(folder), &here(global), ui);
    }
    let (wanted, said) = wanted(&project, args, global)?;
    let restored = match &args.output {
        Some(folder) => restore_into(&project, &wanted, &here(global).join(folder))?,
        None => {
            project.workspace.create_state()?;
            textum_core::pipeline::exec::tree_is_free(&project)?;
            let _tree = project.workspace.lock_tree(&format!("process {}, a restore by {}", std::process::id(), by_whom()))?;
            let name = format!("restore-{}", textum_base::clock::now().strftime("%Y%m%d-%H%M%S"));
            let events = ui.events();
            restore_tree(&project, &wanted, args.code, &name, &*events)?
        }
    };
    if ui.format == Format::Json {
        let put: Vec<_> =
            restored.put.iter().map(|(p, c)| serde_json::json!({"path": p, "digest": c.digest, "size": c.size})).collect();
        ui.json(&serde_json::json!({
            "restored": put, "unchanged": restored.same, "code_differs": restored.code_differs,
            "references_differ": restored.references_differ, "run": wanted.run,
        }));
    } else {
        ui.result(&tell(&project, &restored, &said, args, wanted.run.as_deref(), ui)?);
    }
    Ok(if restored.references_differ.is_empty() { 0 } else { UNSUCCESSFUL })
}

/// Makes the environment of a run, or of a file of one.
fn environment(project: &Project, args: &RestoreArgs, folder: &Path, here: &Path, ui: &Ui) -> Result<u8, Failure> {
    let Some(name) = &args.name else {
        return Err(Failure::new(USAGE, "whose environment?", "name a run, as in: textum restore best:auc --environment DIR"));
    };
    let target = find_target(project, name, here)?;
    let receipts: Vec<StageReceipt> = trace(&project.store, &target)?.receipts.into_iter().map(|(_, r)| r).collect();
    let made = restore_environment(project, name, &receipts, folder)?;
    if ui.format == Format::Json {
        ui.json(&serde_json::to_value(&made).unwrap_or_default());
        return Ok(0);
    }
    let how = match made.kept {
        true => format!("{} out of the store, without a network", text::counted(made.files, "file")),
        false => "by the installer from exact versions, as their files were not kept".to_string(),
    };
    let packages: Vec<String> = made.packages.iter().map(|(name, version)| format!("{name} {version}")).collect();
    ui.result(&format!(
        "{} in {}\n\n  {how}\n  {}\n\nnext: source {}/bin/activate",
        ui.style.bold(&format!("{}, {}", made.python, text::counted(packages.len() as u64, "package"))),
        made.folder.display(),
        text::some(&packages, 12),
        made.folder.display()
    ));
    Ok(0)
}

/// Writes the parameters of a run into the manifest and its files of parameters.
fn params(project: &Project, args: &RestoreArgs, ui: &Ui) -> Result<u8, Failure> {
    let Some(name) = &args.name else {
        return Err(Failure::new(USAGE, "whose parameters?", "name a run, as in: textum restore best:auc --params"));
    };
    let id = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    let receipt = RunReceipt::load(&project.store, &row.receipt)?;
    let written = restore_params(project, &receipt.params)?;
    let left: Vec<&str> = project.params.iter().map(|(n, _)| n).filter(|n| !receipt.params.contains_key(*n)).collect();
    if ui.format == Format::Json {
        let changed: Vec<_> =
            written.changed.iter().map(|(n, from, to)| serde_json::json!({"name": n, "from": from, "to": to})).collect();
        ui.json(&serde_json::json!({"run": id, "changed": changed, "files": written.files, "absent": written.absent, "not_in_run": left}));
        return Ok(0);
    }
    let style = &ui.style;
    let in_file = |name: &str| project.manifest.param_files.iter().any(|f| f.leaves.contains_key(name));
    let mut out = match written.changed.len() {
        0 => format!("the project already has the parameters of {id}\n"),
        n => {
            let own = written.changed.iter().any(|(n, _, _)| !in_file(n)).then(|| MANIFEST_NAME.to_string());
            let files: Vec<String> = own.into_iter().chain(written.files.iter().map(ToString::to_string)).collect();
            format!("{} of {id} written into {}\n", style.bold(&text::counted(n as u64, "parameter")), files.join(", "))
        }
    };
    for (name, from, to) in &written.changed {
        out.push_str(&format!("  {name} {} → {}\n", text::param(from), text::param(to)));
    }
    for name in &written.absent {
        let value = receipt.params.get(name).map(|v| text::param(v)).unwrap_or_default();
        let why = match in_file(name) {
            true => format!("the file of {name} has no place for another value of it, which was {value}"),
            false => format!("the project does not have {name}, which was {value}"),
        };
        out.push_str(&format!("  {} {why}\n", style.bad("left out:")));
    }
    if !left.is_empty() {
        out.push_str(&format!("  {}\n", style.dim(&format!("the run did not have {}: kept as it is", left.join(", ")))));
    }
    ui.result(&out);
    Ok(0)
}

fn wanted(project: &Project, args: &RestoreArgs, global: &Global) -> Result<(Wanted, String), Failure> {
    let Some(name) = &args.name else { return Ok((of_tree(project)?, "textum.receipt.json".into())) };
    if name.starts_with("b3:") {
        let digest = project.ledger.resolve_digest(name, &project.store)?;
        let found = of_digest(project, &digest)?;
        let mut others: Vec<String> =
            project.ledger.places_of(&digest)?.into_iter().map(|p| p.path).filter(|p| found.path != *p).collect();
        others.sort();
        others.dedup();
        let also = if others.is_empty() {
            String::new()
        } else {
            format!(" (recorded as {} too: RUN:PATH chooses)", text::some(&others, 4))
        };
        let said = format!("{}{also}", digest.short());
        return Ok((Wanted::one(found), said));
    }
    let on_disk = here(global).join(name);
    if name.contains('#') && on_disk.symlink_metadata().is_err() {
        let row = super::checkpoint(project, name)?;
        let said = format!("checkpoint {} of {} in run {}", row.step, row.stage, row.run);
        return Ok((Wanted::one(PathContent { path: row.path, content: row.content }), said));
    }
    let (whole, part) = name.split_once(':').map_or((name.as_str(), None), |(whole, part)| (whole, Some(part)));
    if let Some((dataset, number)) = split_name(whole).filter(|_| !on_disk.exists()) {
        let version = version_with(&project.ledger, dataset, number)?;
        let all = of_version(project, &version);
        return match part {
            Some(part) => match all.only(&project.store, &format!("{}/{part}", version.path)) {
                Ok(part) => Ok((part, name.clone())),
                // The dataset knows better than a run what is in it, and what comes near.
                Err(e) => Err(find_data(project, name, &here(global)).err().map_or_else(|| e.into(), Failure::from)),
            },
            None => Ok((all, version.name())),
        };
    }
    // A colon parts the run from a path of it; `best:auc` has one of its own.
    let (run, path) = match name.strip_prefix("best:") {
        Some(rest) => match rest.split_once(':') {
            Some((metric, path)) => (format!("best:{metric}"), Some(path)),
            None => (name.clone(), None),
        },
        None => name.split_once(':').map_or((name.clone(), None), |(r, p)| (r.to_string(), Some(p))),
    };
    if path.is_none() && on_disk.exists() && project.ledger.resolve_run(&run, &project.manifest.metrics).is_err() {
        // A file on disk: what it was recorded as, at its recorded place.
        let target = find_target(project, name, &here(global))?;
        if !matches!(target.origin, Origin::Run(_)) {
            let found = of_digest(project, &target.digest)?;
            return Ok((Wanted::one(found), target.name));
        }
    }
    let id = project.ledger.resolve_run(&run, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(textum_core::record::ledger::NameError::NoRuns)?;
    let receipt = RunReceipt::load(&project.store, &row.receipt)?;
    let all = of_run(&project.store, &receipt)?;
    match path {
        Some(path) => Ok((all.only(&project.store, path)?, format!("{path} of run {id}"))),
        None => Ok((all, format!("run {id}"))),
    }
}

fn tell(
    project: &Project,
    restored: &Restored,
    said: &str,
    args: &RestoreArgs,
    run: Option<&str>,
    ui: &Ui,
) -> Result<String, Failure> {
    let style = &ui.style;
    let mut out = match restored.put.len() {
        0 if !restored.references_differ.is_empty() => format!("{}: {said}\n", style.bold("nothing could be restored")),
        0 => format!("{}: {said} is what stands here already\n", style.bold("nothing to restore")),
        n => format!("{} {} from {said}\n\n", style.bold("restored"), text::counted(n as u64, "path")),
    };
    let row = |(path, content): &(ProjectPath, Content)| -> Vec<Cell> {
        vec![path.as_str().into(), Cell::new(content.digest.short(), Look::Dim), Cell::new(text::bytes(content.size), Look::Dim)]
    };
    out.push_str(&table(&[], &restored.put.iter().map(row).collect::<Vec<_>>(), "  ", style));
    if !restored.put.is_empty() && !restored.same.is_empty() {
        out.push_str(&style.dim(&format!("  {} unchanged\n", text::counted(restored.same.len() as u64, "path"))));
    }
    if !restored.code_differs.is_empty() {
        out.push_str(&format!(
            "\n  code differs from that of then: {}; --code restores it too\n",
            text::some(&restored.code_differs, 6)
        ));
    }
    for differs in &restored.references_differ {
        out.push_str(&format!("\n  {} {differs}\n", style.bad("not restored:")));
    }
    let whole_run = args.output.is_none() && args.name.as_ref().is_none_or(|n| !n.starts_with("b3:"));
    if let (Some(run), true) = (run, whole_run)
        && let Some(row) = project.ledger.run(run)?
    {
        let now: BTreeMap<&str, String> = project.params.iter().map(|(name, value)| (name, value.to_string())).collect();
        let differs = |(name, then): &(String, String)| {
            let now = now.get(name.as_str()).filter(|now| *now != then)?;
            Some(format!("{name} {} (the project has {})", text::param(then), text::param(now)))
        };
        let differing: Vec<String> = row.params.iter().filter_map(differs).collect();
        if !differing.is_empty() {
            out.push_str(&format!(
                "\n  that run had other parameters: {}\n  {} textum restore {} --params writes them where they stand\n",
                text::some(&differing, 6),
                ui.style.accent("next:"),
                row.run.rsplit('-').next().unwrap_or_default()
            ));
        }
    }
    Ok(out)
}
