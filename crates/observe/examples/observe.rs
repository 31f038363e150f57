//! Observes a command: `observe RECORD COMMAND…` writes what it was seen to do into the file RECORD.

use std::process::{Command, ExitCode};

fn main() -> ExitCode {
    let arguments: Vec<_> = std::env::args_os().collect();
    if let Some(code) = textum_observe::hidden(&arguments) {
        return code;
    }
    let (Some(record), Ok(program)) = (arguments.get(1), std::env::current_exe()) else { return ExitCode::from(2) };
    let words = textum_observe::words_before(&program, record.as_ref(), None);
    let status = Command::new(&words[0]).args(&words[1..]).args(&arguments[2..]).status();
    ExitCode::from(status.ok().and_then(|s| s.code()).map_or(1, |code| code as u8))
}
