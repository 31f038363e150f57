//! `textum data erase`.

use std::path::{Path, PathBuf};

use clap::Args;
use textum_core::data::DataError;
use textum_core::erase::{
    Asked, EraseError, Erased, Found, accounts, erase, erase_in_depot, find, follow, pending, plan, plan_to_follow, unfollowed,
};
use textum_core::fsio::{IoError, create_only};
use textum_core::project::workspace::Project;
use textum_core::publish::{Place, alias};
use textum_core::registry::{Action, split_reference};
use textum_core::table::filter::{FilterError, parse};

use crate::args::{Format, Global};
use crate::commands::registry::{WhoSigns, act, act_on};
use crate::commands::{by_whom, here, open};
use crate::failure::{Failure, NOT_THERE, UNSUCCESSFUL, USAGE};
use crate::render::erase as render;
use crate::render::erase::{Reached, Retired, Told};
use crate::ui::Ui;

/// What `textum data erase` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Rows that meet the condition are taken out of every version of the dataset, and everything that was made of those versions goes: outputs, checkpoints, logs, published versions, predictions; from the store, the working tree, what was moved aside, sandboxes and depots. The dataset is recorded without the rows. Receipts stay and say that it was erased, when, by whom and why, but not what: the condition is kept nowhere. It cannot be undone.\n\nExamples:\n  textum data erase shifts --where 'weaver = \"W107\"' --because 'asked to be forgotten' --dry-run\n  textum data erase shifts --where 'weaver = \"W107\"' --because 'asked to be forgotten' --report erased.md\n  textum data erase shifts --report erased.md     the account of what was erased before\n  textum data erase --pending                     what others erased, and depots that were out of reach"
)]
pub struct EraseArgs {
    /// The dataset
    #[arg(required_unless_present = "pending", add = clap_complete::ArgValueCandidates::new(crate::complete::datasets))]
    name: Option<String>,
    /// The rows that are to be forgotten
    #[arg(long = "where", value_name = "CONDITION", required_unless_present_any = ["pending", "report"], requires = "because")]
    condition: Option<String>,
    /// Why: it stands in the receipt, so it must not name what is forgotten
    #[arg(long, value_name = "TEXT", requires = "condition")]
    because: Option<String>,
    /// Leave models that were made of the rows, and what was made with them
    #[arg(long, requires = "condition")]
    keep_models: bool,
    /// Write the account of it, as Markdown; without a condition that of all that was erased before
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
    /// Do here what others have erased, and in depots what they could not be told
    #[arg(long, conflicts_with_all = ["name", "condition", "because", "keep_models", "report", "key", "unsigned"])]
    pending: bool,
    /// Say what would go, and change nothing
    #[arg(long, conflicts_with = "report")]
    dry_run: bool,
    /// Do not ask; needed where nobody can be asked
    #[arg(short, long)]
    yes: bool,
    #[command(flatten)]
    who: WhoSigns,
}

fn must_be_asked(ui: &Ui) -> Result<(), Failure> {
    if ui.can_ask() {
        return Ok(());
    }
    let help = "--dry-run says what would go; --yes erases it without being asked";
    Err(Failure::new(USAGE, "nothing was erased: there is nobody to be asked", help))
}

/// Tells depots of what they have not heard of yet.
fn reach_depots(project: &Project, ui: &Ui) -> Vec<Reached> {
    let mut reached = Vec::new();
    for (name, receipts) in pending(project) {
        let _transfer = ui.transfer();
        let done = project
            .depots
            .open(Some(&name))
            .map_err(Failure::from)
            .and_then(|depot| erase_in_depot(project, &depot, &receipts, &by_whom()).map_err(Failure::from));
        reached.push(match done {
            Ok(done) => Reached::Done(done),
            Err(failure) => Reached::Pending(name, failure.message),
        });
    }
    reached
}

/// Takes back what was published of the rows.
fn retire(global: &Global, project: &Project, done: &Erased, args: &EraseArgs) -> Vec<Retired> {
    let because = format!("its content was erased: {}", done.said.because);
    let versions = done.plan.impact.versions.iter().filter(|v| !v.retired);
    let one = |version: &str, aliases: &[String]| -> Result<(), Failure> {
        let place = Place::of_project(project, None).map_err(Failure::from)?;
        // Nobody is to be sent to what is no longer there.
        for word in aliases {
            let name = split_reference(version).map_or(version, |(name, _)| name);
            act(global, &place, &args.who, |registry| Ok(alias(registry, name, None, word, None)))?;
        }
        act_on(global, &place, &args.who, version, |_, name, version| {
            Some(Action::Retire { name, version, because: because.clone() })
        })?;
        Ok(())
    };
    versions.map(|v| Retired { version: v.version.clone(), failed: one(&v.version, &v.aliases).err().map(|f| f.message) }).collect()
}

fn write_report(project: &Project, dataset: &str, path: &Path) -> Result<(), Failure> {
    let text = render::report(&project.manifest.name, dataset, &accounts(project, dataset)?);
    let mut file = create_only(path)?;
    Ok(std::io::Write::write_all(&mut file, text.as_bytes()).map_err(IoError::of("write", path))?)
}

/// Does here what others have erased, and tells depots.
fn catch_up(global: &Global, args: &EraseArgs, ui: &Ui) -> Result<u8, Failure> {
    let mut project = open(global, ui)?;
    crate::ui::interrupt_too(project.depots.interrupt());
    let theirs = unfollowed(&project)?;
    if args.dry_run || (!theirs.is_empty() && !args.yes) {
        if !args.dry_run {
            must_be_asked(ui)?;
        }
        let would: Vec<_> =
            theirs.iter().map(|e| Ok((e.clone(), plan_to_follow(&project, &e.receipt)?))).collect::<Result<_, EraseError>>()?;
        let depots = pending(&project);
        if args.dry_run {
            match ui.format {
                Format::Json => ui.json(&render::unfollowed_json(&would, &depots)),
                _ => ui.result(&render::unfollowed_text(&would, &depots, &ui.style)),
            }
            return Ok(0);
        }
        ui.insist(&render::unfollowed_text(&would, &depots, &ui.err_style));
        if !ui.agreed("Erase it here too, with everything that was made of it?") {
            ui.say("nothing was erased");
            return Ok(0);
        }
    }
    let mut done = Vec::new();
    for erasure in &theirs {
        done.extend(follow(&mut project, &erasure.receipt, &by_whom())?);
    }
    let depots = reach_depots(&project, ui);
    let is_left = depots.iter().any(|d| matches!(d, Reached::Pending(..)));
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({
            "followed": theirs, "receipts": done.iter().map(|d| d.receipt).collect::<Vec<_>>(),
            "depots": render::depots_json(&depots),
        })),
        _ if theirs.is_empty() && depots.is_empty() => ui.result("nothing is pending\n"),
        _ => {
            let mut out: String = done.iter().map(|d| render::done_text(d, &[], &[], &ui.style)).collect();
            out.push_str(&render::depots_text(&depots, &ui.style));
            if out.is_empty() {
                out.push_str("nothing of what others have erased is here that could go\n");
            }
            ui.result(&out);
        }
    }
    Ok(if is_left { UNSUCCESSFUL } else { 0 })
}

fn nothing_there(name: &str, found: &Found) -> Failure {
    if found.unread.is_empty() {
        let help = "`textum data find` looks for rows; nothing was changed";
        return Failure::new(NOT_THERE, format!("no version of {name} has such rows"), help);
    }
    let unread = found.unread.iter().map(|(name, why)| format!("{name}: {why}")).collect::<Vec<_>>().join("; ");
    Failure::new(NOT_THERE, format!("no version of {name} that could be looked through has such rows"), unread)
}

/// Erases rows.
pub fn run(global: &Global, args: &EraseArgs, ui: &Ui) -> Result<u8, Failure> {
    let Some(name) = args.name.as_deref() else { return catch_up(global, args, ui) };
    let mut project = open(global, ui)?;
    if !project.ledger.dataset_names()?.iter().any(|d| d == name) {
        let help = "`textum data` lists the datasets; rows are erased from all versions of one";
        return Err(Failure::new(NOT_THERE, format!("no dataset `{name}` is recorded"), help));
    }
    let report = args.report.as_ref().map(|path| here(global).join(path));
    if let Some(path) = report.as_ref().filter(|path| path.exists()) {
        return Err(Failure::new(USAGE, format!("{} is there already", path.display()), "name another file for the account"));
    }
    let Some(text) = &args.condition else {
        let path = report.unwrap_or_default();
        write_report(&project, name, &path)?;
        ui.say(&format!("the account is in {}", path.display()));
        return Ok(0);
    };
    let because = args.because.as_deref().unwrap_or_default().trim();
    if because.is_empty() {
        return Err(Failure::new(USAGE, "it is not said why", "write the reason: --because 'asked to be forgotten'"));
    }
    let condition = parse(text).map_err(|source: FilterError| Failure::from(DataError::Filter { text: text.clone(), source }))?;
    let asked = Asked {
        dataset: name.to_string(),
        condition,
        text: text.clone(),
        because: because.to_string(),
        keep_models: args.keep_models,
    };
    crate::ui::interrupt_too(project.depots.interrupt());
    let depots: Vec<String> = project.depots.declared().iter().map(|d| d.name.clone()).collect();
    if args.dry_run || !args.yes {
        let found = find(&project, &asked)?;
        if found.is_empty() {
            return Err(nothing_there(name, &found));
        }
        let goes = plan(&project, &asked, &found)?;
        let told = Told { dataset: name, condition: Some(text), found: &found, plan: &goes, depots: &depots };
        if args.dry_run {
            match ui.format {
                Format::Json => ui.json(&render::plan_json(&told)),
                _ => ui.result(&render::plan_text(&told, &ui.style)),
            }
            return Ok(0);
        }
        must_be_asked(ui)?;
        ui.insist(&render::plan_text(&told, &ui.err_style));
        if !ui.agreed("Erase all of it? It cannot be undone.") {
            ui.say("nothing was erased");
            return Ok(0);
        }
    }
    let done = match erase(&mut project, &asked, &by_whom())? {
        Ok(done) => done,
        Err(found) => return Err(nothing_there(name, &found)),
    };
    let retired = if args.keep_models { Vec::new() } else { retire(global, &project, &done, args) };
    let reached = reach_depots(&project, ui);
    if let Some(path) = &report {
        write_report(&project, name, path)?;
    }
    let told = Told { dataset: name, condition: None, found: &done.found, plan: &done.plan, depots: &depots };
    match ui.format {
        Format::Json => ui.json(&render::done_json(&told, &done, &retired, &reached)),
        _ => ui.result(&render::done_text(&done, &retired, &reached, &ui.style)),
    }
    let is_left = reached.iter().any(|r| matches!(r, Reached::Pending(..)));
    if is_left {
        ui.say(&format!("{} `textum data erase --pending`, as soon as the depot can be reached", ui.err_style.accent("next:")));
    }
    Ok(if is_left { UNSUCCESSFUL } else { 0 })
}
