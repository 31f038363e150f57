//! `textum registry`: what others may rely on.

mod approve;
mod check;
mod history;
mod list;
mod role;
mod section;
mod show;
mod watch;

pub use show::show_version;

use std::collections::BTreeMap;
use std::path::PathBuf;

use clap::{Args, Subcommand};
use textum_core::depot::Interrupt;
use textum_core::inspect::lineage::{Origin, content_in_run};
use textum_core::project::workspace::Project;
use textum_core::publish::{
    Place, PublishError, PublishedInput, append, as_they_stand, bring_in, find_signer, find_version, published_inputs,
};
use textum_core::record::receipt::RunReceipt;
use textum_core::registry::{Action, Entry, Registry, Signer, Version, split_reference};
use textum_core::share::adding;

use super::{by_whom, here, open, variables};
use crate::args::Global;
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::registry::Done;
use crate::ui::Ui;

/// Which registry.
#[derive(Clone, Debug, Default, Args)]
pub struct WhichRegistry {
    /// The depot that has it: a name of the manifest, or a url
    #[arg(long, value_name = "NAME|URL")]
    pub depot: Option<String>,
    /// Something that the depot's kind is to know, such as endpoint=http://10.0.0.7:9000
    #[arg(long = "option", value_name = "KEY=VALUE", hide_short_help = true)]
    pub options: Vec<String>,
}

/// Who signs.
#[derive(Clone, Debug, Default, Args)]
pub struct WhoSigns {
    /// The SSH key that signs; else TEXTUM_KEY, else the one that git signs with
    #[arg(long, value_name = "FILE", conflicts_with = "unsigned")]
    pub key: Option<String>,
    /// Sign nothing
    #[arg(long)]
    pub unsigned: bool,
}

/// That options of a registry are not given where nothing is asked of one.
pub fn nothing_of_a_registry(which: &WhichRegistry, who: &WhoSigns, what: &str) -> Result<(), Failure> {
    let given = which.depot.is_some() || !which.options.is_empty() || who.key.is_some() || who.unsigned;
    match given {
        true => {
            Err(Failure::new(USAGE, format!("--depot, --option, --key and --unsigned say nothing of {what}"), "leave them out"))
        }
        false => Ok(()),
    }
}

/// What `textum registry` takes.
#[derive(Debug, Args)]
#[command(
    args_conflicts_with_subcommands = true,
    after_help = "Examples:\n  textum registry                          what is published\n  textum registry show stop-predictor      its versions\n  textum registry show stop-predictor@live all about one of them\n  textum registry section weaving --accepts model --guard live=1 --signed\n  textum registry role weaving reviewer bo.pub --holder bo\n  textum registry approve stop-predictor@3 --for live\n  textum registry watch --alias live -- ./deploy.sh\n  textum registry check                    is the log whole, and is everybody's right"
)]
pub struct RegistryArgs {
    #[command(subcommand)]
    what: Option<RegistryCommand>,
    #[command(flatten)]
    which: WhichRegistry,
}

/// What to do with a registry.
#[derive(Debug, Subcommand)]
enum RegistryCommand {
    /// List what is published
    List(list::ListArgs),
    /// Show the versions of a name, or all about one of them
    Show(show::ShowArgs),
    /// Show the entries of the log, and which of them have no effect
    History(history::HistoryArgs),
    /// Read the whole log anew, and tell what is not right
    Check(check::CheckArgs),
    /// Show a section and its roles; make it, or change what it is
    Section(section::SectionArgs),
    /// Give a key a role in a section, or take it away
    Role(role::RoleArgs),
    /// Sign that a version is fit for a guarded alias
    Approve(approve::ApproveArgs),
    /// Start a command, or tell a server, whenever something happens
    Watch(watch::WatchArgs),
}

/// Does it.
pub fn run(global: &Global, args: &RegistryArgs, ui: &Ui) -> Result<u8, Failure> {
    match &args.what {
        None => list::run(global, &list::ListArgs { which: args.which.clone() }, ui),
        Some(RegistryCommand::List(args)) => list::run(global, args, ui),
        Some(RegistryCommand::Show(args)) => show::run(global, args, ui),
        Some(RegistryCommand::History(args)) => history::run(global, args, ui),
        Some(RegistryCommand::Check(args)) => check::run(global, args, ui),
        Some(RegistryCommand::Section(args)) => section::run(global, args, ui),
        Some(RegistryCommand::Role(args)) => role::run(global, args, ui),
        Some(RegistryCommand::Approve(args)) => approve::run(global, args, ui),
        Some(RegistryCommand::Watch(args)) => watch::run(global, args, ui),
    }
}

/// An open registry, and the project that it was opened from, if it was.
pub struct Opened {
    /// The project.
    pub project: Option<Project>,
    /// The registry.
    pub place: Place,
}

/// This person's folder for what can be had again.
pub fn cache_folder() -> PathBuf {
    let variable = |name: &str| textum_base::environment::raw_variable(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    let cache = variable("XDG_CACHE_HOME").filter(|p| p.is_absolute()).or_else(|| Some(variable("HOME")?.join(".cache")));
    cache.unwrap_or_else(std::env::temp_dir).join("textum")
}

/// Opens the registry of the project here, or that of the depot at a url: then no project is needed.
pub fn open_registry(global: &Global, which: &WhichRegistry, ui: &Ui) -> Result<Opened, Failure> {
    if let Some(url) = which.depot.as_deref().filter(|d| d.contains('/') || *d == "." || *d == "..") {
        let options: BTreeMap<String, String> = super::depot::options_of(&which.options)?;
        let interrupt = Interrupt::default();
        crate::ui::interrupt_too(&interrupt);
        let folder = here(global);
        let folder = std::path::absolute(&folder).unwrap_or(folder);
        let place = Place::of_address(url, &folder, &options, &variables(), &interrupt, &cache_folder())?;
        return Ok(Opened { project: None, place });
    }
    if !which.options.is_empty() {
        return Err(Failure::new(
            USAGE,
            "--option goes with the url of a depot",
            "the manifest says what a depot of a name is to know",
        ));
    }
    let project = open(global, ui)?;
    crate::ui::interrupt_too(project.depots.interrupt());
    let place = Place::of_project(&project, which.depot.as_deref())?;
    Ok(Opened { project: Some(project), place })
}

/// What datasets that are published versions are to be now, with the registry that says so. One that cannot be asked is told
/// of, and what stands there counts.
pub fn resolve_inputs(project: &mut Project, ui: &Ui) -> Result<Option<(Place, Registry, Vec<PublishedInput>)>, Failure> {
    if project.manifest.data.iter().all(|d| d.from.is_none()) {
        return Ok(None);
    }
    let asked = Place::of_project(project, None).and_then(|place| Ok((place.registry()?, place)));
    match asked {
        Ok((registry, place)) => {
            let inputs = published_inputs(project, &registry)?;
            Ok(Some((place, registry, inputs)))
        }
        // A log that is not whole is relied on by nobody.
        Err(e @ PublishError::Log(textum_core::registry::LogError::Damaged { .. })) => Err(e.into()),
        Err(e @ (PublishError::Depots(_) | PublishError::Log(_))) => {
            let standing = as_they_stand(project)?;
            let names: Vec<String> = standing.into_iter().map(|(_, version)| version).collect();
            let note = ui.err_style.bad("note:");
            ui.say(&format!("{note} the registry could not be asked: {e}; what stands here counts: {}", names.join(", ")));
            Ok(None)
        }
        Err(e) => Err(e.into()),
    }
}

/// That they stand where they are to: what works in sandboxes leaves the tree as it is.
pub fn must_stand(project: &mut Project, ui: &Ui) -> Result<(), Failure> {
    let Some((_, _, inputs)) = resolve_inputs(project, ui)? else { return Ok(()) };
    if let Some(input) = inputs.iter().find(|input| !input.stands) {
        let line = crate::render::plan::published(input).unwrap_or_default();
        let help = format!("a sandbox leaves the tree as it is: textum fetch {} -o {}", input.reference, input.path);
        return Err(Failure::new(NOT_THERE, line, help));
    }
    textum_core::publish::expect(project, &inputs);
    Ok(())
}

/// Brings them to where they are to stand.
pub fn bring_inputs(project: &mut Project, ui: &Ui) -> Result<(), Failure> {
    let Some((place, registry, inputs)) = resolve_inputs(project, ui)? else { return Ok(()) };
    let brought = {
        let transfer = ui.transfer();
        let tell = |what: &str, bytes, total| transfer.tell(what, bytes, total);
        bring_in(project, &place, &registry, &inputs, &adding(&tell, "fetching", None))?
    };
    if brought > 0 {
        inputs.iter().filter_map(crate::render::plan::published).for_each(|line| ui.say(&ui.err_style.dim(&line)));
    }
    Ok(())
}

/// The registry, if a name is one of something published in it, and neither that of a dataset nor of a file.
pub fn registry_naming(project: &Project, name: &str, global: &Global) -> Result<Option<Registry>, Failure> {
    let Some((published, Some(_))) = split_reference(name) else { return Ok(None) };
    if project.ledger.dataset_names()?.iter().any(|d| d == published) || here(global).join(name).symlink_metadata().is_ok() {
        return Ok(None);
    }
    // A project whose registry cannot be asked has its datasets all the same.
    let registry = Place::of_project(project, None).and_then(|place| place.registry());
    Ok(registry.ok().filter(|registry| registry.models.contains_key(published)))
}

/// What a run made of what is published under a name, as `RUN:PATH`; the name itself where it is none of something published.
pub fn as_of_run(project: &Project, name: &str, global: &Global, ui: &Ui) -> Result<String, Failure> {
    let Some(registry) = registry_naming(project, name, global)? else { return Ok(name.to_string()) };
    let (version, _) = find_version(&registry, name)?;
    let bundle = &version.publication.bundle;
    let Some(run) = &bundle.run else {
        let what = format!("{name} is a version of a dataset, and comes from no run");
        return Err(Failure::new(USAGE, what, "`textum registry show` tells which"));
    };
    if project.ledger.run(&run.run)?.is_none() {
        super::receive_receipts(project, ui);
    }
    let row = project.ledger.run(&run.run)?.ok_or_else(|| {
        let what = format!("{name} comes from the run {} of {}, whose receipts are not here", run.run, run.project);
        Failure::new(NOT_THERE, what, "ask for it in that project; `textum registry show` tells what is known of it")
    })?;
    // Code that was taken in beside what the run made is no result of it.
    let receipt = RunReceipt::load(&project.store, &row.receipt)?;
    for file in &bundle.files {
        let found = content_in_run(&project.store, &receipt, &file.path)?;
        if found.is_some_and(|f| matches!(f.origin, Origin::Written { .. }) && f.content.digest == file.digest) {
            return Ok(format!("{}:{}", run.run, file.path));
        }
    }
    Ok(run.run.clone())
}

/// The key that signs, if one does.
pub fn signer(global: &Global, who: &WhoSigns) -> Result<Option<Signer>, Failure> {
    if who.unsigned {
        return Ok(None);
    }
    Ok(find_signer(who.key.as_deref(), &here(global), &variables()).map_err(PublishError::from)?)
}

/// Appends one entry; none: all was so already.
pub fn act(
    global: &Global,
    place: &Place,
    who: &WhoSigns,
    decide: impl FnMut(&Registry) -> Result<Option<Action>, PublishError>,
) -> Result<(Registry, Option<Entry>), Failure> {
    let signer = signer(global, who)?;
    Ok(append(place, signer.as_ref(), &by_whom(), decide)?)
}

/// Appends one entry about the version that a reference names at that time.
pub fn act_on(
    global: &Global,
    place: &Place,
    who: &WhoSigns,
    reference: &str,
    mut decide: impl FnMut(&Version, String, u64) -> Option<Action>,
) -> Result<Done, Failure> {
    let mut meant = (String::new(), 0);
    let (registry, entry) = act(global, place, who, |registry| {
        let (found, version) = find_version(registry, reference)?;
        meant = (found.publication.name.clone(), version);
        Ok(decide(found, meant.0.clone(), version))
    })?;
    Ok(Done { name: meant.0, version: meant.1, registry, entry })
}

/// That a reference says which version.
pub fn must_name_a_version(reference: &str) -> Result<(), Failure> {
    match split_reference(reference) {
        Some((_, Some(_))) => Ok(()),
        _ => {
            let help = "write NAME@3, or NAME@live: an alias is a word, a version a number";
            Err(Failure::new(USAGE, format!("`{reference}` names no published version"), help))
        }
    }
}
