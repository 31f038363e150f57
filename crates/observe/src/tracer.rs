//! The tracer: starts the command, looks at its calls, and tells how it ended.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::process::{Command, ExitCode};

use nix::libc;
use nix::sys::ptrace::{self, Options};
use nix::sys::signal::{SigSet, Signal, kill, raise};
use nix::unistd::Pid;
use textum_base::fsio;

use super::calls::Call;
use super::notes::{Notes, Then};
use super::record::{End, Observation};
use super::{CHILD, FAILED, filter, names, seal};

/// Exit status of a tracer that could not do its work.
const OWN_FAULT: u8 = 125;

/// Runs a command, writes down what it was seen to do, and ends as it ended.
pub fn trace(record: &Path, seal: &Path, command: &[OsString]) -> ExitCode {
    match run(record, seal, command) {
        Ok(end) => end_as(end),
        Err(why) => fail(&why),
    }
}

/// Ends this process as another did; with a signal that does not end a process, by status.
pub fn end_as(end: End) -> ExitCode {
    match end {
        End::Code(code) => ExitCode::from(code as u8),
        End::Signal(number) => {
            if let Ok(signal) = Signal::try_from(number) {
                let _ = SigSet::all().thread_unblock();
                let _ = raise(signal);
            }
            ExitCode::from(128u8.wrapping_add(number as u8))
        }
    }
}

#[allow(clippy::print_stderr)]
fn fail(why: &str) -> ExitCode {
    eprintln!("{FAILED}{why}");
    ExitCode::from(OWN_FAULT)
}

/// Runs a command, writes down what it was seen to do, and tells how it ended.
pub fn run(record: &Path, seal: &Path, command: &[OsString]) -> Result<End, String> {
    // What is meant for the command reaches it by its group; the tracer waits until it has ended.
    SigSet::all().thread_block().map_err(|e| e.to_string())?;
    let _ = nix::sys::prctl::set_child_subreaper(true);
    let program = std::env::current_exe().map_err(|e| e.to_string())?;
    let child = Command::new(program).arg(CHILD).arg(record).arg(seal).args(command).spawn().map_err(|e| e.to_string())?;
    let root = Pid::from_raw(child.id() as i32);
    let seal = match seal.as_os_str().is_empty() {
        true => None,
        false => Some(seal::read(seal)?),
    };
    let mut tracer = Tracer { root, notes: Notes::new(seal.as_ref()), is_sealed: seal.is_some(), end: None };
    if let Some(end) = tracer.begin()? {
        // It wrote down itself why it is not observed.
        return Ok(end);
    }
    tracer.follow()?;
    let end = tracer.end.ok_or("how the command ended cannot be told")?;
    let observation = Observation { end: Some(end), ..tracer.notes.observation() };
    let text = serde_json::to_vec(&observation).map_err(|e| e.to_string())?;
    if let Some(folder) = record.parent().filter(|folder| !folder.is_dir()) {
        // Whoever removed it does not find it again because of this.
        return Err(format!("the folder {} was removed meanwhile", folder.display()));
    }
    fsio::write_derived(record, &text).map_err(|e| format!("{} ({})", e, names::to_text(record.as_os_str().as_bytes())))?;
    Ok(end)
}

struct Tracer {
    root: Pid,
    notes: Notes,
    is_sealed: bool,
    end: Option<End>,
}

fn options() -> Options {
    Options::PTRACE_O_TRACESECCOMP
        | Options::PTRACE_O_TRACEFORK
        | Options::PTRACE_O_TRACEVFORK
        | Options::PTRACE_O_TRACECLONE
        | Options::PTRACE_O_TRACEEXEC
        | Options::PTRACE_O_TRACESYSGOOD
        | Options::PTRACE_O_EXITKILL
}

/// What `waitpid(2)` tells of a thread. The numbers of signals stay numbers: real-time ones have no name.
enum Told {
    Exited(Pid, i32),
    Killed(Pid, i32),
    Event(Pid, i32),
    Stopped(Pid, i32),
    Other,
}

/// Waits for whatever happens next, to one thread or to any; `None` when there is nobody left.
fn wait(pid: Option<Pid>) -> Result<Option<Told>, String> {
    let options = rustix::process::WaitOptions::from_bits_retain(libc::__WALL as u32);
    loop {
        // Of its `waitpid`, nobody in particular would be the own process group only.
        let told = match pid.and_then(|p| rustix::process::Pid::from_raw(p.as_raw())) {
            Some(pid) => rustix::process::waitpid(Some(pid), options),
            None => rustix::process::wait(options),
        };
        match told {
            Ok(None) | Err(rustix::io::Errno::INTR) => {}
            Err(rustix::io::Errno::CHILD) => return Ok(None),
            Err(e) => return Err(e.to_string()),
            Ok(Some((pid, status))) => {
                let pid = Pid::from_raw(pid.as_raw_nonzero().get());
                let event = status.as_raw() >> 16;
                return Ok(Some(match (status.exit_status(), status.terminating_signal(), status.stopping_signal()) {
                    (Some(code), ..) => Told::Exited(pid, code),
                    (_, Some(signal), _) => Told::Killed(pid, signal),
                    (.., Some(_)) if event != 0 => Told::Event(pid, event),
                    (.., Some(signal)) => Told::Stopped(pid, signal),
                    _ => Told::Other,
                }));
            }
        }
    }
}

impl Tracer {
    /// Waits for the command to stop for the first time. How it ended, if it does not let itself be traced.
    fn begin(&mut self) -> Result<Option<End>, String> {
        loop {
            match wait(Some(self.root))? {
                Some(Told::Stopped(pid, libc::SIGSTOP)) => {
                    ptrace::setoptions(pid, options()).map_err(|e| e.to_string())?;
                    self.notes.is_alive(pid);
                    ptrace::cont(pid, None).map_err(|e| e.to_string())?;
                    return Ok(None);
                }
                Some(Told::Exited(_, code)) => return Ok(Some(End::Code(code))),
                Some(Told::Killed(_, signal)) => return Ok(Some(End::Signal(signal))),
                Some(_) => {}
                None => return Err("the command was lost".into()),
            }
        }
    }

    /// Looks at everything until nothing of the command is left.
    fn follow(&mut self) -> Result<(), String> {
        while let Some(status) = wait(None)? {
            match status {
                Told::Exited(pid, code) => self.has_ended(pid, End::Code(code)),
                Told::Killed(pid, signal) => self.has_ended(pid, End::Signal(signal)),
                Told::Event(pid, event) => self.event(pid, event),
                Told::Stopped(pid, signal) => self.stopped(pid, signal),
                Told::Other => {}
            }
        }
        Ok(())
    }

    fn has_ended(&mut self, pid: Pid, end: End) {
        self.notes.ended(pid, self.end.is_some() && end == End::Signal(Signal::SIGKILL as i32));
        if pid == self.root {
            self.end = Some(end);
            // What the command has left running ends with it.
            for pid in self.notes.alive() {
                let _ = kill(pid, Signal::SIGKILL);
            }
        }
    }

    fn event(&mut self, pid: Pid, event: i32) {
        self.notes.is_alive(pid);
        let told = || ptrace::getevent(pid).unwrap_or_default();
        match event {
            libc::PTRACE_EVENT_SECCOMP if told() == filter::FOREIGN => {
                self.notes.is_not_whole("calls of a 32-bit program");
            }
            libc::PTRACE_EVENT_SECCOMP => {
                if let Some(call) = Call::of(pid)
                    && self.notes.take(&call) == Then::Await
                {
                    // It stops again when the call has returned.
                    let _ = ptrace::syscall(pid, None);
                    return;
                }
            }
            libc::PTRACE_EVENT_EXEC => {
                // The command itself is there now, in what its seal has given it.
                if self.is_sealed && pid == self.root && seal::is_isolated(pid) {
                    self.notes.is_isolated();
                }
                self.notes.became(pid);
            }
            libc::PTRACE_EVENT_FORK | libc::PTRACE_EVENT_VFORK | libc::PTRACE_EVENT_CLONE => {
                let child = Pid::from_raw(told() as i32);
                self.notes.began(pid, child, event == libc::PTRACE_EVENT_CLONE);
            }
            _ => {}
        }
        self.go_on(pid, None);
    }

    fn stopped(&mut self, pid: Pid, signal: i32) {
        const RETURNED: i32 = libc::SIGTRAP | 0x80;
        let is_new = self.notes.is_alive(pid);
        if self.end.is_some() {
            // Started while all was being ended.
            let _ = kill(pid, Signal::SIGKILL);
        }
        if signal == RETURNED {
            if let Some(answer) = Call::answer(pid) {
                self.notes.returned(pid, answer);
            }
            return self.go_on(pid, None);
        }
        let Ok(signal) = Signal::try_from(signal) else {
            // It could be handed on only by its name, which it does not have.
            self.notes.is_unseen(&format!("the real-time signal {signal}, which did not reach its process"));
            return self.go_on(pid, None);
        };
        // A new thread begins with a stop of the tracer's own making. A stop of the whole group cannot be held: the
        // processes of a stage are not stopped and continued.
        let is_group_stop = matches!(signal, Signal::SIGSTOP | Signal::SIGTSTP | Signal::SIGTTIN | Signal::SIGTTOU)
            && ptrace::getsiginfo(pid).is_err();
        let swallow = (is_new && signal == Signal::SIGSTOP) || is_group_stop;
        self.go_on(pid, Some(signal).filter(|_| !swallow));
    }

    /// One that has been killed meanwhile is not there to go on.
    fn go_on(&self, pid: Pid, signal: Option<Signal>) {
        let _ = match self.notes.awaits(pid) {
            true => ptrace::syscall(pid, signal),
            false => ptrace::cont(pid, signal),
        };
    }
}
