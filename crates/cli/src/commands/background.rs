//! Runs in the background: a second process carries the run out, in a session of its own, so that it goes on when the
//! terminal closes. The first ends as soon as the run has begun.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use clap::Args;
use textum_core::event::{Event, EventSink};
use textum_core::fsio;

use super::{here, variables};
use crate::args::{Format, Global};
use crate::failure::{DAMAGE, Failure};
use crate::ui::Ui;

/// How a command that runs something is put into the background.
#[derive(Clone, Debug, Default, Args)]
pub struct BackgroundArgs {
    /// Go on in the background, also when the terminal closes
    #[arg(long, conflicts_with = "in_background")]
    pub detach: bool,
    /// Where this process tells which run it has begun: it is the one in the background
    #[arg(long, hide = true, value_name = "FILE")]
    pub in_background: Option<PathBuf>,
}

/// In Textum's folder: what processes in the background say.
const FOLDER: &str = "background";
/// What nobody removed for so long is removed, in seconds.
const OLD: i64 = 30 * 24 * 3600;

/// Starts the same command in the background and tells which run it has begun; a command that ends before that is told
/// with all that it said.
pub fn start(global: &Global, ui: &Ui) -> Result<u8, Failure> {
    let project = textum_core::project::workspace::Project::open_to_write(&here(global), variables())?;
    let folder = project.workspace.state().join(FOLDER);
    drop(project);
    fsio::create_folder(&folder)?;
    sweep(&folder);
    let mark = folder.join(format!("{}-{:08x}", textum_base::clock::now().strftime("%Y%m%d-%H%M%S"), rand_of_now()));
    let log = mark.with_extension("log");
    let output = fsio::append(&log)?;
    let also = output.try_clone().map_err(fsio::IoError::of("open", &log))?;
    let program = std::env::current_exe().map_err(fsio::IoError::of("find", Path::new("this program")))?;
    let words = std::env::args_os().skip(1).filter(|word| word != "--detach");
    let mut command = Command::new(&program);
    command.args(words).arg("--in-background").arg(&mark);
    command.stdin(Stdio::null()).stdout(output).stderr(also);
    let mut child = command.spawn().map_err(fsio::IoError::of("start", &program))?;
    loop {
        let begun = std::fs::read_to_string(&mark).unwrap_or_default();
        if !begun.is_empty() {
            fsio::remove_any(&mark)?;
            tell(begun.trim(), child.id(), ui);
            return Ok(0);
        }
        if let Some(status) = child.try_wait().map_err(fsio::IoError::of("wait for", &program))? {
            let said = std::fs::read_to_string(&log).unwrap_or_default();
            fsio::remove_any(&log)?;
            ui.say(said.trim_end());
            let code = status.code().and_then(|code| u8::try_from(code).ok());
            let help = "run it without --detach to see what it does";
            return code.ok_or_else(|| Failure::new(DAMAGE, format!("the process in the background ended by {status}"), help));
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn tell(begun: &str, process: u32, ui: &Ui) {
    match (ui.format, begun.starts_with("sweep-")) {
        (Format::Json, false) => ui.json(&serde_json::json!({"run": begun, "process": process})),
        (Format::Json, true) => ui.json(&serde_json::json!({"sweep": begun, "process": process})),
        (_, true) => ui.result(&format!("{begun} is at work in the background: textum runs --live")),
        (_, false) => {
            let short = begun.rsplit('-').next().unwrap_or_default();
            ui.result(&format!("{begun} is at work in the background: textum follow {short}, textum stop {short}"));
        }
    }
}

/// A number that two commands of the same second do not share.
fn rand_of_now() -> u32 {
    textum_base::clock::now().subsec_nanosecond().unsigned_abs() ^ std::process::id().rotate_left(16)
}

/// Removes what processes that were killed have left long ago.
fn sweep(folder: &Path) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let modified = entry.metadata().and_then(|m| m.modified()).ok().and_then(|m| jiff::Timestamp::try_from(m).ok());
        if modified.is_some_and(|m| textum_base::clock::now().as_second() - m.as_second() > OLD) {
            let _ = fsio::remove_any(&entry.path());
        }
    }
}

/// The process in the background, as long as it carries its run out.
pub struct InBackground {
    mark: Option<PathBuf>,
}

impl InBackground {
    /// Leaves the terminal's session, where this is the process in the background.
    pub fn enter(args: &BackgroundArgs) -> InBackground {
        if args.in_background.is_some() {
            // One that is the first of its session already has none to leave.
            let _ = rustix::process::setsid();
        }
        InBackground { mark: args.in_background.clone() }
    }

    /// Tells which run, or sweep, has begun.
    pub fn begun(&self, what: &str) {
        if let Some(mark) = &self.mark {
            // Who waits for it sees the end of this process otherwise.
            let _ = fsio::write_derived(mark, what.as_bytes());
        }
    }

    /// Passes events on, and tells which run has begun.
    pub fn hearing<'e>(&'e self, events: &'e dyn EventSink) -> Announcing<'e> {
        Announcing { background: self, events }
    }

    /// What was said is recorded with the run: it is not kept twice.
    pub fn recorded(&self) {
        if let Some(mark) = &self.mark {
            let _ = fsio::remove_any(&mark.with_extension("log"));
        }
    }
}

/// See [`InBackground::hearing`].
pub struct Announcing<'e> {
    background: &'e InBackground,
    events: &'e dyn EventSink,
}

impl EventSink for Announcing<'_> {
    fn event(&self, event: Event) {
        if let Event::Begun { run, .. } = &event {
            self.background.begun(run);
        }
        self.events.event(event);
    }
}
