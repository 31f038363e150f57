//! The command that predicts: rows go in as CSV, predictions come out as CSV.

use std::io::{Read, Write};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use super::PublishError;
use crate::fsio::IoError;

/// What a command that predicts may answer at most, in bytes.
const MOST: u64 = 64 << 20;
/// So much of what it says on standard error is kept, in bytes.
const SAID: u64 = 64 << 10;

/// So long whoever left the command's group may hold its output.
const GRACE: Duration = Duration::from_secs(2);

/// What came of it.
#[derive(Clone, Debug)]
pub struct Predicted {
    /// What it answered.
    pub answers: Vec<u8>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// A command and all that it starts, which ends with this.
struct Group {
    child: Child,
    ended: bool,
}

impl Group {
    /// Ends it. Once: its number may be another's afterwards.
    fn end(&mut self) {
        if std::mem::replace(&mut self.ended, true) {
            return;
        }
        if let Some(group) = rustix::process::Pid::from_raw(self.child.id().cast_signed()) {
            let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
        }
        let _ = self.child.wait();
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        self.end();
    }
}

/// All that is printed, once whoever can print has ended.
fn all_of(from: Option<impl Read + Send + 'static>, most: u64) -> mpsc::Receiver<Vec<u8>> {
    let (send, receive) = mpsc::channel();
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        if let Some(mut from) = from {
            let _ = from.by_ref().take(most + 1).read_to_end(&mut bytes);
            // It must not wait for who reads.
            let _ = std::io::copy(&mut from, &mut std::io::sink());
        }
        let _ = send.send(bytes);
    });
    receive
}

/// Gives rows to the command, in the folder with the model's files, and takes its answers. One that takes longer than `most`
/// is ended.
pub fn predict(
    command: &str,
    folder: &Path,
    variables: &[(String, String)],
    rows: &[u8],
    most: Duration,
) -> Result<Predicted, PublishError> {
    let began = Instant::now();
    let mut shell = Command::new("/bin/sh");
    shell.arg("-c").arg(command).current_dir(folder).env_clear().envs(variables.iter().map(|(n, v)| (n, v)));
    shell.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).process_group(0);
    let child = shell.spawn().map_err(IoError::of("start the command that predicts in", folder))?;
    let mut group = Group { child, ended: false };
    let (answers, said) = (all_of(group.child.stdout.take(), MOST), all_of(group.child.stderr.take(), SAID));
    let (input, rows) = (group.child.stdin.take(), rows.to_vec());
    // One that does not read all of its rows ends as it likes.
    std::thread::spawn(move || input.map(|mut input| input.write_all(&rows)));
    let mut pause = Duration::from_millis(2);
    let status = loop {
        match group.child.try_wait().map_err(IoError::of("wait for the command that predicts in", folder))? {
            Some(status) => break status,
            None if began.elapsed() >= most => {
                group.end();
                let what = format!("`{command}` was ended: it had not answered within {} s", most.as_secs());
                return Err(PublishError::refused(what, "let it end once its rows have ended, or allow it more: `time = \"5m\"`"));
            }
            None => std::thread::sleep(pause),
        }
        pause = (pause * 2).min(Duration::from_millis(50));
    };
    let seconds = began.elapsed().as_secs_f64();
    // What it left at work holds its ends open.
    group.end();
    let said = said.recv_timeout(GRACE).unwrap_or_default();
    let Ok(answers) = answers.recv_timeout(GRACE) else {
        let what = format!("`{command}` left something at work that still holds its output");
        return Err(PublishError::refused(what, "let it start nothing that goes on after it has ended"));
    };
    if !status.success() {
        let last: Vec<String> = String::from_utf8_lossy(&said).lines().rev().take(3).map(str::to_string).collect();
        let last = last.into_iter().rev().collect::<Vec<_>>().join(" / ");
        let what = format!("`{command}` did not predict ({status}){}{last}", if last.is_empty() { "" } else { ": " });
        return Err(PublishError::refused(what, "try it by hand: it reads rows as CSV and prints predictions as CSV"));
    }
    if answers.len() as u64 > MOST {
        let what = format!("`{command}` answered more than {MOST} bytes");
        return Err(PublishError::refused(what, "let it print a row of predictions for each row that comes in"));
    }
    Ok(Predicted { answers, seconds })
}
