//! One job of an engine: its name, its files, and how it stands.

use std::ffi::OsString;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use super::engine::{Cause, Stand, Told};
use crate::pipeline::executor::{JobId, JobState, Why};
use crate::record::receipt::Exit;

/// So long what a job left is waited for after its end: folders that several machines share show files late.
const LATE: Duration = Duration::from_secs(10);

/// What is known of a job.
#[derive(Clone, Debug)]
pub struct Known {
    /// What the engine calls it.
    pub number: String,
    /// What it was submitted as; what it leaves is called so too.
    pub name: String,
    /// The folder of its log.
    pub folder: PathBuf,
    /// How it stands.
    pub state: JobState,
    /// What the engine says of it, in its words.
    pub engine: String,
    /// Why it has ended, where that was not its command's doing.
    pub why: Option<Why>,
    /// Since when its end is known without what it must have left.
    ended: Option<Instant>,
    /// Whether it was ended from here.
    pub cancelled: bool,
    /// Whether it was to be ended, and its place did not answer: nobody waits for it any more.
    pub is_left: bool,
}

/// Whether a name is one that was given here.
pub fn is_ours(name: &str) -> bool {
    name.strip_prefix("textum-").is_some_and(|rest| rest.len() == 16 && rest.bytes().all(|b| b.is_ascii_hexdigit()))
}

/// A name for a new job, or a group of them.
pub fn new_name() -> String {
    format!("textum-{:016x}", rand::random::<u64>())
}

fn exit_of(code: i32) -> Exit {
    // As a shell tells of a command that a signal has ended.
    if (129..=192).contains(&code) { Exit::Signal(code - 128) } else { Exit::Code(code) }
}

impl Known {
    /// A job of which nothing is known yet but that it was submitted.
    pub fn new(number: &str, name: &str, folder: PathBuf) -> Known {
        Known {
            number: number.to_string(),
            name: name.to_string(),
            folder,
            state: JobState::Waiting,
            engine: String::new(),
            why: None,
            ended: None,
            cancelled: false,
            is_left: false,
        }
    }

    /// What the engine calls it, its name and its folder, in one word.
    pub fn id(&self) -> JobId {
        let folder = plain(self.folder.as_os_str().as_bytes());
        JobId(format!("{}.{}.{folder}", plain(self.number.as_bytes()), self.name))
    }

    /// The job of an id.
    pub fn named(id: &JobId) -> Option<Known> {
        let mut parts = id.0.splitn(3, '.');
        let (number, name, folder) = (parts.next()?, parts.next()?, parts.next()?);
        let number = String::from_utf8(unplain(number)?).ok()?;
        is_ours(name).then(|| Some(Known::new(&number, name, PathBuf::from(OsString::from_vec(unplain(folder)?)))))?
    }

    /// A file that it leaves.
    pub fn file(&self, what: &str) -> PathBuf {
        self.folder.join(format!("{}.{what}", self.name))
    }

    /// The exit status that it left.
    pub fn left(&self) -> Option<Exit> {
        let text = std::fs::read_to_string(self.file("end")).ok()?;
        text.split_whitespace().next()?.parse().ok().map(exit_of)
    }

    /// How long it was at work, by the clock of where it was.
    pub fn worked(&self) -> Option<Duration> {
        let read = |what: &str| std::fs::read_to_string(self.file(what)).ok();
        let begun = read("begun").and_then(|text| text.lines().nth(4)?.trim().parse::<f64>().ok());
        let ended = read("end").and_then(|text| text.split_whitespace().nth(1)?.parse::<f64>().ok());
        if let Some(worked) = begun.zip(ended).and_then(|(begun, ended)| Duration::try_from_secs_f64(ended - begun).ok()) {
            return Some(worked);
        }
        let written = |what: &str| std::fs::metadata(self.file(what)).and_then(|m| m.modified()).ok();
        written("end")?.duration_since(written("begun")?).ok()
    }

    /// How long it waited for room, by the clock of the machine that it was handed over on.
    pub fn waited(&self) -> Option<Duration> {
        let read = |what: &str| std::fs::read_to_string(self.file(what)).ok();
        let begun = read("begun").and_then(|text| text.lines().nth(4)?.trim().parse::<f64>().ok())?;
        let queued = read("queued")?.trim().parse::<f64>().ok()?;
        Duration::try_from_secs_f64(begun - queued).ok()
    }

    /// Whether it has ended, or cannot be told of any more.
    pub fn is_over(&self) -> bool {
        matches!(self.state, JobState::Ended(_) | JobState::Lost)
    }

    /// Why a job that left no exit status has ended, as far as the engine's own lines tell.
    fn without_status(&self) -> Why {
        let said = std::fs::read_to_string(self.file("cluster.log")).unwrap_or_default();
        let last = said.lines().rev().map(str::trim).find(|l| !l.is_empty()).unwrap_or_default();
        if said.to_lowercase().contains("memory limit") {
            return Why::of(Cause::Memory);
        }
        // Said too of jobs that were at work.
        if self.engine.contains("JobLaunchFailure") && !self.file("begun").exists() {
            return Why { words: format!("the cluster could not begin it: {}", self.engine), cause: Some(Cause::NotBegun) };
        }
        let last: String = last.chars().take(300).collect();
        let last = if last.is_empty() { String::new() } else { format!(": {last}") };
        let words = format!("it ended without leaving its exit status; the cluster says {}{last}", self.engine);
        Why { words, cause: None }
    }

    /// Takes in what the engine says, or that it knows the job no more.
    pub fn take(&mut self, told: Option<&Told>) {
        if self.is_over() {
            return;
        }
        let Some(told) = told else {
            self.state = match self.left() {
                Some(exit) => JobState::Ended(exit),
                None if self.is_late() => JobState::Lost,
                None => return,
            };
            return;
        };
        self.engine.clone_from(&told.words);
        match told.stand {
            Stand::Waiting => self.state = JobState::Waiting,
            // What it must leave is there: the engine only has not heard of it, after it was lost for example.
            Stand::Running => match self.left() {
                Some(exit) if self.is_late() => self.state = JobState::Ended(exit),
                _ => self.state = JobState::Running,
            },
            _ if self.cancelled => self.state = JobState::Ended(self.left().unwrap_or(Exit::Signal(9))),
            Stand::Over => match self.left() {
                Some(exit) => self.state = JobState::Ended(exit),
                None if self.is_late() => {
                    self.why = Some(self.without_status());
                    self.state = JobState::Ended(Exit::Signal(9));
                }
                None => {}
            },
            Stand::Ended(cause) => match self.left() {
                Some(Exit::Code(0)) => self.state = JobState::Ended(Exit::Code(0)),
                exit => {
                    self.why = Some(Why::of(cause));
                    self.state = JobState::Ended(exit.unwrap_or(Exit::Signal(9)));
                }
            },
        }
    }

    fn is_late(&mut self) -> bool {
        self.ended.get_or_insert_with(Instant::now).elapsed() >= LATE
    }
}

/// Bytes as one word of printable characters.
fn plain(bytes: &[u8]) -> String {
    let is_plain = |b: &u8| b.is_ascii_graphic() && !matches!(*b, b'%' | b'.');
    bytes.iter().map(|b| if is_plain(b) { char::from(*b).to_string() } else { format!("%{b:02x}") }).collect()
}

fn unplain(word: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut rest = word.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => u8::from_str_radix(std::str::from_utf8(&[rest.next()?, rest.next()?]).ok()?, 16).ok()?,
            plain => plain,
        });
    }
    Some(bytes)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods)]

    use proptest::prelude::*;

    use super::*;

    fn told(stand: Stand) -> Told {
        Told { stand, words: "WORDS".into() }
    }

    /// What an engine says and what a job has left decide together how it ended.
    #[test]
    fn an_end_is_what_the_engine_says_and_what_was_left() {
        let folder = tempfile::tempdir().unwrap();
        let new = |left: Option<&str>| {
            let known = Known::new("7", &new_name(), folder.path().to_path_buf());
            if let Some(left) = left {
                std::fs::write(known.file("end"), left).unwrap();
            }
            known
        };
        let cases = [
            (Some("0\n"), Stand::Over, JobState::Ended(Exit::Code(0)), None),
            (Some("4 1764256000.25\n"), Stand::Over, JobState::Ended(Exit::Code(4)), None),
            (Some("3\n"), Stand::Over, JobState::Ended(Exit::Code(3)), None),
            (Some("137\n"), Stand::Over, JobState::Ended(Exit::Signal(9)), None),
            // It had succeeded when it was ended.
            (Some("0\n"), Stand::Ended(Cause::Cancelled), JobState::Ended(Exit::Code(0)), None),
            (Some("143\n"), Stand::Ended(Cause::Time), JobState::Ended(Exit::Signal(15)), Some(Cause::Time)),
            (None, Stand::Ended(Cause::Node), JobState::Ended(Exit::Signal(9)), Some(Cause::Node)),
            (None, Stand::Waiting, JobState::Waiting, None),
            (Some("0\n"), Stand::Running, JobState::Running, None),
            // What it must leave may come late: until then it has not ended.
            (None, Stand::Over, JobState::Waiting, None),
            (Some("what?"), Stand::Over, JobState::Waiting, None),
        ];
        for (left, stand, state, cause) in cases {
            let mut known = new(left);
            known.take(Some(&told(stand)));
            assert_eq!((known.state, known.why.as_ref().and_then(|w| w.cause)), (state, cause), "{left:?} {stand:?}");
            // Whatever is said later of one that has ended changes nothing.
            if known.is_over() {
                known.take(Some(&told(Stand::Running)));
                known.take(None);
                assert_eq!(known.state, state);
            }
        }
        let known = new(Some("0 12.75\n"));
        std::fs::write(known.file("begun"), "n1\n7\na processor\n\n10.5\n").unwrap();
        assert_eq!(known.worked(), Some(Duration::from_millis(2250)));
        // The same is said of a job that never began and of one whose step was ended.
        let mut known = new(None);
        known.engine = "FAILED, JobLaunchFailure".into();
        assert_eq!(known.without_status().cause, Some(Cause::NotBegun));
        std::fs::write(known.file("begun"), "n1\n").unwrap();
        assert_eq!(known.without_status().cause, None);
        // One that the engine knows no more is lost only when nothing comes for a while.
        let mut known = new(None);
        known.take(None);
        assert_eq!(known.state, JobState::Waiting);
        std::fs::write(known.file("end"), "0\n").unwrap();
        known.take(None);
        assert_eq!(known.state, JobState::Ended(Exit::Code(0)));
        // Ended from here it is no fault of anybody's.
        let mut known = new(None);
        known.cancelled = true;
        known.take(Some(&told(Stand::Ended(Cause::Cancelled))));
        assert_eq!((known.state, known.why), (JobState::Ended(Exit::Signal(9)), None));
    }

    proptest! {
        #[test]
        fn an_id_names_its_job_again(number in "[ -~]{1,20}", bytes in prop::collection::vec(1_u8..=255, 1..40)) {
            let folder = PathBuf::from(OsString::from_vec(bytes));
            let known = Known::new(&number, &new_name(), folder.clone());
            let id = known.id();
            prop_assert!(!id.0.contains('\n'));
            let again = Known::named(&id).unwrap();
            prop_assert_eq!((again.number, again.name, again.folder), (number, known.name, folder));
        }

        #[test]
        fn what_is_no_id_names_none(text in "\\PC{0,60}") {
            if let Some(known) = Known::named(&JobId(text)) {
                prop_assert!(is_ours(&known.name));
            }
        }
    }
}
