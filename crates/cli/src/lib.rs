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
use forms::Deferred;
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
    clap_complete::CompleteEnv::with_factory(forms::command_to_complete).complete();
    // Taking the grammar apart again, piece by piece, would be a seventh of a short command.
    let mut grammar = ManuallyDrop::new(forms::command());
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
        Command::New(Deferred(args)) => commands::new::run(&global, &args, ui),
        Command::Demo(Deferred(args)) => commands::demo::run(&global, &args, ui),
        Command::Plan(Deferred(args)) => commands::plan::run(&global, &args, ui),
        Command::Draft(Deferred(args)) => commands::draft::run(&global, &args, ui),
        Command::Adopt(Deferred(args)) => commands::adopt::run(&global, &args, ui),
        Command::Run(Deferred(args)) => commands::run::run(&global, &args, ui),
        Command::Resume(Deferred(args)) => commands::resume::run(&global, &args, ui),
        Command::Stop(Deferred(args)) => commands::stop::run(&global, &args, ui),
        Command::Emit(Deferred(args)) => commands::emit::run(&args, ui),
        Command::Compare(Deferred(args)) => commands::compare::run(&global, &args, ui),
        Command::Plot(Deferred(args)) => commands::plot::run(&global, &args, ui),
        Command::Follow(Deferred(args)) => commands::follow::run(&global, &args, ui),
        Command::Report(Deferred(args)) => commands::report::run(&global, &args, ui),
        Command::Note(Deferred(args)) => commands::remark::note(&global, &args, ui),
        Command::Label(Deferred(args)) => commands::remark::label(&global, &args, ui),
        Command::Data(Deferred(args)) => commands::data::run(&global, &args, ui),
        Command::Runs(Deferred(args)) => commands::runs::run(&global, &args, ui),
        Command::Show(Deferred(args)) => commands::show::run(&global, &args, ui),
        Command::Trace(Deferred(args)) => commands::trace::run(&global, &args, ui),
        Command::Impact(Deferred(args)) => commands::impact::run(&global, &args, ui),
        Command::Restore(Deferred(args)) => commands::restore::run(&global, &args, ui),
        Command::Rebuild(Deferred(args)) => commands::rebuild::run(&global, &args, ui),
        Command::Publish(Deferred(args)) => commands::publish::run(&global, &args, ui),
        Command::Alias(Deferred(args)) => commands::alias::run(&global, &args, ui),
        Command::Retire(Deferred(args)) => commands::alias::retire(&global, &args, ui),
        Command::Card(Deferred(args)) => commands::card::run(&global, &args, ui),
        Command::Fetch(Deferred(args)) => commands::fetch::run(&global, &args, ui),
        Command::Snippet(Deferred(args)) => commands::fetch::snippet(&global, &args, ui),
        Command::Registry(Deferred(args)) => commands::registry::run(&global, &args, ui),
        Command::Depot(Deferred(args)) => commands::depot::run(&global, &args, ui),
        Command::Sync(Deferred(args)) => commands::sync::run(&global, &args, ui),
        Command::Verify(Deferred(args)) => commands::verify::run(&global, &args, ui),
        Command::Prune(Deferred(args)) => commands::prune::run(&global, &args, ui),
        Command::Stats(Deferred(args)) => commands::stats::run(&global, &args, ui),
        Command::Place(Deferred(args)) => commands::place::run(&global, &args, ui),
        Command::Completions(Deferred(args)) => commands::shell::completions(&args, ui),
        Command::Manual(Deferred(args)) => commands::shell::manual(&args, ui),
    }
}
