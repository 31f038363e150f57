//! `textum registry history`.

use clap::Args;
use textum_core::publish::PublishError;

use super::{WhichRegistry, open_registry};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry history` takes.
#[derive(Debug, Args)]
pub struct HistoryArgs {
    /// A published name or a section; left out: all of them
    name: Option<String>,
    #[command(flatten)]
    which: WhichRegistry,
}

/// Shows the entries of the log.
pub fn run(global: &Global, args: &HistoryArgs, ui: &Ui) -> Result<u8, Failure> {
    let opened = open_registry(global, &args.which, ui)?;
    // It is looked into also where it is not whole: what can be read of it is shown.
    let chain = opened.place.log.read().map_err(PublishError::from)?;
    let damage = chain.damage.clone();
    let registry = chain.registry();
    if let Some(name) = args.name.as_deref().filter(|n| !registry.models.contains_key(*n) && !registry.sections.contains_key(*n)) {
        let known = registry.models.keys().chain(registry.sections.keys()).map(String::as_str);
        let near = textum_base::nearest(name, known).map_or(String::new(), |n| format!(": did you mean `{n}`?"));
        let what = format!("nothing is published as `{name}`, and no section is called so{near}");
        return Err(Failure::new(crate::failure::NOT_THERE, what, "`textum registry list` lists both"));
    }
    let name = args.name.as_deref();
    match ui.format {
        Format::Json => ui.json(&render::history_json(&registry, name)),
        Format::Csv => ui.result(&render::history_csv(&registry, name)),
        Format::Md => ui.result(&render::history_markdown(&registry, name)),
        _ => ui.result(&render::history_text(&registry, name, &ui.style)),
    }
    for damage in &damage {
        ui.insist(&format!("{} entry {} {}", ui.err_style.bad("not whole:"), damage.number, damage.what));
    }
    Ok(if damage.is_empty() { 0 } else { crate::failure::DAMAGE })
}
