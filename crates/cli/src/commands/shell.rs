//! `textum completions` and `textum manual`.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use clap_complete::env::{Bash, Elvish, EnvCompleter, Fish, Powershell, Zsh};
use textum_core::fsio::IoError;

use crate::failure::{DAMAGE, Failure};
use crate::ui::Ui;

/// What `textum completions` takes.
#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

/// Shells with completions.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum Shell {
    /// bash
    Bash,
    /// elvish
    Elvish,
    /// fish
    Fish,
    /// PowerShell
    Powershell,
    /// zsh
    Zsh,
}

/// What `textum manual` takes.
#[derive(Debug, Args)]
#[command(after_help = "Example:\n  textum manual ~/.local/share/man/man1 && man textum-run")]
pub struct ManualArgs {
    /// The folder; it is made if it is not there
    #[arg(value_name = "DIR", value_hint = clap::ValueHint::DirPath)]
    folder: PathBuf,
}

/// Prints the completion script, which asks this program for runs, stages and parameters.
pub fn completions(args: &CompletionsArgs, ui: &Ui) -> Result<u8, Failure> {
    let completer: &dyn EnvCompleter = match args.shell {
        Shell::Bash => &Bash,
        Shell::Elvish => &Elvish,
        Shell::Fish => &Fish,
        Shell::Powershell => &Powershell,
        Shell::Zsh => &Zsh,
    };
    let mut out = Vec::new();
    completer
        .write_registration("COMPLETE", "textum", "textum", "textum", &mut out)
        .map_err(|e| Failure::new(DAMAGE, format!("the completion script could not be made: {e}"), "please report this"))?;
    ui.result(&String::from_utf8_lossy(&out));
    Ok(0)
}

/// Writes a manual page for the program and one for each command.
pub fn manual(args: &ManualArgs, ui: &Ui) -> Result<u8, Failure> {
    textum_core::fsio::create_folder(&args.folder)?;
    clap_mangen::generate_to(crate::forms::command(), &args.folder).map_err(IoError::of("write manual pages to", &args.folder))?;
    ui.result(&format!("manual pages written to {}", args.folder.display()));
    Ok(0)
}
