//! What goes to a machine and comes from it: the files of jobs, what they print and say, and how they ended.

use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use textum_base::{ProjectPath, without_dots};

use super::engine::{Fault, Placed, Submission};
use super::job::Known;
use super::machine::{Reached, SshEngine, refused};
use super::script::{command_words, script};
use super::watched::{ORDER, SEEN_AWAY, watched};
use super::{far, program};
use crate::config::manifest::shell_word;
use crate::fsio::{self, IoError};
use crate::pipeline::executor::Job;
use crate::project::way::{PUT_WORD, Way};
use crate::record::receipt::Content;

/// So long a machine may take to fetch what a stage reads.
const FETCH: Duration = Duration::from_secs(24 * 3600);

/// So many jobs are sent at a time: a server lets ten sessions through one connection unless it is told otherwise.
const AT_A_TIME: usize = 4;

/// Whose turn it is to send.
pub(super) struct Turns {
    free: Mutex<usize>,
    news: Condvar,
}

impl Default for Turns {
    fn default() -> Turns {
        Turns { free: Mutex::new(AT_A_TIME), news: Condvar::new() }
    }
}

/// A turn; the next one comes when it goes.
pub(super) struct Turn<'t>(&'t Turns);

impl Turns {
    /// Waits for a turn.
    pub(super) fn take(&self) -> Turn<'_> {
        let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
        while *free == 0 {
            free = self.news.wait(free).unwrap_or_else(PoisonError::into_inner);
        }
        *free -= 1;
        Turn(self)
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        *self.0.free.lock().unwrap_or_else(PoisonError::into_inner) += 1;
        self.0.news.notify_one();
    }
}

/// Beside the log of a job: where it works there, and what is to be brought from there.
#[derive(Serialize, Deserialize)]
pub(super) struct There {
    /// Where its stage works here.
    pub(super) work: PathBuf,
    /// What it writes.
    pub(super) outputs: Vec<String>,
    /// The path of its checkpoints.
    pub(super) checkpoints: Option<String>,
    /// What stood in its log and its signals here when it was submitted.
    pub(super) before: (u64, u64),
}

impl SshEngine {
    /// This program there, for stages that speak by `textum emit`; none where it cannot be executed.
    pub(super) fn program_there(&self, reached: &Reached) -> Result<Option<String>, Fault> {
        if let Some(known) = reached.program.get() {
            return Ok(known.clone());
        }
        let (own, name) = program::own().map_err(refused)?;
        let path = format!("{}/programs/{name}", reached.folder);
        let word = shell_word(&path);
        let look = format!("mkdir -p {0}/programs; {word} --version 2>/dev/null || true", shell_word(&reached.folder));
        let is_there = |said: String| said.starts_with("textum ");
        if !is_there(reached.remote.ask_text(&look)?) {
            reached.remote.put_file(&own, &path)?;
            if !is_there(reached.remote.ask_text(&look)?) {
                return Ok(reached.program.get_or_init(|| None).clone());
            }
        }
        Ok(reached.program.get_or_init(|| Some(path)).clone())
    }

    /// Sends what a job reads by way of a depot; the paths that stand there then. The way is tried also for nothing.
    pub(super) fn put_by(
        &self,
        way: &Way,
        reached: &Reached,
        inputs: &[(String, Content)],
        (there, program): (&str, Option<&str>),
    ) -> Result<Vec<String>, Fault> {
        let (fetched, work) = (format!("{}/fetched", reached.folder), format!("{there}/work"));
        let (paths, order) = way.send(inputs, fetched.as_ref(), work.as_ref()).map_err(Fault::Refused)?;
        if paths.is_empty() && !inputs.is_empty() {
            return Ok(Vec::new());
        }
        let Some(program) = program else {
            let why = "what a stage reads comes from a depot by this program, which cannot be executed there";
            return Err(Fault::Refused(format!("{why}: leave `depot` out of the place, and it is sent")));
        };
        let words = [program, PUT_WORD].map(str::to_string);
        reached.remote.ask_words(&words, Some(&order), FETCH)?;
        Ok(paths)
    }

    /// Sends all that a job needs: what it reads, what it executes, and its script.
    pub(super) fn place(&self, reached: &Reached, one: &Submission) -> Result<Placed, Fault> {
        let _turn = self.turns.take();
        let Submission { job, name, folder } = one;
        let there = reached.of(name);
        let note = There {
            work: job.folder.clone(),
            outputs: job.outputs.clone(),
            checkpoints: job.checkpoints.clone(),
            before: (size_of(folder, "log"), size_of(folder, "signals")),
        };
        let note = serde_json::to_vec(&note).map_err(|e| Fault::Refused(e.to_string()))?;
        fsio::write_derived(&folder.join(format!("{name}.there")), &note).map_err(refused)?;
        let program = self.program_there(reached)?;
        let sent = match &self.way {
            Some(way) => self.put_by(way, reached, &job.inputs, (&there, program.as_deref()))?,
            None => Vec::new(),
        };
        reached.remote.send(&job.folder, &sent, &format!("{there}/work"))?;
        let (work, run) = (PathBuf::from(format!("{there}/work")), PathBuf::from(format!("{there}/run")));
        let files = tempfile::tempdir().map_err(|e| Fault::Refused(e.to_string()))?;
        let put = |what: &str, text: &[u8]| fsio::write_derived(&files.path().join(what), text).map_err(refused);
        let (before, first) = if self.queue.is_some() { (far::WITHOUT_QUEUE, far::ONCE) } else { ("", "") };
        let (command, order) = watched(one, &run, program.as_deref())?;
        if let Some(order) = order {
            put(ORDER, &order)?;
        }
        let command = far_command(job, &command_words(&command), (folder, &run), program.as_deref(), before);
        put(&format!("{name}.command"), command.as_bytes())?;
        let script = script(&work, &run, &run.join("log"), name, first);
        put(&format!("{name}.script"), script.as_bytes())?;
        fsio::set_executable(&files.path().join(format!("{name}.script")), true).map_err(refused)?;
        if let Ok(bytes) = std::fs::read(folder.join("params.json")) {
            put("params.json", &bytes)?;
        }
        for own in ["tmp", "home"] {
            fsio::create_folder(&files.path().join(own)).map_err(refused)?;
        }
        reached.remote.send(files.path(), &[], &format!("{there}/run"))?;
        Ok(Placed { name: name.clone(), needs: job.needs, folder: run, here: folder.clone(), script })
    }

    pub(super) fn submit_one(&self, reached: &Reached, one: &Submission) -> Result<String, Fault> {
        self.place(reached, one)?;
        let lease = self.decl.lease.map(|seconds| (seconds, self.decl.lapse.as_deref()));
        reached.remote.ask(&far::begin(&reached.folder, &one.name, lease))?;
        Ok(one.name.clone())
    }

    /// Takes in what a job has printed and said since it was looked at last.
    pub(super) fn take_in(&self, reached: &Reached, job: &Known, there: &There, log: &[u8], signals: &[u8]) -> Result<(), Fault> {
        let append = |name: &str, bytes: &[u8]| {
            let path = job.folder.join(name);
            let mut file = fsio::append(&path).map_err(refused)?;
            std::io::Write::write_all(&mut file, bytes).map_err(|e| refused(IoError::of("write", &path)(e)))
        };
        if !log.is_empty() {
            append("log", log)?;
        }
        if !signals.is_empty() {
            let speaks_of_one = memchr::memmem::find(signals, b"\"checkpoint\"").is_some();
            if let Some(path) = there.checkpoints.as_ref().filter(|_| speaks_of_one) {
                // It stands here before anybody hears of it.
                reached.remote.bring(&format!("{}/work", reached.of(&job.name)), std::slice::from_ref(path), &there.work)?;
            }
            append("signals", signals)?;
        }
        if !(log.is_empty() && signals.is_empty()) {
            self.news.store(true, Ordering::SeqCst);
        }
        Ok(())
    }

    /// Brings what a job that has ended has left, at last how it ended; then nothing of it is needed there.
    pub(super) fn bring(&self, reached: &Reached, job: &Known, there: &There) -> Result<(), Fault> {
        if job.left().is_some() {
            return Ok(());
        }
        let folder = reached.of(&job.name);
        reached.remote.bring(&format!("{folder}/work"), &there.outputs, &there.work)?;
        self.bring_ends(reached, job)?;
        // What is left there for want of an answer is swept by whoever comes next.
        let _ = reached.remote.ask(&format!("rm -rf {}", shell_word(&folder)));
        Ok(())
    }

    /// Brings what tells of a job: where it was at work, what its queue said of it, at last how it ended.
    pub(super) fn bring_ends(&self, reached: &Reached, job: &Known) -> Result<(), Fault> {
        let ends = ["queued", "cluster.log", "begun", "observed", "end"].map(|what| format!("{}.{what}", job.name));
        let part = fsio::part_folder(&job.folder).map_err(refused)?;
        reached.remote.bring(&format!("{}/run", reached.of(&job.name)), &ends, part.path())?;
        for name in ends {
            let from = part.path().join(&name);
            // A link could lead to any file of this machine.
            if std::fs::symlink_metadata(&from).is_ok_and(|m| m.is_file()) {
                let to = if name.ends_with(".observed") { SEEN_AWAY } else { &name };
                fsio::rename(&from, &job.folder.join(to)).map_err(refused)?;
            }
        }
        Ok(())
    }
}

pub(super) fn size_of(folder: &Path, name: &str) -> u64 {
    std::fs::metadata(folder.join(name)).map_or(0, |m| m.len())
}

/// What was answered to a job that waits for its checkpoints to be stored: file, name and answer.
pub(super) fn answers_to(job: &Known) -> Vec<(PathBuf, String, String)> {
    let entries = std::fs::read_dir(job.folder.join("answers")).into_iter().flatten().flatten();
    let read = |path: PathBuf| {
        let name = path.file_name()?.to_str()?.to_string();
        Some((path.clone(), name, std::fs::read_to_string(&path).ok()?))
    };
    entries.filter_map(|e| read(e.path())).filter(|(_, name, _)| name.bytes().all(|b| b.is_ascii_alphanumeric())).collect()
}

/// What stands beside the log of a job, as far as it can be believed: nothing is brought but below the project's folder.
pub(super) fn there_of(job: &Known, state: Option<&Path>) -> Option<There> {
    let path = job.folder.join(format!("{}.there", job.name));
    let there: There = serde_json::from_slice(&std::fs::read(path).ok()?).ok()?;
    let project = state.and_then(Path::parent);
    let is_below = without_dots(&there.work) == there.work && project.is_none_or(|project| there.work.starts_with(project));
    let is_path = |path: &String| ProjectPath::new(path).is_ok();
    (is_below && there.outputs.iter().chain(&there.checkpoints).all(is_path)).then_some(there)
}

/// The command with what the stage declares of its environment, in that of the machine; paths that lie in the folder of its
/// log are those there. `before` stands before all that.
fn far_command(job: &Job, command: &str, (here, there): (&Path, &Path), program: Option<&str>, before: &str) -> String {
    let mut words = String::new();
    for (name, value) in &job.variables {
        let value = match (name.as_str(), Path::new(value).strip_prefix(here)) {
            ("TEXTUM_PROGRAM", _) => match program {
                Some(program) => program.to_string(),
                None => continue,
            },
            (_, Ok(below)) => there.join(below).display().to_string(),
            (own, _) if own.starts_with("TEXTUM_") || job.declared.contains(name) => value.clone(),
            _ => continue,
        };
        words.push_str(&format!(" {}", shell_word(&format!("{name}={value}"))));
    }
    format!("{before}exec env{words} \"$@\" {command}\n")
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods)]

    use std::sync::atomic::AtomicUsize;

    use super::*;
    use crate::config::manifest::Needs;
    use crate::pipeline::executor::JobCommand;

    #[test]
    fn only_so_many_send_at_a_time_and_all_have_their_turn() {
        let (turns, now, most, all) = (Turns::default(), AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            for _ in 0..30 {
                scope.spawn(|| {
                    let _turn = turns.take();
                    most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                    std::thread::yield_now();
                    now.fetch_sub(1, Ordering::SeqCst);
                    all.fetch_add(1, Ordering::SeqCst);
                });
            }
        });
        assert!((1..=AT_A_TIME).contains(&most.load(Ordering::SeqCst)));
        assert_eq!((all.load(Ordering::SeqCst), *turns.free.lock().unwrap()), (30, AT_A_TIME));
    }

    /// What a lost Textum left says where files of another machine are put: never outside of the project.
    #[test]
    fn a_note_that_leads_out_of_the_project_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let state = folder.path().join(".textum");
        let known = Known::new("7", "textum-0000000000000000", folder.path().to_path_buf());
        let noted = |work: &str, output: &str, checkpoints: Option<&str>| {
            let note = serde_json::json!({"work": work, "outputs": [output], "checkpoints": checkpoints, "before": [0, 0]});
            fsio::write_derived(&known.file("there"), note.to_string().as_bytes()).unwrap();
            there_of(&known, Some(&state)).is_some()
        };
        let inside = state.join("sandboxes/x").display().to_string();
        assert!(noted(&inside, "o", Some("build/c")));
        for work in ["/", "/etc", "sandboxes", "", &format!("{inside}/../../../x"), &format!("{}x", folder.path().display())] {
            assert!(!noted(work, "o", None), "{work}");
        }
        for output in ["../o", "/o", "a/../../o", ""] {
            assert!(!noted(&inside, output, None) && !noted(&inside, "o", Some(output)), "{output}");
        }
    }

    /// What is a path of this machine is one there, what nobody declared stays here, and quotes reach it as they are.
    #[test]
    fn a_command_has_there_what_it_declares() {
        let variables = [
            ("PATH", "/opt/loom/bin"),
            ("YARN", "it's \"wool\" & $silk"),
            ("SECRET", "x"),
            ("TEXTUM_STAGE", "fit"),
            ("TEXTUM_SIGNALS", "/here/run/signals"),
            ("TEXTUM_PROGRAM", "/here/bin/textum"),
        ];
        let job = |command| Job {
            command,
            folder: PathBuf::from("/here/work"),
            variables: variables.map(|(name, value)| (name.to_string(), value.to_string())).to_vec(),
            log: PathBuf::from("/here/run/log"),
            needs: Needs { cpus: 1, memory: 0, gpus: 0, time: None },
            place: None,
            declared: vec!["YARN".into()],
            inputs: Vec::new(),
            outputs: Vec::new(),
            checkpoints: None,
            away: None,
        };
        let text = "printf '%s|' \"$YARN\" \"$TEXTUM_STAGE\" \"$TEXTUM_SIGNALS\" \"${TEXTUM_PROGRAM-none}\" \"${SECRET-none}\" \"${SLURM_JOB_ID-none}\"";
        let ran = |program: Option<&str>| {
            let command = job(JobCommand::Shell(text.into()));
            let (here, there) = (Path::new("/here/run"), Path::new("/there/run"));
            let text = far_command(&command, &command_words(&command.command), (here, there), program, far::WITHOUT_QUEUE);
            let mut shell = std::process::Command::new("/bin/sh");
            shell.args(["-c", &text]).env_clear().envs([("SLURM_JOB_ID", "7"), ("PATH", "/usr/bin:/bin")]);
            String::from_utf8(shell.output().unwrap().stdout).unwrap()
        };
        assert_eq!(ran(Some("/there/textum")), "it's \"wool\" & $silk|fit|/there/run/signals|/there/textum|none|none|");
        assert_eq!(ran(None), "it's \"wool\" & $silk|fit|/there/run/signals|none|none|none|");
    }
}
