//! A machine that is reached by SSH: commands there, and files there and back. Through the system's own `ssh` and `tar`.
//!
//! Host keys are always checked. `ssh` ends with 255 when the way to the machine is lost, `man ssh`, "exit status".

use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use super::engine::Fault;
use crate::config::manifest::shell_word;

/// So long one exchange of files may take.
const TRANSFER: Duration = Duration::from_secs(24 * 3600);
/// So long an answer is waited for.
const ANSWER: Duration = Duration::from_secs(60);
/// What ssh ends with when the machine could not be reached, or the way to it broke.
const UNREACHED: i32 = 255;
/// At most so many bytes of an answer are kept.
const MOST: u64 = 256 << 20;

/// A machine that can be asked.
#[derive(Clone, Debug)]
pub struct Remote {
    /// As ssh takes it.
    pub address: String,
    /// Options of the manifest, words of ssh.
    pub options: Vec<String>,
    /// The keys that it must have, where they are known from renting it.
    pub known_hosts: Option<PathBuf>,
    /// A folder for the socket by which one connection serves many commands.
    pub sockets: Option<PathBuf>,
}

/// What an error of ssh means.
fn fault(status: Option<i32>, said: &str) -> Fault {
    let said: Vec<&str> = said.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('@')).collect();
    let whole = said.join("; ");
    if whole.contains("HOST IDENTIFICATION HAS CHANGED") || whole.contains("Host key verification failed") {
        let what = "its host key is not the one that is known of it: somebody may stand between, or it was set up anew";
        let last: Vec<&str> = said.iter().rev().take(2).rev().copied().collect();
        return Fault::Refused(format!("{what} ({})", last.join("; ")));
    }
    if whole.contains("Permission denied")
        || whole.contains("Could not resolve hostname")
        || whole.contains("Bad configuration option")
    {
        return Fault::Refused(whole);
    }
    let shown: String = whole.chars().take(500).collect();
    match status {
        Some(UNREACHED) | None => Fault::Silent(if shown.is_empty() { "the way to it is lost".into() } else { shown }),
        Some(code) if shown.is_empty() => Fault::Refused(format!("what was asked of it ended with {code}")),
        Some(_) => Fault::Refused(shown),
    }
}

impl Remote {
    fn command(&self) -> Command {
        let mut command = Command::new("ssh");
        // Of an option that is given twice the first counts: those of the manifest stand first.
        command.args(&self.options);
        command.args(["-oBatchMode=yes", "-oConnectTimeout=10", "-oServerAliveInterval=5", "-oServerAliveCountMax=3"]);
        command.args(["-oStrictHostKeyChecking=yes", "-oLogLevel=ERROR"]);
        if let Some(file) = &self.known_hosts {
            command.arg(format!("-oUserKnownHostsFile={}", file.display()));
        }
        if let Some(folder) = &self.sockets {
            command.args(["-oControlMaster=auto", "-oControlPersist=30"]);
            command.arg(format!("-oControlPath={}/%C", folder.display()));
        }
        command.arg("--").arg(&self.address);
        command
    }

    /// What a shell there prints that is given this text.
    pub fn ask(&self, text: &str) -> Result<Vec<u8>, Fault> {
        self.exchange("/bin/sh -s", Some(text.as_bytes()), ANSWER)
    }

    /// The same as text.
    pub fn ask_text(&self, text: &str) -> Result<String, Fault> {
        self.ask(text).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// What a command of these words prints there.
    pub fn ask_words(&self, words: &[String], input: Option<&[u8]>, most: Duration) -> Result<String, Fault> {
        let order = words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" ");
        self.exchange(&order, input, most).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// Puts a file there, under another name until it is whole.
    pub fn put_file(&self, from: &Path, to: &str) -> Result<(), Fault> {
        let unread = |e: std::io::Error| Fault::Refused(format!("{}: {e}", from.display()));
        let file = std::fs::File::open(from).map_err(unread)?;
        // Several may put it there at once.
        let text = format!("cat > {0}.part-$$ && chmod 700 {0}.part-$$ && mv {0}.part-$$ {0}", shell_word(to));
        let mut command = self.command();
        command.arg(format!("/bin/sh -c {}", shell_word(&text))).stdin(file);
        let child = started(command)?;
        finished(child, None, TRANSFER).map(drop)
    }

    fn exchange(&self, order: &str, input: Option<&[u8]>, most: Duration) -> Result<Vec<u8>, Fault> {
        let mut command = self.command();
        command.arg(order).stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
        finished(started(command)?, input, most)
    }

    /// Sends a folder with all that it holds but these paths.
    pub fn send(&self, from: &Path, without: &[String], to: &str) -> Result<(), Fault> {
        let mut pack = Command::new("tar");
        pack.arg("-C").arg(from).args(["--anchored", "--no-wildcards"]);
        pack.args(without.iter().map(|path| format!("--exclude=./{path}"))).args(["-cf", "-", "."]).stdin(Stdio::null());
        let text = format!("mkdir -p {0} && tar -C {0} -xf -", shell_word(to));
        let mut unpack = self.command();
        unpack.arg(format!("/bin/sh -c {}", shell_word(&text)));
        piped(pack, unpack)
    }

    /// Brings those of some paths below a folder there that stand there; in their order.
    pub fn bring(&self, from: &str, paths: &[String], to: &Path) -> Result<(), Fault> {
        let words: Vec<String> = paths.iter().map(|p| shell_word(&format!("./{p}"))).collect();
        // tar is given what is there: what a stage did not write, or somebody has removed, is told of elsewhere.
        let text = format!(
            "cd {} 2> /dev/null || exec tar -cf - -T /dev/null; for p in {}; do [ -e \"$p\" ] || [ -h \"$p\" ] || continue; set -- \"$@\" \"$p\"; done; \
             [ $# -eq 0 ] && exec tar -cf - -T /dev/null; exec tar -cf - -- \"$@\"",
            shell_word(from),
            words.join(" ")
        );
        let mut pack = self.command();
        pack.arg(format!("/bin/sh -c {}", shell_word(&text))).stdin(Stdio::null());
        let mut unpack = Command::new("tar");
        unpack.arg("-C").arg(to).args(["-xf", "-", "--no-same-owner"]);
        piped(pack, unpack)
    }

    /// Ends the connection that serves many commands.
    pub fn close(&self) {
        let Some(folder) = &self.sockets else { return };
        let mut command = Command::new("ssh");
        command.arg(format!("-oControlPath={}/%C", folder.display()));
        command.args(&self.options).args(["-O", "exit", "--"]).arg(&self.address);
        // It ends by itself a little later otherwise.
        let _ = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status();
    }
}

fn started(mut command: Command) -> Result<Child, Fault> {
    let program = command.get_program().to_string_lossy().into_owned();
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    command.spawn().map_err(|e| Fault::Refused(format!("{program} cannot be started: {e}")))
}

/// What a process printed, once it has ended; one that takes longer is ended.
fn finished(mut child: Child, input: Option<&[u8]>, most: Duration) -> Result<Vec<u8>, Fault> {
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let pid = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
    let (done, over) = std::sync::mpsc::channel::<()>();
    std::thread::scope(|scope| {
        if let (Some(text), Some(mut stdin)) = (input, stdin) {
            scope.spawn(move || drop(stdin.write_all(text)));
        }
        let said = scope.spawn(move || read_all(stderr, 1 << 16));
        let watch = scope.spawn(move || {
            let late = over.recv_timeout(most) == Err(std::sync::mpsc::RecvTimeoutError::Timeout);
            if let Some(pid) = pid.filter(|_| late) {
                let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
            }
            late
        });
        let answer = read_all(stdout, MOST);
        let status = child.wait().map_err(|e| Fault::Silent(e.to_string()));
        drop(done);
        let late = watch.join().unwrap_or(false);
        let said = said.join().unwrap_or_default();
        if late {
            return Err(Fault::Silent(format!("it did not answer for {} s", most.as_secs())));
        }
        match status? {
            status if status.success() => Ok(answer),
            status => Err(fault(status.code(), &String::from_utf8_lossy(&said))),
        }
    })
}

fn read_all(from: Option<impl Read>, most: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    if let Some(mut from) = from {
        let _ = from.by_ref().take(most).read_to_end(&mut bytes);
        // Whoever writes more must be able to end.
        let _ = std::io::copy(&mut from, &mut std::io::sink());
    }
    bytes
}

/// One process's output as another one's input; both must succeed.
fn piped(mut from: Command, mut to: Command) -> Result<(), Fault> {
    let unstarted = |command: &Command, e: std::io::Error| {
        Fault::Refused(format!("{} cannot be started: {e}", command.get_program().to_string_lossy()))
    };
    from.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut giving = from.spawn().map_err(|e| unstarted(&from, e))?;
    let Some(between) = giving.stdout.take() else { return Err(Fault::Refused("a pipe could not be made".into())) };
    to.stdin(between).stdout(Stdio::null()).stderr(Stdio::piped());
    let taking = match to.spawn() {
        Ok(child) => child,
        Err(e) => {
            let _ = giving.kill();
            let _ = giving.wait();
            return Err(unstarted(&to, e));
        }
    };
    // The pipe's other end must be nobody's but the second one's.
    drop(to);
    let (given, taken) = std::thread::scope(|scope| {
        let taken = scope.spawn(move || finished(taking, None, TRANSFER));
        let given = finished(giving, None, TRANSFER);
        (given, taken.join().unwrap_or_else(|_| Err(Fault::Silent("it was not seen to end".into()))))
    });
    // Where the way was lost that is what counts, whatever the other end says of it.
    match (given, taken) {
        (Err(lost @ Fault::Silent(_)), _) | (_, Err(lost @ Fault::Silent(_))) => Err(lost),
        (given, taken) => given.and(taken).map(drop),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_way_that_is_lost_is_no_refusal() {
        let silent = |said: &str| matches!(fault(Some(UNREACHED), said), Fault::Silent(_));
        assert!(silent("ssh: connect to host box port 22: Connection refused"));
        assert!(silent("client_loop: send disconnect: Broken pipe") && silent(""));
        assert!(!silent("loom@box: Permission denied (publickey).") && !silent("Host key verification failed."));
        assert!(matches!(fault(Some(1), "tar: nothing"), Fault::Refused(_)));
        let changed =
            fault(Some(255), "@@@@@@\n@ WARNING: REMOTE HOST IDENTIFICATION HAS CHANGED! @\nHost key verification failed.");
        assert!(changed.words().contains("host key is not the one that is known"), "{changed:?}");
    }
}
