//! `textum report`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::Args;
use textum_core::config::manifest::Command;
use textum_core::fsio;
use textum_core::inspect::comparison::{Side, compare};
use textum_core::inspect::curve::{Curve, curves, metrics_by_step};
use textum_core::inspect::lineage::{find_target, trace};
use textum_core::pipeline::examination::RULES;
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{Content, ContentKind};
use textum_core::store::parse_listing;

use super::compare::side;
use super::{here, open, versions_by_content};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render;
use crate::render::report::{Picture, RuleLine};
use crate::ui::Ui;

/// Larger figures are named, not shown. In bytes.
const LARGEST: u64 = 4 << 20;
/// More figures than this are left out.
const MOST_FIGURES: usize = 40;
/// Metrics whose curves are drawn.
const MOST_CURVES: usize = 6;

/// What `textum report` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum report -o report.html                  the last run, against the one before\n  textum report best:auc --against 7f3a -o report.html\n  textum report -o report.md                    short enough for a review comment\n  textum report                                 the same, printed"
)]
pub struct ReportArgs {
    /// The run; left out: the last
    #[arg(value_name = "RUN", default_value = "last", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: String,
    /// The run that it is held against; left out: the one done before it
    #[arg(long, value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    against: Option<String>,
    /// Into a file: .html (one file, without references to others) or .md; left out: printed as Markdown
    #[arg(short, long, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    output: Option<PathBuf>,
}

/// Reports.
pub fn run(global: &Global, args: &ReportArgs, ui: &Ui) -> Result<u8, Failure> {
    let ending = args.output.as_ref().map(|f| f.extension().and_then(|e| e.to_str()).unwrap_or_default().to_string());
    let html = match ending.as_deref() {
        Some("html") => true,
        Some("md") => false,
        None => ui.format == Format::Html,
        Some(_) => {
            let file = args.output.as_deref().map(|f| f.display().to_string()).unwrap_or_default();
            return Err(Failure::new(USAGE, format!("{file} is no form of a report"), "end its name in .html or .md"));
        }
    };
    let project = open(global, ui)?;
    let own = side(&project, &args.run)?;
    let base = match &args.against {
        Some(name) => Some(side(&project, name)?),
        None => before(&project, &own)?.map(|id| side(&project, &id)).transpose()?,
    };
    if base.as_ref().is_some_and(|base| base.run.run == own.run.run) {
        let help = "leave --against out to compare with the run before it";
        return Err(Failure::new(USAGE, format!("{} cannot be compared with itself", own.run.run), help));
    }
    let sides: Vec<Side> = base.into_iter().chain([own]).collect();
    let comparison = if sides.len() == 2 { Some(compare(&project, &sides)?) } else { None };
    let Some(own) = sides.last() else { return Ok(0) };
    let target = find_target(&project, &own.run.run, &here(global))?;
    let found = trace(&project.store, &target)?;
    let versions = versions_by_content(&project)?;
    let lineage = render::trace::text(
        &render::trace::Told {
            erased: &[],
            target: &target,
            trace: &found,
            runs: &BTreeMap::new(),
            environments: &[],
            used_by: &[],
            versions: &versions,
            all: false,
            store: &project.store,
            now: textum_base::clock::now(),
        },
        &crate::ui::Style::new(false),
    );
    let mut drawn: Vec<Curve> = Vec::new();
    let metrics = metrics(&project, own)?;
    for side in &sides {
        drawn.extend(curves(&project.store, &side.run, &metrics, &project.manifest.metrics)?);
    }
    let remarks = project.ledger.remarks_on(&own.run.run)?;
    let told = render::report::Told {
        project: &project.manifest.name,
        sides: &sides,
        comparison: comparison.as_ref(),
        label: project.ledger.label_of(&own.run.run)?,
        notes: own.run.note.iter().cloned().chain(remarks.into_iter().map(|r| r.note)).collect(),
        receipt: target.digest,
        metrics: &metrics,
        curves: &drawn,
        pictures: if html { pictures(&project, own)? } else { Vec::new() },
        rules: rules(&project, own)?,
        lineage: &lineage,
        versions: &versions,
        directions: &project.manifest.metrics,
    };
    let text = if html { render::report::html(&told)? } else { render::report::markdown(&told) };
    match &args.output {
        Some(file) => {
            if let Some(folder) = file.parent().filter(|f| !f.as_os_str().is_empty()) {
                fsio::create_folder(folder)?;
            }
            fsio::write_derived(file, text.as_bytes())?;
            ui.result(&file.display().to_string());
        }
        None => ui.result(&text),
    }
    Ok(0)
}

/// The run that was done last before this one.
fn before(project: &Project, own: &Side) -> Result<Option<String>, Failure> {
    Ok(project.ledger.newest_that(["done", "done"], Some(&own.run.run))?)
}

/// The metrics whose curves are worth showing: those with a direction first.
fn metrics(project: &Project, own: &Side) -> Result<Vec<String>, Failure> {
    let mut known: Vec<(String, u64)> = metrics_by_step(&project.store, &own.run)?.into_iter().filter(|(_, n)| *n > 1).collect();
    known.sort_by_key(|(name, _)| !project.manifest.metrics.iter().any(|(n, _)| n == name));
    Ok(known.into_iter().take(MOST_CURVES).map(|(name, _)| name).collect())
}

/// The rules that stages of the run held tables against, out of what they wrote.
fn rules(project: &Project, own: &Side) -> Result<Vec<RuleLine>, Failure> {
    let mut found = Vec::new();
    let examined = own.stages.iter().flatten().filter(|r| matches!(r.inputs.run, Command::Examine(_)));
    for (stage, output) in examined.flat_map(|r| r.outputs().map(move |o| (&r.inputs.stage, o))) {
        if output.content.kind != ContentKind::Folder || !project.store.contains(&output.content.digest)? {
            continue;
        }
        let listing = project.store.read(&output.content.digest)?;
        let items = parse_listing(&listing).unwrap_or_default();
        let file = items.iter().find(|i| i.path == RULES && i.size <= LARGEST).and_then(|i| i.digest);
        let Some(digest) = file.filter(|d| project.store.contains(d).unwrap_or(false)) else { continue };
        let text = project.store.read(&digest)?;
        for record in csv::Reader::from_reader(text.as_slice()).records().flatten() {
            let cell = |at: usize| record.get(at).unwrap_or_default().to_string();
            found.push(RuleLine { stage: stage.clone(), rule: cell(0), state: cell(1), told: cell(6) });
        }
    }
    Ok(found)
}

/// The figures that the run's stages wrote.
fn pictures(project: &Project, own: &Side) -> Result<Vec<Picture>, Failure> {
    let mut found = Vec::new();
    for output in own.stages.iter().flatten().flat_map(|r| r.outputs()) {
        let mut take = |path: String, digest, size: u64| -> Result<(), Failure> {
            let kind = match path.rsplit('.').next() {
                Some("svg") => "image/svg+xml",
                Some("png") => "image/png",
                _ => return Ok(()),
            };
            if found.len() < MOST_FIGURES && size <= LARGEST && project.store.contains(&digest)? {
                found.push(Picture { path, kind, bytes: project.store.read(&digest)? });
            }
            Ok(())
        };
        let Content { kind, digest, size, .. } = &output.content;
        if *kind != ContentKind::Folder {
            take(output.path.to_string(), *digest, *size)?;
        } else if project.store.contains(digest)? {
            let listing = project.store.read(digest)?;
            for item in parse_listing(&listing).unwrap_or_default() {
                if let Some(digest) = item.digest {
                    take(format!("{}/{}", output.path, item.path), digest, item.size)?;
                }
            }
        }
    }
    Ok(found)
}
