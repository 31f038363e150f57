//! Submitting: each job once, also when the answer is lost; those of the same needs that come together in one call.

use std::path::{Path, PathBuf};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::engine::{Fault, Submission};
use super::job::Known;
use super::script::command_file;
use super::{BatchExecutor, PAUSES, SUBMITTED};
use crate::fsio::{self, IoError};
use crate::pipeline::executor::Job;

/// So long a submission is tried while the engine does not answer.
const PATIENCE: Duration = Duration::from_secs(600);
/// So long the next job is waited for when one has come: stages that can begin begin within it.
const TOGETHER: Duration = Duration::from_millis(40);

/// Jobs that come together are submitted together.
pub struct Gathering {
    most: usize,
    state: Mutex<Gathered>,
    news: Condvar,
}

#[derive(Default)]
struct Gathered {
    /// Jobs that have come and were not submitted, with their tickets.
    waiting: Vec<(u64, Submission)>,
    next: u64,
    /// Whether somebody is gathering.
    led: bool,
    /// What came of those that were submitted for others.
    answers: std::collections::BTreeMap<u64, Result<String, Fault>>,
}

impl Gathering {
    /// At most so many at once.
    pub fn new(most: usize) -> Gathering {
        Gathering { most: most.max(1), state: Mutex::default(), news: Condvar::new() }
    }

    /// What came of a job's submission, by `submit`, which is given jobs of the same needs.
    fn submit(&self, one: Submission, submit: impl Fn(&[Submission]) -> Result<Vec<String>, Fault>) -> Result<String, Fault> {
        let lost = || Fault::Refused("the engine answered for fewer jobs than it was given".into());
        if self.most == 1 {
            return submit(std::slice::from_ref(&one))?.pop().ok_or_else(lost);
        }
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let ticket = state.next;
        state.next += 1;
        state.waiting.push((ticket, one));
        self.news.notify_all();
        loop {
            if let Some(answer) = state.answers.remove(&ticket) {
                return answer;
            }
            if state.led || !state.waiting.iter().any(|(t, _)| *t == ticket) {
                state = self.news.wait(state).unwrap_or_else(PoisonError::into_inner);
                continue;
            }
            state.led = true;
            // As long as more come.
            let mut before = 0;
            while state.waiting.len() > before && state.waiting.len() < self.most {
                before = state.waiting.len();
                let begun = Instant::now();
                while let Some(left) = TOGETHER.checked_sub(begun.elapsed()) {
                    state = self.news.wait_timeout(state, left).unwrap_or_else(PoisonError::into_inner).0;
                }
            }
            let Some(needs) = state.waiting.iter().find(|(t, _)| *t == ticket).map(|(_, s)| s.job.needs) else { continue };
            let (mut mine, mut others) = (Vec::new(), Vec::new());
            for (t, s) in std::mem::take(&mut state.waiting) {
                let fits = s.job.needs == needs && (mine.len() < self.most || t == ticket);
                if fits { mine.push((t, s)) } else { others.push((t, s)) }
            }
            state.waiting = others;
            state.led = false;
            self.news.notify_all();
            drop(state);
            let (tickets, jobs): (Vec<u64>, Vec<Submission>) = mine.into_iter().unzip();
            let answer = submit(&jobs);
            state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
            for (at, ticket) in tickets.into_iter().enumerate() {
                let own = answer.as_ref().map_err(Clone::clone).and_then(|all| all.get(at).cloned().ok_or_else(lost));
                state.answers.insert(ticket, own);
            }
            self.news.notify_all();
        }
    }
}

impl BatchExecutor {
    /// Its place has nothing of a job: whoever comes later need not ask for it.
    fn not_handed_over(&self, folder: &Path) -> IoError {
        let place = PathBuf::from(format!("[place.{}]", self.name));
        let stopped = std::io::Error::new(std::io::ErrorKind::Interrupted, "stopped before it was handed over");
        match fsio::remove_any(&folder.join(SUBMITTED)) {
            Ok(()) => IoError::of("submit a job to", &place)(stopped),
            Err(e) => e,
        }
    }

    /// Submits, once: an engine that does not answer is asked, when it does again, whether it has the job.
    pub(super) fn submit_named(&self, job: &Job, folder: &Path, name: &str) -> Result<Known, IoError> {
        // Before it is the engine's: whoever finds this process gone asks for it by this name.
        fsio::write_derived(&folder.join(SUBMITTED), name.as_bytes())?;
        // Its folder is private.
        fsio::write_derived(&folder.join(format!("{name}.command")), command_file(job).as_bytes())?;
        let one = || Submission { job: job.clone(), name: name.to_string(), folder: folder.to_path_buf() };
        let (begun, mut pause) = (Instant::now(), PAUSES.0);
        let engine = &self.shared.engine;
        let failed = |what: &str| self.failed("submit a job to", what);
        let given_up = || self.given_up.lock().unwrap_or_else(PoisonError::into_inner).contains(folder);
        loop {
            if given_up() {
                return Err(self.not_handed_over(folder));
            }
            let error = match self.gathering.submit(one(), |jobs| engine.submit(jobs)) {
                Ok(number) => return Ok(Known::new(&number, name, folder.to_path_buf())),
                Err(Fault::Silent(error)) => error,
                Err(Fault::Refused(why)) => return Err(failed(&why)),
            };
            loop {
                if begun.elapsed() >= PATIENCE {
                    let minutes = PATIENCE.as_secs() / 60;
                    return Err(failed(&format!("it has not answered for {minutes} min: {error}")));
                }
                let is_given_up = given_up();
                if !is_given_up {
                    std::thread::sleep(pause);
                    pause = (pause * 2).min(PAUSES.1);
                }
                match engine.find(name, folder) {
                    Ok(Some(number)) => return Ok(Known::new(&number, name, folder.to_path_buf())),
                    Ok(None) => break,
                    Err(_) if is_given_up => return Err(failed(&error)),
                    Err(_) => {}
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use crate::config::manifest::Needs;
    use crate::pipeline::executor::JobCommand;

    fn submission(name: &str, cpus: u32) -> Submission {
        let job = Job {
            command: JobCommand::Shell("true".into()),
            folder: PathBuf::new(),
            variables: Vec::new(),
            log: PathBuf::new(),
            needs: Needs { cpus, memory: 0, gpus: 0, time: None },
            place: None,
            declared: Vec::new(),
            inputs: Vec::new(),
            outputs: Vec::new(),
            checkpoints: None,
        };
        Submission { job, name: name.to_string(), folder: PathBuf::new() }
    }

    /// Jobs that come at once are few calls, each of the same needs, and each job gets its own answer.
    #[test]
    fn what_comes_together_is_submitted_together_and_each_hears_of_its_own() {
        let gathering = Gathering::new(8);
        let calls: Mutex<Vec<Vec<(String, u32)>>> = Mutex::default();
        let submit = |jobs: &[Submission]| {
            calls.lock().unwrap().push(jobs.iter().map(|j| (j.name.clone(), j.job.needs.cpus)).collect());
            Ok(jobs.iter().map(|j| format!("number of {}", j.name)).collect())
        };
        std::thread::scope(|scope| {
            for n in 0..40_u32 {
                let (gathering, submit) = (&gathering, &submit);
                scope.spawn(move || {
                    let name = format!("j{n}");
                    let answer = gathering.submit(submission(&name, 1 + n % 2), submit).unwrap();
                    assert_eq!(answer, format!("number of {name}"));
                });
            }
        });
        let calls = calls.into_inner().unwrap();
        let all: Vec<&String> = calls.iter().flatten().map(|(name, _)| name).collect();
        assert_eq!((all.len(), all.iter().collect::<BTreeSet<_>>().len()), (40, 40), "each once: {calls:?}");
        assert!(calls.iter().all(|call| call.iter().all(|(_, cpus)| *cpus == call[0].1)), "{calls:?}");
        assert!(calls.iter().all(|call| call.len() <= 9) && calls.len() < 40, "{calls:?}");
    }

    #[test]
    fn a_refusal_is_heard_by_all_that_came_together_and_a_short_answer_by_those_it_lacks() {
        let gathering = Gathering::new(50);
        std::thread::scope(|scope| {
            for n in 0..6 {
                let gathering = &gathering;
                scope.spawn(move || {
                    let refuse = |_: &[Submission]| Err(Fault::Refused("no such account".to_string()));
                    assert_eq!(gathering.submit(submission(&format!("j{n}"), 1), refuse).unwrap_err().words(), "no such account");
                });
            }
        });
        let none = |_: &[Submission]| Ok(Vec::new());
        assert!(gathering.submit(submission("x", 1), none).unwrap_err().words().contains("fewer jobs"));
        // One after the other goes on after that.
        let one = |_: &[Submission]| Ok(vec!["7".to_string()]);
        assert_eq!(gathering.submit(submission("y", 1), one).unwrap(), "7");
        assert_eq!(Gathering::new(1).submit(submission("z", 1), one).unwrap(), "7");
    }
}
