//! `textum run --vary`.

use textum_core::config::sweep::{Varied, settings, size};
use textum_core::pipeline::exec::{RunOptions, run_sweep, sweep_name};
use textum_core::project::workspace::Project;

use super::background::InBackground;
use super::run::RunArgs;
use crate::args::Format;
use crate::failure::{Failure, INTERRUPTED, UNSUCCESSFUL, USAGE};
use crate::render;
use crate::ui::{Ui, catch_interrupts};

/// More runs than this are asked about first.
const MANY: usize = 10_000;

/// Carries a sweep out.
pub fn run(project: &mut Project, args: &RunArgs, options: RunOptions, background: &InBackground, ui: &Ui) -> Result<u8, Failure> {
    let varied: Vec<Varied> = args.vary.iter().map(|text| Varied::parse(text, &project.params)).collect::<Result<_, _>>()?;
    if let Some(twice) = varied.iter().find(|v| project.set.contains(&v.name)) {
        return Err(textum_core::config::sweep::SweepError::Twice(twice.name.clone()).into());
    }
    let all = settings(&varied, args.sample.map(|n| n as usize), args.seed)?;
    let count = all.len();
    if count > MANY && !args.yes && !ui.agreed(&format!("This sweep has {count} runs. Go on?")) {
        let help = "draw some of them with --sample N, or say --yes";
        return Err(Failure::new(USAGE, format!("a sweep of {count} runs was not begun"), help));
    }
    let sample = args.sample.filter(|n| u128::from(*n) < size(&varied)).map(|n| (n as usize, args.seed));
    let mut named = args.stages.clone();
    named.sort();
    let name = sweep_name(&varied, sample, &named);
    let cancel = catch_interrupts();
    background.begun(&name);
    let outcome = {
        let events = ui.events();
        run_sweep(project, &name, &all, &options, &*events, cancel)?
    };
    background.recorded();
    match ui.format {
        Format::Json => ui.json(&render::sweep::json(&outcome)),
        _ => ui.result(&render::sweep::text(&outcome, &varied, &project.manifest.metrics, &ui.style)),
    }
    Ok(if cancel.asked() {
        INTERRUPTED
    } else if outcome.variants.iter().all(|v| matches!(v.state.as_str(), "done" | "there")) {
        0
    } else {
        UNSUCCESSFUL
    })
}
