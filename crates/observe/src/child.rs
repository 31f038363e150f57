//! The process that becomes the command: it asks to be traced, seals and filters itself, and executes.

use std::ffi::OsString;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, ExitCode};

use nix::sys::ptrace;
use nix::sys::signal::{SigSet, Signal, raise};
use textum_base::fsio;

use super::filter::program;
use super::record::Observation;
use super::seal;

/// Files beyond these three are nobody's but Textum's: a command inherits none of them.
const FIRST_INHERITED: i32 = 3;

/// Exit status for a command that is not there, and one that cannot be executed, as shells have them.
const NOT_FOUND: u8 = 127;
const NOT_EXECUTABLE: u8 = 126;

/// Becomes the command. Where the system does not let itself be observed, the command runs all the same, and why is
/// written down in place of the observation.
pub fn become_command(record: &Path, seal_file: &Path, command: &[OsString]) -> ExitCode {
    let Some((name, arguments)) = command.split_first() else { return ExitCode::from(NOT_FOUND) };
    // The tracer has blocked them all for itself.
    let _ = SigSet::all().thread_unblock();
    let traced = match ptrace::traceme().and_then(|()| raise(Signal::SIGSTOP)) {
        Ok(()) => Ok(()),
        Err(e) => Err(format!("tracing is not permitted here ({})", e.desc())),
    };
    let is_sealed = !seal_file.as_os_str().is_empty();
    close_fds::set_fds_cloexec_threadsafe(FIRST_INHERITED, &[]);
    if is_sealed && let Err(why) = seal::apply(seal_file) {
        return fail(&why, NOT_EXECUTABLE);
    }
    let traced = traced.and_then(|()| match seccompiler::apply_filter(&program(is_sealed)) {
        Ok(()) => Ok(()),
        Err(e) => Err(format!("the kernel takes no filter for it ({e})")),
    });
    if let Err(why) = traced {
        let said = Observation { not_observed: Some(why), ..Observation::default() };
        let written = serde_json::to_vec(&said).map_err(|e| e.to_string());
        if let Err(e) = written.and_then(|text| fsio::write_derived(record, &text).map_err(|e| e.to_string())) {
            return fail(&e, NOT_EXECUTABLE);
        }
    }
    let error = Command::new(name).args(arguments).exec();
    let status = if error.kind() == std::io::ErrorKind::NotFound { NOT_FOUND } else { NOT_EXECUTABLE };
    fail(&format!("{}: {error}", name.display()), status)
}

/// What it says goes where the command's own words would go: to the stage's log.
#[allow(clippy::print_stderr)]
fn fail(why: &str, status: u8) -> ExitCode {
    eprintln!("{why}");
    ExitCode::from(status)
}
