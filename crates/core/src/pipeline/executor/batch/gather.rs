//! Jobs that come together are submitted together, as far as the engine takes them: what it has no room for waits here.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread::Thread;
use std::time::{Duration, Instant};

use super::engine::{Fault, Submission};

/// So long the next job is waited for when one has come: stages that can begin begin within it.
const TOGETHER: Duration = Duration::from_millis(40);
/// An engine that takes no more jobs is tried again after the first, and after twice as long each time up to the second.
const FULL: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(30));

/// Jobs on their way to an engine.
pub struct Gathering(Mutex<Gathered>);

struct Gathered {
    /// Jobs that have come and were not submitted, in their order.
    waiting: Vec<Waiting>,
    next: u64,
    /// Whether somebody is gathering.
    led: bool,
    /// What came of those that were submitted for others.
    answers: BTreeMap<u64, Result<String, Fault>>,
    /// So many it ever takes in one call.
    most: usize,
    /// So many are tried in the next: fewer where it has just had no room.
    at_once: usize,
    full: Option<Full>,
    /// Whether it has refused so many in one call, and has not taken fewer yet.
    tries_fewer: bool,
    pauses: (Duration, Duration),
}

struct Waiting {
    ticket: u64,
    one: Submission,
    thread: Thread,
}

/// Jobs that are submitted in one call, and whether nobody else submits meanwhile.
struct Chosen {
    jobs: Vec<Waiting>,
    alone: bool,
}

/// It takes no more for now.
struct Full {
    until: Instant,
    pause: Duration,
    words: String,
}

impl Gathering {
    /// At most so many at once.
    pub fn new(most: usize) -> Gathering {
        Gathering::with_pauses(most, FULL)
    }

    fn with_pauses(most: usize, pauses: (Duration, Duration)) -> Gathering {
        let most = most.max(1);
        let (waiting, answers, full) = (Vec::new(), BTreeMap::new(), None);
        let at_once = most;
        Gathering(Mutex::new(Gathered { waiting, next: 0, led: false, answers, most, at_once, full, tries_fewer: false, pauses }))
    }

    fn lock(&self) -> MutexGuard<'_, Gathered> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What came of a job's submission, by `submit`, which is given jobs of the same needs, none of which is given up by then.
    /// It is waited until the engine has room; [`Fault::Full`] says that it was given up before.
    pub fn submit(
        &self,
        one: Submission,
        submit: impl Fn(&[Submission]) -> Result<Vec<String>, Fault>,
        given_up: impl Fn(&Path) -> bool,
    ) -> Result<String, Fault> {
        let mut state = self.lock();
        let ticket = state.next;
        state.next += 1;
        state.waiting.push(Waiting { ticket, one, thread: std::thread::current() });
        loop {
            if let Some(answer) = state.answers.remove(&ticket) {
                state.wake_next();
                return answer;
            }
            let waits = state.waiting.iter().any(|w| w.ticket == ticket);
            if state.led || !waits {
                drop(state);
                // Whoever leads, or hands out the answer, wakes this thread.
                std::thread::park();
                state = self.lock();
                continue;
            }
            state.led = true;
            drop(state);
            if !self.has_room_by_now(ticket) {
                state = self.lock();
                state.led = false;
                continue;
            }
            self.until_no_more_come();
            let chosen = self.lock().choose(ticket, &given_up);
            let jobs: Vec<Submission> = chosen.jobs.iter().map(|w| w.one.clone()).collect();
            let answer = if jobs.is_empty() { Ok(Vec::new()) } else { submit(&jobs) };
            state = self.lock();
            state.take_answer(chosen, answer);
        }
    }

    /// Where it had no room: waits until it is tried again. Whether it is to be: the job of this ticket may be given up before.
    fn has_room_by_now(&self, ticket: u64) -> bool {
        loop {
            let state = self.lock();
            if state.answers.contains_key(&ticket) {
                return false;
            }
            let Some(left) = state.full.as_ref().and_then(|full| full.until.checked_duration_since(Instant::now())) else {
                return true;
            };
            drop(state);
            std::thread::park_timeout(left);
        }
    }

    fn until_no_more_come(&self) {
        let mut before = 0;
        loop {
            let state = self.lock();
            let now = state.waiting.len();
            if now <= before || now >= state.at_once {
                return;
            }
            drop(state);
            before = now;
            std::thread::sleep(TOGETHER);
        }
    }

    /// The job whose folder this is does not wait any more. Whether it did: one that is just being submitted does not, and may
    /// again.
    pub fn give_up(&self, folder: &Path) -> bool {
        let mut state = self.lock();
        let Some(at) = state.waiting.iter().position(|w| w.one.folder == folder) else { return false };
        let gone = state.waiting.remove(at);
        state.let_go(gone);
        true
    }

    /// Why the job whose folder this is waits here, if it does since there is no room for it.
    pub fn waits(&self, folder: &Path) -> Option<String> {
        let state = self.lock();
        let full = state.full.as_ref()?;
        state.waiting.iter().any(|w| w.one.folder == folder).then(|| full.words.clone())
    }
}

impl Gathered {
    /// The job of this ticket and others of the same needs. Where there was room all along others gather the next meanwhile:
    /// its own job must be among them, or they would wait for one who is busy.
    fn choose(&mut self, ticket: u64, given_up: &dyn Fn(&Path) -> bool) -> Chosen {
        // Some may have been asked for when they were given up, and put back since.
        let (gone, waiting) = std::mem::take(&mut self.waiting).into_iter().partition(|w| given_up(&w.one.folder));
        self.waiting = waiting;
        gone.into_iter().for_each(|gone| self.let_go(gone));
        let own = self.waiting.iter().position(|w| w.ticket == ticket).map(|at| self.waiting.remove(at));
        let needs = own.as_ref().or(self.waiting.first()).map(|w| w.one.job.needs);
        let mut jobs: Vec<Waiting> = own.into_iter().collect();
        for one in std::mem::take(&mut self.waiting) {
            let fits = Some(one.one.job.needs) == needs && jobs.len() < self.at_once;
            if fits { jobs.push(one) } else { self.waiting.push(one) }
        }
        // As long as it had no room lately one asks for all.
        let alone = self.full.is_some() || self.tries_fewer || self.at_once < self.most;
        self.led = alone;
        self.wake_next();
        Chosen { jobs, alone }
    }

    fn wake_next(&self) {
        if let Some(first) = self.waiting.first().filter(|_| !self.led) {
            first.thread.unpark();
        }
    }

    fn take_answer(&mut self, Chosen { jobs, alone }: Chosen, answer: Result<Vec<String>, Fault>) {
        let count = jobs.len();
        self.led &= !alone;
        match answer {
            Err(Fault::TooMany(_)) if count > 1 => {
                self.most = self.most.min(count / 2);
                self.at_once = self.at_once.min(self.most);
                self.tries_fewer = true;
                self.put_back(jobs);
            }
            Err(Fault::Full(words)) => {
                self.at_once = (count / 2).clamp(1, self.most);
                // Fewer may have room; where one has none there is time. Who asked before that was known changes nothing.
                let (until, pause) = self.full.as_ref().map_or((Instant::now(), Duration::ZERO), |full| (full.until, full.pause));
                let pause = if count > 1 { pause } else { (pause * 2).clamp(self.pauses.0, self.pauses.1) };
                let until = if count > 1 { until } else { Instant::now() + pause };
                self.full = Some(Full { until, pause, words });
                self.put_back(jobs);
            }
            answer => {
                if answer.is_ok() && count > 0 {
                    (self.full, self.tries_fewer, self.at_once) = (None, false, (self.at_once.saturating_mul(2)).min(self.most));
                }
                let lost = || Fault::Refused("the engine answered for fewer jobs than it was given".into());
                for (at, one) in jobs.into_iter().enumerate() {
                    let own = answer.as_ref().map_err(Clone::clone).and_then(|all| all.get(at).cloned().ok_or_else(lost));
                    self.answers.insert(one.ticket, own);
                    one.thread.unpark();
                }
            }
        }
        self.wake_next();
    }

    fn let_go(&mut self, gone: Waiting) {
        self.answers.insert(gone.ticket, Err(Fault::Full("it was given up".into())));
        gone.thread.unpark();
    }

    fn put_back(&mut self, jobs: Vec<Waiting>) {
        self.waiting.splice(0..0, jobs);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::path::PathBuf;

    use super::*;
    use crate::config::manifest::Needs;
    use crate::pipeline::executor::{Job, JobCommand};

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
            away: None,
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
                    let answer = gathering.submit(submission(&name, 1 + n % 2), submit, |_| false).unwrap();
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
                    assert_eq!(
                        gathering.submit(submission(&format!("j{n}"), 1), refuse, |_| false).unwrap_err().words(),
                        "no such account"
                    );
                });
            }
        });
        let none = |_: &[Submission]| Ok(Vec::new());
        assert!(gathering.submit(submission("x", 1), none, |_| false).unwrap_err().words().contains("fewer jobs"));
        // One after the other goes on after that.
        let one = |_: &[Submission]| Ok(vec!["7".to_string()]);
        assert_eq!(gathering.submit(submission("y", 1), one, |_| false).unwrap(), "7");
        assert_eq!(Gathering::new(1).submit(submission("z", 1), one, |_| false).unwrap(), "7");
    }

    /// An engine that takes so many in one call and has so much room gets every job once, and no more than that.
    #[test]
    fn what_has_no_room_waits_and_is_submitted_once() {
        for (room, together, jobs) in [(10, 7, 60), (3, 1, 12), (1, 16, 9), (100, 16, 40)] {
            let gathering = Gathering::with_pauses(16, (Duration::from_micros(50), Duration::from_millis(1)));
            // What is there now, and what was ever taken.
            let engine: Mutex<(usize, Vec<String>)> = Mutex::default();
            let (refused, told) = (Mutex::new(0), Mutex::new(0));
            let submit = |jobs: &[Submission]| {
                let mut engine = engine.lock().unwrap();
                if jobs.len() > together {
                    return Err(Fault::TooMany("so many never".into()));
                }
                if engine.0 + jobs.len() > room {
                    let mut refused = refused.lock().unwrap();
                    *refused += 1;
                    // Now and then one ends.
                    engine.0 -= usize::from(*refused % 3 == 0 && engine.0 > 0);
                    return Err(Fault::Full("so many not now".into()));
                }
                engine.0 += jobs.len();
                engine.1.extend(jobs.iter().map(|j| j.name.clone()));
                Ok(jobs.iter().map(|j| format!("number of {}", j.name)).collect())
            };
            std::thread::scope(|scope| {
                for n in 0..jobs {
                    let (gathering, submit, told) = (&gathering, &submit, &told);
                    scope.spawn(move || {
                        let name = format!("j{n}");
                        let mut one = submission(&name, 1 + n % 2);
                        one.folder = PathBuf::from(&name);
                        *told.lock().unwrap() += u32::from(gathering.waits(&one.folder).is_some());
                        assert_eq!(gathering.submit(one, submit, |_| false).unwrap(), format!("number of {name}"));
                        assert_eq!(gathering.waits(Path::new(&name)), None, "it waits no more");
                    });
                }
            });
            let (_, taken) = engine.into_inner().unwrap();
            assert_eq!((taken.len(), taken.iter().collect::<BTreeSet<_>>().len()), (jobs as usize, jobs as usize), "{taken:?}");
            assert!(room >= 100 || *refused.lock().unwrap() > 0, "it was full at times");
            assert_eq!(*told.lock().unwrap(), 0, "who has not come waits for nothing");
        }
    }

    #[test]
    fn whoever_waits_for_room_may_give_up_and_nothing_is_submitted_then() {
        let gathering = Gathering::with_pauses(4, (Duration::from_secs(3600), Duration::from_secs(3600)));
        let calls = Mutex::new(0);
        let submit = |_: &[Submission]| {
            *calls.lock().unwrap() += 1;
            Err(Fault::Full("full".into()))
        };
        let folder = |n: u32| PathBuf::from(format!("j{n}"));
        std::thread::scope(|scope| {
            for n in 0..20 {
                let (gathering, submit) = (&gathering, &submit);
                scope.spawn(move || {
                    let one = Submission { folder: folder(n), ..submission("j", 1) };
                    assert!(matches!(gathering.submit(one, submit, |_| false), Err(Fault::Full(_))));
                });
            }
            while !(0..20).all(|n| gathering.waits(&folder(n)).is_some()) {
                std::thread::yield_now();
            }
            // Alone, and refused once more: nobody tries for an hour.
            while gathering.lock().full.as_ref().is_none_or(|full| full.until <= Instant::now()) {
                std::thread::yield_now();
            }
            let before = *calls.lock().unwrap();
            // Again and again: some may just be asked for.
            let mut gone = BTreeSet::new();
            while gone.len() < 20 {
                gone.extend((0..20).filter(|n| gathering.give_up(&folder(*n))));
                std::thread::yield_now();
            }
            assert_eq!(*calls.lock().unwrap(), before);
        });
        assert!(gathering.lock().answers.is_empty());
    }
}
