//! `textum depot`: where several machines share what they have.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::{Args, Subcommand};
use textum_core::config::manifest::{DepotDecl, LOCAL_NAME, add_depot, is_depot_name, is_inside, remove_depot};
use textum_core::depot::{Address, Depot, DepotError, Probe, Storage, open_storage, probe};
use textum_core::fsio::{self, IoError};
use textum_core::project::workspace::Project;

use super::{by_whom, open, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::depot as render;
use crate::ui::Ui;

/// What `textum depot` takes.
#[derive(Debug, Args)]
pub struct DepotArgs {
    #[command(subcommand)]
    what: DepotCommand,
}

/// What to do with depots.
#[derive(Debug, Subcommand)]
enum DepotCommand {
    /// Declare a depot in the manifest, and make it if there is none
    Add(AddArgs),
    /// List the depots that are declared
    List,
    /// Find out by trying what a depot's storage does
    Check(CheckArgs),
    /// Take a depot out of the manifest; what is in it stays there
    Remove(RemoveArgs),
}

/// What `textum depot add` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum depot add team /mnt/share/textum\n  textum depot add team s3://loom-lab/textum --option region=eu-central-1\n  textum depot add lab s3://looms/t --option endpoint=http://10.0.0.7:9000\n  textum depot add shed sftp://ada@shed.example/textum\n  textum depot add nas webdavs://nas.example/textum --local\n\nCredentials stand in no file of the project: they are taken from the usual variables and files of the\nservice (AWS_ACCESS_KEY_ID, ~/.aws), the SSH agent, or ~/.netrc."
)]
struct AddArgs {
    /// What to call it
    name: String,
    /// A folder, s3://, sftp://, webdav://, webdavs://, gs:// or az://
    url: String,
    /// Something that its kind is to know, such as region=eu-1
    #[arg(long = "option", value_name = "KEY=VALUE")]
    options: Vec<String>,
    /// Runs at work tell it of themselves, to be followed and stopped from elsewhere
    #[arg(long)]
    live: bool,
    /// Declare it in textum.local.toml, for yourself alone
    #[arg(long)]
    local: bool,
}

/// What `textum depot check` takes.
#[derive(Debug, Args)]
struct CheckArgs {
    /// The depot; left out: all of them
    name: Option<String>,
}

/// What `textum depot remove` takes.
#[derive(Debug, Args)]
struct RemoveArgs {
    /// The depot
    name: String,
}

/// Does it.
pub fn run(global: &Global, args: &DepotArgs, ui: &Ui) -> Result<u8, Failure> {
    match &args.what {
        DepotCommand::Add(args) => add(global, args, ui),
        DepotCommand::List => list(global, ui),
        DepotCommand::Check(args) => check(global, args, ui),
        DepotCommand::Remove(args) => remove(global, args, ui),
    }
}

fn read_or_empty(path: &Path) -> Result<String, IoError> {
    match std::fs::read_to_string(path) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        other => other.map_err(IoError::of("read", path)),
    }
}

/// Options of a depot out of `KEY=VALUE` words.
pub fn options_of(words: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    let pair = |word: &String| {
        let (key, value) = word.split_once('=')?;
        Some((key.trim().to_string(), value.trim().to_string()))
    };
    let help = "write it as in --option region=eu-1";
    words.iter().map(|word| pair(word).ok_or_else(|| Failure::new(USAGE, format!("`{word}` is no option"), help))).collect()
}

fn add(global: &Global, args: &AddArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    if !is_depot_name(&args.name) {
        let help = "use letters, digits, `-` and `_`, beginning with a letter or digit";
        return Err(Failure::new(USAGE, format!("`{}` cannot be the name of a depot", args.name), help));
    }
    if project.manifest.depots.iter().any(|d| d.name == args.name) {
        let help = "choose another name, or `textum depot remove` it first";
        return Err(Failure::new(USAGE, format!("there is a depot `{}` already", args.name), help));
    }
    let root = project.workspace.root();
    let wrong = |e: textum_core::depot::AddressError| Failure::new(USAGE, e.what, e.help);
    let address = Address::parse(&args.url, root).map_err(wrong)?;
    let options = options_of(&args.options)?;
    address.check_options(&options).map_err(wrong)?;
    if let Address::Folder(folder) = &address
        && is_inside(folder, root)
    {
        let help = "name a folder beside the project, or one that the machines share";
        return Err(Failure::new(USAGE, "the depot and the project lie inside one another", help));
    }
    let decl = DepotDecl { name: args.name.clone(), url: args.url.clone(), address, options, live: args.live };
    let storage = storage_of(&project, &decl)?;
    let found = probe(&*storage).map_err(|e| Failure::from(DepotError::from(e)))?;
    let (depot, made) = match &found.writes {
        Ok(()) => Depot::open_or_create(storage, project.depots.options_of(&decl), &by_whom().to_string())?,
        // One that can only be read is of use if it is there.
        Err(_) => (Depot::open(storage, project.depots.options_of(&decl))?, false),
    };
    same_as_another(&project, &depot)?;
    let file = if args.local { root.join(LOCAL_NAME) } else { project.workspace.manifest_path() };
    let text = read_or_empty(&file)?;
    let new = add_depot(&text, &decl.name, &decl.url, &decl.options, decl.live).ok_or_else(|| {
        Failure::new(USAGE, format!("{} cannot be changed", file.display()), "write [depot.NAME] with its url by hand")
    })?;
    fsio::overwrite(&file, new.as_bytes())?;
    if args.local {
        ignore(root)?;
    }
    match ui.format {
        Format::Json => ui.json(&render::added_json(&decl, depot.id(), made, &found, &file)),
        _ => ui.result(&render::added_text(&decl, made, &found, &file, &ui.style)),
    }
    Ok(0)
}

/// `textum.local.toml` is nobody else's.
fn ignore(root: &Path) -> Result<(), Failure> {
    let path: PathBuf = root.join(".gitignore");
    let text = read_or_empty(&path)?;
    if !text.lines().any(|line| line.trim().trim_start_matches('/') == LOCAL_NAME) {
        let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        fsio::overwrite(&path, format!("{text}{gap}/{LOCAL_NAME}\n").as_bytes())?;
    }
    Ok(())
}

fn storage_of(project: &Project, decl: &DepotDecl) -> Result<Arc<dyn Storage>, Failure> {
    open_storage(&decl.address, &decl.options, &variables(), project.depots.interrupt()).map_err(|e| DepotError::from(e).into())
}

/// Two names for one depot would each be asked for what the other does not have.
fn same_as_another(project: &Project, depot: &Depot) -> Result<(), Failure> {
    for other in project.manifest.depots.iter().filter(|d| d.name != depot.name()) {
        if let Ok(known) = project.depots.open(Some(&other.name))
            && known.id() == depot.id()
        {
            let what = format!("the depots `{}` and `{}` are one and the same (id {})", other.name, depot.name(), depot.id());
            return Err(Failure::new(USAGE, what, "keep one of the two names: `textum depot remove NAME`"));
        }
    }
    Ok(())
}

fn list(global: &Global, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let depots = &project.manifest.depots;
    match ui.format {
        Format::Json => ui.json(&render::list_json(depots)),
        _ if depots.is_empty() => ui.say("no depots yet: `textum depot add NAME URL` declares one"),
        Format::Csv => ui.result(&render::list_csv(depots)),
        Format::Md => ui.result(&render::list_markdown(depots)),
        _ => ui.result(&render::list_text(depots, &ui.style)),
    }
    Ok(0)
}

fn check(global: &Global, args: &CheckArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let decls: Vec<&DepotDecl> = match &args.name {
        Some(name) => vec![project.depots.named(Some(name))?],
        None if project.manifest.depots.is_empty() => return Err(textum_core::project::depots::DepotsError::None.into()),
        None => project.manifest.depots.iter().collect(),
    };
    let mut found: Vec<render::Checked<'_>> = Vec::new();
    for decl in decls {
        let look = || -> Result<(String, Probe), Failure> {
            let depot = project.depots.open(Some(&decl.name))?;
            same_as_another(&project, &depot)?;
            Ok((depot.id().to_string(), probe(&**depot.storage()).map_err(DepotError::from)?))
        };
        found.push((decl, look()));
    }
    match ui.format {
        Format::Json => ui.json(&render::check_json(&found)),
        _ => ui.result(&render::check_text(&found, &ui.style)),
    }
    Ok(found.into_iter().filter_map(|(_, result)| result.err()).map(|failure| failure.code).max().unwrap_or(0))
}

fn remove(global: &Global, args: &RemoveArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    project.depots.named(Some(&args.name))?;
    let mut files = Vec::new();
    for file in [project.workspace.root().join(LOCAL_NAME), project.workspace.manifest_path()] {
        if let Some(text) = remove_depot(&read_or_empty(&file)?, &args.name) {
            fsio::overwrite(&file, text.as_bytes())?;
            files.push(file);
        }
    }
    if files.is_empty() {
        let what = format!("the depot `{}` cannot be taken out of the manifest", args.name);
        return Err(Failure::new(NOT_THERE, what, "take [depot.NAME] out by hand"));
    }
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"removed": args.name, "files": files})),
        _ => ui.result(&format!("the depot {} is no longer declared; what is in it stays there\n", ui.style.bold(&args.name))),
    }
    Ok(0)
}
