//! This machine as a place: each command in a process group of its own, so that all of it can be ended.

use std::fs::OpenOptions;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::process::{Child, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};

use super::executor::{Executor, Job, Running, TooMuchMemory};
use super::memory_group::MemoryGroup;
use super::processes::{self, Mark};
use crate::config::manifest::Command;
use crate::fsio::IoError;
use crate::project::fingerprint::{host, system};
use crate::record::receipt::{Exit, PlaceRecord};

/// This machine.
pub struct LocalExecutor;

struct LocalRunning {
    child: Mutex<Child>,
    group: Option<Pid>,
    ended: AtomicBool,
    name: std::path::PathBuf,
    mark: Option<Mark>,
    memory: u64,
    memory_group: Option<MemoryGroup>,
}

/// Joins the group whose door is the first word, then becomes the command. One that cannot be joined leaves the
/// command to be watched.
const JOIN: &str = r#"echo 0 2>/dev/null >"$0"; exec "$@""#;

impl Executor for LocalExecutor {
    fn start(&self, job: &Job) -> Result<Arc<dyn Running>, IoError> {
        let open = || OpenOptions::new().create(true).append(true).open(&job.log).map_err(IoError::of("create", &job.log));
        let shell = ["/bin/sh", "-c"].map(String::from);
        let words = match &job.command {
            Command::Shell(text) => [&shell[..], std::slice::from_ref(text)].concat(),
            Command::Argv(words) => words.clone(),
            Command::Evaluate(_) => {
                let source = std::io::Error::new(std::io::ErrorKind::Unsupported, "Textum does it itself");
                return Err(IoError::of("start", std::path::Path::new("an evaluation"))(source));
            }
        };
        let program = std::path::PathBuf::from(words.first().map_or("", String::as_str));
        let memory_group = if job.memory > 0 { MemoryGroup::make(job.memory) } else { None };
        let mut command = match &memory_group {
            Some(group) => {
                let mut command = std::process::Command::new(&shell[0]);
                command.arg(&shell[1]).arg(JOIN).arg(group.door()).args(&words);
                command
            }
            None => {
                let mut command = std::process::Command::new(&program);
                command.args(words.iter().skip(1));
                command
            }
        };
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
        let (child, ended) = (Mutex::new(child), AtomicBool::new(false));
        Ok(Arc::new(LocalRunning { child, group, ended, name: program, mark, memory: job.memory, memory_group }))
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

    fn too_much_memory(&self) -> Option<TooMuchMemory> {
        if self.memory_group.as_ref().is_some_and(MemoryGroup::has_overstepped) {
            return Some(TooMuchMemory::Refused);
        }
        if self.ended.load(Ordering::SeqCst) {
            return None;
        }
        let held = processes::memory_of(self.group?, self.mark.as_ref(), self.memory);
        (held > self.memory).then_some(TooMuchMemory::Held(held))
    }
}
