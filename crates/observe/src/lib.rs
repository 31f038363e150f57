//! What a command and all that it starts read, seen from outside.
//!
//! The command runs under a tracer, a process of its own: this very program, started with [`TRACER`] as its first
//! word. It starts the program once more, with [`CHILD`], which asks to be traced, puts a seccomp filter on itself
//! and becomes the command; so no code runs between fork and exec, and none of this is unsafe. Only calls that open,
//! list, look up, execute, write, rename, delete, connect or ask for random numbers stop; all others go at full speed.
//! Threads, children and daemons inherit both. When the command ends, what it left running is ended, and an
//! [`Observation`] is written.
//!
//! Sources: `ptrace(2)`, `seccomp(2)`, the kernel's `userspace-api/seccomp_filter`.
//!
//! A name is looked up when it is asked for, before the call is carried out; what a call changes counts when it has
//! returned without an error. What cannot be followed (calls of 32-bit programs, file systems that the command mounts) is
//! in [`Observation::not_whole`]; `io_uring` is answered as by a kernel without it, so that programs use calls that are
//! seen.
//!
//! In reading order: `record`, what is written down; `child`, `filter` and `seal`, how the command begins; `tracer`, which
//! follows it; `calls`, a stopped call; `resolve`, what its names lead to; `notes`, what all of it comes to; `loopback` and
//! `sockets`, who answers at an address.

#![cfg_attr(test, allow(clippy::disallowed_methods, clippy::unwrap_used, clippy::panic))]

mod names;
mod record;

#[cfg(target_os = "linux")]
mod calls;
#[cfg(target_os = "linux")]
mod child;
#[cfg(target_os = "linux")]
mod filter;
#[cfg(target_os = "linux")]
mod loopback;
#[cfg(target_os = "linux")]
mod notes;
#[cfg(target_os = "linux")]
mod resolve;
#[cfg(target_os = "linux")]
mod seal;
#[cfg(target_os = "linux")]
mod sockets;
#[cfg(target_os = "linux")]
mod tracer;

pub use names::{from_text, to_text};
pub use textum_base::{Channel, ChannelKind};

pub use record::{Absent, Attribute, Changed, End, Link, Listed, Looked, Observation, Opened, Refused, Seal, Stamp, Try};

use std::path::Path;
use std::process::ExitCode;

/// The first word of the command line that makes this program a tracer.
pub const TRACER: &str = "--observe-stage";
/// The first word that makes it the command that is traced.
pub const CHILD: &str = "--observed-stage";

/// How the line of a stage's log begins in which a tracer says why it could not do its work.
pub const FAILED: &str = "observing failed: ";

/// The words to put before a command so that it is observed, given the file that the observation is written to and,
/// if it is to be sealed, the file with the [`Seal`].
pub fn words_before(program: &Path, record: &Path, seal: Option<&Path>) -> Vec<String> {
    let text = |path: &Path| path.display().to_string();
    vec![text(program), TRACER.to_string(), text(record), seal.map(text).unwrap_or_default()]
}

/// Does what the hidden words ask for; `None` when the command line has none.
#[cfg(target_os = "linux")]
pub fn hidden(arguments: &[std::ffi::OsString]) -> Option<ExitCode> {
    let first = arguments.get(1)?.to_str()?;
    let (record, seal, command) = (arguments.get(2)?, arguments.get(3)?, arguments.get(4..)?);
    match first {
        TRACER => Some(tracer::trace(Path::new(record), Path::new(seal), command)),
        CHILD => Some(child::become_command(Path::new(record), Path::new(seal), command)),
        _ => None,
    }
}

/// Nothing is observed on this system.
#[cfg(not(target_os = "linux"))]
pub fn hidden(_arguments: &[std::ffi::OsString]) -> Option<ExitCode> {
    None
}

/// Runs a command under a tracer that is this process itself, whose observation goes to a file; with a file of a [`Seal`] it is
/// sealed. From then on this process is ended by nothing but force. An error where it could not be begun or followed.
#[cfg(target_os = "linux")]
pub fn run_traced(record: &Path, seal: Option<&Path>, command: &[std::ffi::OsString]) -> Result<End, String> {
    tracer::run(record, seal.unwrap_or_else(|| Path::new("")), command)
}

/// Nothing is observed on this system.
#[cfg(not(target_os = "linux"))]
pub fn run_traced(_record: &Path, _seal: Option<&Path>, _command: &[std::ffi::OsString]) -> Result<End, String> {
    Err("this system has no means for observing".to_string())
}

/// Ends this process as a command ended that it has run: by the same signal, or gives the same status.
pub fn end_as(end: End) -> ExitCode {
    #[cfg(target_os = "linux")]
    return tracer::end_as(end);
    #[cfg(not(target_os = "linux"))]
    return ExitCode::from(match end {
        End::Code(code) => code as u8,
        End::Signal(number) => 128u8.wrapping_add(number as u8),
    });
}

static PROGRAM: std::sync::OnceLock<std::path::PathBuf> = std::sync::OnceLock::new();

/// Says that this program does what the hidden words ask for, so that it can trace. Only a program that begins with
/// [`hidden`] may say so.
pub fn offer_tracer() {
    if let Ok(program) = std::env::current_exe() {
        let _ = PROGRAM.set(program);
    }
}

/// The program that traces, if there is one.
pub fn tracer() -> Option<std::path::PathBuf> {
    PROGRAM.get().cloned()
}

/// The digest of a user's attribute of a file, or of the names of all of them for an empty name; none where there is none.
pub fn attribute(path: &Path, name: &str) -> Option<textum_base::Digest> {
    #[cfg(target_os = "linux")]
    return notes::attribute(path, name);
    #[cfg(not(target_os = "linux"))]
    return None.filter(|_: &textum_base::Digest| path.exists() && name.is_empty());
}

/// Whether this kernel can seal a command.
pub fn can_seal() -> bool {
    #[cfg(target_os = "linux")]
    return seal::is_possible();
    #[cfg(not(target_os = "linux"))]
    return false;
}

/// Whether this system has what observing needs. Whether it is allowed shows when it is tried.
pub fn is_possible() -> bool {
    cfg!(all(target_os = "linux", any(target_arch = "x86_64", target_arch = "aarch64")))
}
