//! `textum publish`.

use clap::Args;
use textum_core::data::split_name;
use textum_core::publish::{Asked, Place, publish};
use textum_core::registry::Signed;

use super::registry::{WhichRegistry, WhoSigns, signer};
use super::{by_whom, open_to_share};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::version;
use crate::ui::Ui;

/// What `textum publish` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "A model is what [model.NAME] of the manifest says: its files as the run made them, the code that it takes to use\nthem, and the command that predicts. That command is tried on a few rows, and its answers are kept: `textum fetch\n--check` repeats them wherever the model is used. The same content is the same version.\n\nExamples:\n  textum publish stop-predictor           as the newest finished run made it\n  textum publish stop-predictor best:auc  as that run made it\n  textum publish shifts@2                 a version of a dataset"
)]
pub struct PublishArgs {
    /// A model of the manifest, or a version of a dataset: shifts@2
    name: String,
    /// The run that made it; left out: the newest finished one
    run: Option<String>,
    /// The section that it is published in
    #[arg(long)]
    section: Option<String>,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// Publishes a version.
pub fn run(global: &Global, args: &PublishArgs, ui: &Ui) -> Result<u8, Failure> {
    if !args.which.options.is_empty() || args.which.depot.as_deref().is_some_and(|d| d.contains('/')) {
        let help = "declare the depot first: `textum depot add NAME URL`; then --depot NAME";
        return Err(Failure::new(USAGE, "what is published goes to a depot that the project declares", help));
    }
    let project = open_to_share(global, ui)?;
    let signer = signer(global, &args.who)?;
    let place = Place::of_project(&project, args.which.depot.as_deref())?;
    let model = project.manifest.models.iter().find(|m| m.name == args.name);
    let asked = match (model, split_name(&args.name)) {
        (Some(model), _) => Asked::Model { model, run: args.run.as_deref() },
        (None, Some((name, number))) => {
            if let Some(run) = &args.run {
                let what = format!("a version of a dataset is no result of a run: `{run}` says nothing");
                return Err(Failure::new(USAGE, what, "leave the run out"));
            }
            Asked::Data { name, number }
        }
        (None, None) => {
            let known = project.manifest.models.iter().map(|m| m.name.as_str());
            let near = textum_base::nearest(&args.name, known).map(|n| format!(": did you mean `{n}`?")).unwrap_or_default();
            let help = "declare it in textum.toml: [model.NAME] with its files; or name a version of a dataset, as in shifts@2";
            return Err(Failure::new(NOT_THERE, format!("the manifest has no model `{}`{near}", args.name), help));
        }
    };
    let published = {
        let transfer = ui.transfer();
        let tell = |what: &str, bytes, total| transfer.tell(what, bytes, total);
        publish(&project, &place, &asked, args.section.as_deref(), signer.as_ref(), &by_whom(), &tell)?
    };
    let found = published.registry.models.get(&published.name).and_then(|m| m.version(published.version));
    let Some(found) = found else {
        return Err(Failure::new(
            NOT_THERE,
            format!("{} was published, and is not there", published.name),
            "`textum registry check`",
        ));
    };
    let is_new = published.entry.is_some();
    match ui.format {
        Format::Json => ui.json(&version::published_json(&published, found)),
        _ => ui.result(&version::published_text(&published, found, place.log.at(), &ui.style)),
    }
    if is_new && found.signed == Signed::No {
        let note = ui.err_style.dim("not signed: name a key with --key, TEXTUM_KEY or git's user.signingkey");
        ui.say(&note);
    }
    Ok(0)
}
