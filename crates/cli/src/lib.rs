//! The command line of Textum: parse, call the core, render. Everything that computes is in `textum-core`.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod args;
mod commands;
mod complete;
mod demo;
mod failure;
mod forms;
mod render;
mod ui;

use std::mem::ManuallyDrop;
use std::process::ExitCode;

use clap::FromArgMatches;

use args::{Arguments, Command};
use failure::Failure;
use ui::Ui;

/// Parses the command line, does what it says, and gives the exit status.
pub fn main() -> ExitCode {
    if let Some(code) = textum_core::observe::hidden(&std::env::args_os().collect::<Vec<_>>()) {
        return code;
    }
    if std::env::args_os().nth(1).is_some_and(|word| word == textum_core::project::way::PUT_WORD) {
        return commands::place::put_what_a_stage_reads();
    }
    textum_core::observe::offer_tracer();
    if std::env::args_os().nth(1).is_some_and(|word| word == textum_core::project::observed::AWAY_WORD) {
        return commands::place::execute_a_stage_observed();
    }
    clap_complete::CompleteEnv::with_factory(forms::command).complete();
    let first = std::env::args_os().nth(1).and_then(|word| word.into_string().ok());
    // Taking the grammar apart again, piece by piece, would be a seventh of a short command.
    let mut grammar = ManuallyDrop::new(forms::command_for(first.as_deref()));
    let parsed = grammar.try_get_matches_from_mut(std::env::args_os());
    let parsed = parsed.and_then(|m| Ok((forms::words_of(&m), Arguments::from_arg_matches(&m)?)));
    let (words, arguments) = match parsed {
        Ok(parsed) => parsed,
        Err(e) => {
            // Help and version are asked for and go to standard output; the rest is wrong usage.
            let code = if e.use_stderr() { 2 } else { 0 };
            let _ = e.print();
            return ExitCode::from(code);
        }
    };
    let ui = Ui::new(&arguments.global);
    silence_guarded_panics();
    ui::trace_if_asked(&ui);
    let result =
        ui.only(forms::of(&words)).and_then(|()| dispatch(arguments, &ui)).and_then(|code| ui.unprinted().map_or(Ok(code), Err));
    ui.say_fetched();
    match result {
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            ui.failure(&failure);
            ExitCode::from(failure.code)
        }
    }
}

/// A panic of a reader over a damaged file or picture is caught and told as an error: nothing else need be printed of it.
fn silence_guarded_panics() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        if !textum_core::table::is_reading_guarded() && !textum_core::picture::is_guarded() {
            usual(info);
        }
    }));
}

fn dispatch(arguments: Arguments, ui: &Ui) -> Result<u8, Failure> {
    let global = arguments.global;
    match arguments.command {
        Command::New(args) => commands::new::run(&global, &args, ui),
        Command::Demo(args) => commands::demo::run(&global, &args, ui),
        Command::Plan(args) => commands::plan::run(&global, &args, ui),
        Command::Draft(args) => commands::draft::run(&global, &args, ui),
        Command::Adopt(args) => commands::adopt::run(&global, &args, ui),
        Command::Run(args) => commands::run::run(&global, &args, ui),
        Command::Resume(args) => commands::resume::run(&global, &args, ui),
        Command::Stop(args) => commands::stop::run(&global, &args, ui),
        Command::Emit(args) => commands::emit::run(&args, ui),
        Command::Compare(args) => commands::compare::run(&global, &args, ui),
        Command::Plot(args) => commands::plot::run(&global, &args, ui),
        Command::Follow(args) => commands::follow::run(&global, &args, ui),
        Command::Report(args) => commands::report::run(&global, &args, ui),
        Command::Note(args) => commands::remark::note(&global, &args, ui),
        Command::Label(args) => commands::remark::label(&global, &args, ui),
        Command::Data(args) => commands::data::run(&global, &args, ui),
        Command::Runs(args) => commands::runs::run(&global, &args, ui),
        Command::Show(args) => commands::show::run(&global, &args, ui),
        Command::Trace(args) => commands::trace::run(&global, &args, ui),
        Command::Impact(args) => commands::impact::run(&global, &args, ui),
        Command::Restore(args) => commands::restore::run(&global, &args, ui),
        Command::Rebuild(args) => commands::rebuild::run(&global, &args, ui),
        Command::Publish(args) => commands::publish::run(&global, &args, ui),
        Command::Alias(args) => commands::alias::run(&global, &args, ui),
        Command::Retire(args) => commands::alias::retire(&global, &args, ui),
        Command::Card(args) => commands::card::run(&global, &args, ui),
        Command::Fetch(args) => commands::fetch::run(&global, &args, ui),
        Command::Snippet(args) => commands::fetch::snippet(&global, &args, ui),
        Command::Registry(args) => commands::registry::run(&global, &args, ui),
        Command::Depot(args) => commands::depot::run(&global, &args, ui),
        Command::Sync(args) => commands::sync::run(&global, &args, ui),
        Command::Verify(args) => commands::verify::run(&global, &args, ui),
        Command::Prune(args) => commands::prune::run(&global, &args, ui),
        Command::Stats(args) => commands::stats::run(&global, &args, ui),
        Command::Place(args) => commands::place::run(&global, &args, ui),
        Command::Completions(args) => commands::shell::completions(&args, ui),
        Command::Manual(args) => commands::shell::manual(&args, ui),
    }
}
