//! This machine as a place: each command in a process group of its own, so that all of it can be ended.

use std::fs::OpenOptions;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};

use super::place::{Job, Place, Running};
use super::processes::{self, Mark};
use crate::fingerprint::{host, system};
use crate::fsio::IoError;
use crate::manifest::Command;
use crate::receipt::{Exit, PlaceRecord};

/// This machine.
pub struct LocalPlace;

struct LocalRunning {
    child: Mutex<Child>,
    group: Option<Pid>,
    ended: AtomicBool,
    name: std::path::PathBuf,
    mark: Option<Mark>,
}

impl Place for LocalPlace {
    fn start(&self, job: &Job) -> Result<Arc<dyn Running>, IoError> {
        let open = || OpenOptions::new().create(true).append(true).open(&job.log).map_err(IoError::of("create", &job.log));
        let mut command = match &job.command {
            Command::Shell(text) => {
                let mut shell = std::process::Command::new("/bin/sh");
                shell.arg("-c").arg(text);
                shell
            }
            Command::Argv(words) => {
                let mut command = std::process::Command::new(words.first().map_or("", String::as_str));
                command.args(&words[1.min(words.len())..]);
                command
            }
            Command::Evaluate(_) => {
                let source = std::io::Error::new(std::io::ErrorKind::Unsupported, "Textum does it itself");
                return Err(IoError::of("start", std::path::Path::new("an evaluation"))(source));
            }
        };
        let program = std::path::PathBuf::from(command.get_program());
        command
            .current_dir(&job.folder)
            .env_clear()
            .envs(job.variables.iter().map(|(k, v)| (k, v)))
            .stdin(Stdio::null())
            .stdout(open()?)
            .stderr(open()?)
            .process_group(0);
        processes::adopt_orphans();
        let child = command.spawn().map_err(IoError::of("start the command", &program))?;
        let group = i32::try_from(child.id()).ok().and_then(Pid::from_raw);
        group.into_iter().for_each(processes::lead);
        let mark = Mark::of(&job.variables);
        Ok(Arc::new(LocalRunning { child: Mutex::new(child), group, ended: AtomicBool::new(false), name: program, mark }))
    }

    fn record(&self) -> PlaceRecord {
        PlaceRecord { kind: "local".into(), host: host(), system: system() }
    }
}

impl LocalRunning {
    /// Signals the group while its leader has not been reaped, so that the number is surely still its own.
    fn signal(&self, signal: Signal) {
        let _child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
        if let (Some(group), false) = (self.group, self.ended.load(Ordering::SeqCst)) {
            // An error means that there is nobody left to hear it.
            let _ = kill_process_group(group, signal);
        }
    }
}

impl Running for LocalRunning {
    fn wait(&self) -> Result<Exit, IoError> {
        // Waited for without reaping: what the command left running is ended while the group's number
        // cannot have gone to anybody else.
        if let Some(pid) = self.group {
            while let Err(e) = waitid(WaitId::Pid(pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT) {
                if e != rustix::io::Errno::INTR {
                    break;
                }
            }
        }
        self.signal(Signal::KILL);
        let mut child = self.child.lock().unwrap_or_else(PoisonError::into_inner);
        let status = child.wait().map_err(IoError::of("wait for", &self.name));
        self.ended.store(true, Ordering::SeqCst);
        self.group.into_iter().for_each(processes::follow_no_more);
        // What left the group, a daemon for example, ends with its stage.
        self.mark.iter().for_each(processes::end_strays);
        let status = status?;
        Ok(match status.code() {
            Some(code) => Exit::Code(code),
            None => Exit::Signal(status.signal().unwrap_or_default()),
        })
    }

    fn interrupt(&self) {
        self.signal(Signal::INT);
    }

    fn kill(&self) {
        self.signal(Signal::KILL);
        self.mark.iter().for_each(processes::end_strays);
    }

    fn memory(&self, limit: u64) -> u64 {
        match (self.group, self.ended.load(Ordering::SeqCst)) {
            (Some(leader), false) => processes::memory_of(leader, self.mark.as_ref(), limit),
            _ => 0,
        }
    }
}
