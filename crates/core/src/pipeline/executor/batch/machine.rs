//! A machine that is reached by SSH as an engine: what a stage reads is sent there, it works there, what it wrote is brought back.
//!
//! There each job has a folder with `work`, where the stage works, and `run`, for its log and signals. Here it looks like any
//! other job: what it prints and says comes as it goes, `NAME.end` when all that it wrote is here. One question is asked for
//! all jobs, and each renews the lease.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use super::engine::{Cause, Engine, Fault, Queue, Stand, Submission, Told};
use super::far;
use super::held::{self, HeldMachine};
use super::job::Known;
use super::queued::{FORGOTTEN, TOGETHER};
use super::remote::Remote;
use super::transfer::{There, Turns, answers_to, size_of, there_of};
use crate::config::manifest::{MachineDecl, Needs};
use crate::fsio::{self, FileLock, IoError};
use crate::pipeline::executor::Cancel;
use crate::project::way::Way;

/// A machine.
pub struct SshEngine {
    place: String,
    pub(super) decl: MachineDecl,
    /// What carries jobs out, where it is not the machine itself.
    pub(super) queue: Option<Box<dyn Queue>>,
    /// How what stages read goes there, where it is not sent.
    pub(super) way: Option<Way>,
    /// The project's own files, where it is noted what is held.
    state: Option<PathBuf>,
    /// For the sockets of connections.
    sockets: Option<tempfile::TempDir>,
    now: Mutex<Option<Reached>>,
    /// Whether a job has said anything since that was asked.
    pub(super) news: AtomicBool,
    /// Whether it was asked for here: then it is given back here, whether or not it could be reached.
    asked_for: AtomicBool,
    /// Whether somebody who waits for it to be rented has given up.
    given_up: AtomicBool,
    /// So many jobs can be sent beside those that are.
    pub(super) turns: Turns,
}

/// The machine as it was reached.
#[derive(Clone)]
pub(super) struct Reached {
    pub(super) remote: Remote,
    /// The folder there, whole.
    pub(super) folder: String,
    held: Option<HeldMachine>,
    /// This program there, once that was looked for; none where it cannot be executed.
    pub(super) program: Arc<OnceLock<Option<String>>>,
    /// As long as it is there nobody gives the machine back.
    _used: Option<Arc<FileLock>>,
    /// As long as it is there the lease is renewed, also while no job is there.
    _renewed: Option<Arc<Renewing>>,
}

impl Reached {
    /// The folder of a job there: by its name alone, whatever a file here says.
    pub(super) fn of(&self, name: &str) -> String {
        format!("{}/{name}", self.folder)
    }
}

/// Renews a lease until it goes.
struct Renewing(Arc<AtomicBool>);

impl Renewing {
    fn start(remote: &Remote, folder: &str, lease: u64) -> Renewing {
        let over = Arc::new(AtomicBool::new(false));
        let (remote, folder, until) = (remote.clone(), folder.to_string(), over.clone());
        let every = Duration::from_millis((lease * 1000 / 3).clamp(500, 60_000));
        std::thread::spawn(move || {
            let mut last = Instant::now();
            while !until.load(Ordering::SeqCst) {
                std::thread::sleep(Duration::from_millis(200));
                if last.elapsed() >= every {
                    // One that does not answer is asked again; the lease is long enough for that.
                    let _ = remote.ask(&far::look_begin(&folder));
                    last = Instant::now();
                }
            }
        });
        Renewing(over)
    }
}

impl Drop for Renewing {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

pub(super) fn refused(e: IoError) -> Fault {
    Fault::Refused(e.to_string())
}

impl SshEngine {
    /// The machine of a declared place, or that of a queue which is reached through it.
    pub fn new(
        place: &str,
        decl: &MachineDecl,
        (queue, way): (Option<Box<dyn Queue>>, Option<Way>),
        state: Option<&Path>,
    ) -> SshEngine {
        SshEngine {
            place: place.to_string(),
            decl: decl.clone(),
            queue,
            way,
            state: state.map(Path::to_path_buf),
            sockets: tempfile::Builder::new().prefix("tx").tempdir().ok(),
            now: Mutex::default(),
            news: AtomicBool::new(false),
            asked_for: AtomicBool::new(false),
            given_up: AtomicBool::new(false),
            turns: Turns::default(),
        }
    }

    fn now(&self) -> MutexGuard<'_, Option<Reached>> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The machine; rented, if it is one that is, where `may_rent` allows that.
    pub(super) fn reach(&self, may_rent: bool) -> Result<Reached, Fault> {
        let mut now = self.now();
        if let Some(reached) = &*now {
            return Ok(reached.clone());
        }
        let (mut address, mut known_hosts, mut held, mut used) = (self.decl.address.clone(), None, None, None);
        if let (None, Some(state)) = (&address, &self.state) {
            used = held::use_of(state, &self.place).map_err(refused)?.map(Arc::new);
            let is_held = held::held_machines(state).iter().any(|h| h.place == self.place && h.address.is_some());
            if !is_held && !may_rent {
                return Err(Fault::Refused("no machine is held there".into()));
            }
            self.asked_for.store(true, Ordering::SeqCst);
            let machine = held::hold(state, &self.place, &self.decl, &self.given_up)?;
            known_hosts = held::known_hosts(state, &machine).map_err(refused)?;
            address.clone_from(&machine.address);
            held = Some(machine);
        }
        let Some(address) = address else { return Err(Fault::Refused("it has no address".into())) };
        let sockets = self.sockets.as_ref().map(|s| s.path().to_path_buf());
        let remote = Remote { address, options: self.decl.options.clone(), known_hosts, sockets };
        let folder = remote.ask_text(&far::prepare(&self.decl.folder))?;
        let folder = folder.lines().next().unwrap_or_default().trim().to_string();
        if !folder.starts_with('/') {
            return Err(Fault::Refused(format!("its folder {} cannot be made there", self.decl.folder)));
        }
        let renewed = self.decl.lease.map(|lease| Arc::new(Renewing::start(&remote, &folder, lease)));
        let reached = Reached { remote, folder, held, program: Arc::default(), _used: used, _renewed: renewed };
        *now = Some(reached.clone());
        Ok(reached)
    }

    /// How a job stands that the machine itself carries out.
    fn stand_alone(&self, reached: &Reached, (job, there): (&Known, &There), said: &far::Said<'_>) -> Result<Told, Fault> {
        let stand = match said.state {
            // What it printed last may have come after this look began.
            "over" if !said.is_whole => Stand::Running,
            "over" => {
                self.bring(reached, job, there)?;
                Stand::Over
            }
            "waiting" => Stand::Waiting,
            "lost" => Stand::Ended(Cause::Node),
            _ => Stand::Running,
        };
        Ok(Told { stand, words: said.state.to_string() })
    }

    /// Whether anything of a job may be there. What has ended and is here needs no machine any more.
    fn may_be_there(&self, name: &str, folder: &Path) -> bool {
        let has = |what: &str| folder.join(format!("{name}.{what}")).exists();
        has("there") && !has("end") && !self.is_given_back()
    }

    /// Whether it was rented, and nobody holds it any more.
    fn is_given_back(&self) -> bool {
        let is_rented = self.decl.address.is_none();
        is_rented && self.state.as_ref().is_none_or(|s| held::held_machines(s).iter().all(|h| h.place != self.place))
    }
}

/// A job of which what it left cannot be brought, as long as that is so: it waits for whoever mends it, others do not.
fn not_brought(job: &Known, words: String) -> Told {
    Told { stand: if job.cancelled { Stand::Ended(Cause::Cancelled) } else { Stand::Waiting }, words }
}

impl Engine for SshEngine {
    fn kind(&self) -> &'static str {
        self.queue.as_ref().map_or("ssh", |queue| queue.kind())
    }

    fn describe(&self) -> Result<(String, Vec<String>), Fault> {
        let reached = self.reach(true)?;
        if let Some(queue) = &self.queue {
            let (version, offers) = self.at_site(&reached, |site| queue.describe(site))?;
            return Ok((format!("{version}, by ssh {}", reached.remote.address), offers));
        }
        let said = reached.remote.ask_text(far::DESCRIBE)?;
        let mut lines = said.lines().map(|l| l.trim().to_string()).filter(|l| !l.is_empty());
        let first = lines.next().unwrap_or_default();
        Ok((format!("{first}, by ssh {}", reached.remote.address), lines.collect()))
    }

    fn submit(&self, jobs: &[Submission]) -> Result<Vec<String>, Fault> {
        let reached = self.reach(true)?;
        if let Some(queue) = &self.queue {
            return self.submit_queued(queue.as_ref(), &reached, jobs);
        }
        jobs.iter().map(|one| self.submit_one(&reached, one)).collect()
    }

    fn find(&self, name: &str, folder: &Path) -> Result<Option<String>, Fault> {
        if !self.may_be_there(name, folder) {
            return Ok(None);
        }
        let reached = self.reach(false)?;
        if let Some(queue) = &self.queue {
            return self.find_queued(queue.as_ref(), &reached, name, folder);
        }
        let said = reached.remote.ask_text(&far::was_begun(&reached.folder, name))?;
        Ok((said.trim() == "yes").then(|| name.to_string()))
    }

    fn can_meet(&self, needs: &Needs, _folder: &Path) -> Result<(), Fault> {
        let Some(queue) = &self.queue else { return Ok(()) };
        // That nobody answers, or another than was meant, is told when the job is submitted.
        let Ok(reached) = self.reach(true) else { return Ok(()) };
        self.at_site(&reached, |site| queue.can_meet(site, needs, Path::new(&reached.folder)))
    }

    fn most_together(&self) -> usize {
        self.queue.as_ref().map_or(1, |queue| queue.most_together().min(TOGETHER))
    }

    fn take_back(&self, name: &str, folder: &Path) -> Result<(), Fault> {
        if !self.may_be_there(name, folder) {
            return Ok(());
        }
        let reached = self.reach(false)?;
        reached.remote.ask(&far::take_back(&reached.of(name), name)).map(drop)
    }

    fn look(&self, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault> {
        let reached = self.reach(false)?;
        let known: Vec<Known> = jobs.iter().filter(|job| job.number != FORGOTTEN).cloned().collect();
        let told = match &self.queue {
            Some(queue) if !known.is_empty() => self.at_site(&reached, |site| queue.look(site, &known))?,
            _ => BTreeMap::new(),
        };
        let mut text = far::look_begin(&reached.folder);
        let (mut asked, mut given): (Vec<(&Known, There)>, Vec<PathBuf>) = Default::default();
        for job in jobs {
            let Some(there) = there_of(job, self.state.as_deref()) else { continue };
            let log = size_of(&job.folder, "log").saturating_sub(there.before.0);
            let signals = size_of(&job.folder, "signals").saturating_sub(there.before.1);
            let folder = reached.of(&job.name);
            text.push_str(&far::look(&folder, &job.name, log, signals));
            for (path, name, answer) in answers_to(job) {
                text.push_str(&far::answer(&folder, &name, &answer));
                given.push(path);
            }
            asked.push((job, there));
        }
        let answer = reached.remote.ask(&text)?;
        for path in given {
            fsio::remove_any(&path).map_err(refused)?;
        }
        let mut found = BTreeMap::new();
        for said in far::answers(&answer) {
            let Some((job, there)) = asked.iter().find(|(job, _)| job.name == said.name) else { continue };
            let taken = self.take_in(&reached, job, there, said.log, said.signals);
            let told = taken.and_then(|()| match &self.queue {
                Some(_) => self.stand_queued(&reached, (job, there), &said, told.get(&job.number)),
                None => self.stand_alone(&reached, (job, there), &said).map(Some),
            });
            let told = match told {
                Err(Fault::Refused(why)) => Some(not_brought(job, why)),
                told => told?,
            };
            found.extend(told.map(|told| (job.number.clone(), told)));
        }
        Ok(found)
    }

    fn give_up(&self) {
        self.given_up.store(true, Ordering::SeqCst);
    }

    fn had_news(&self) -> bool {
        self.news.swap(false, Ordering::SeqCst)
    }

    fn held_for(&self) -> Option<Duration> {
        self.now().as_ref()?.held.as_ref().map(HeldMachine::held_for)
    }

    fn release(&self) -> Result<(), Fault> {
        let (asked_for, mut at_work) = (self.asked_for.swap(false, Ordering::SeqCst), false);
        if let Some(reached) = self.now().take() {
            if self.decl.address.is_none() {
                // A run that was cut off may have a job there, which nobody here knows of.
                at_work = reached.remote.ask_text(&far::at_work(&reached.folder)).is_ok_and(|said| said.trim() == "yes");
            }
            reached.remote.close();
        }
        match &self.state {
            Some(_) if asked_for && at_work => Err(Fault::Refused("a job of another run is at work there".into())),
            Some(state) if asked_for => held::release(state, &self.place).map(drop),
            _ => Ok(()),
        }
    }

    fn cancel(&self, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>> {
        let reached = match self.reach(false) {
            Ok(reached) => reached,
            Err(e) => return vec![Err(e); jobs.len()],
        };
        // A queue ends by itself what does not end when it is asked.
        let signal = if how == Cancel::Ask || self.queue.is_some() { "INT" } else { "KILL" };
        let end = |job: &Known| reached.remote.ask(&far::end(&reached.of(&job.name), &job.name, signal)).map(drop);
        let mut done: Vec<Result<(), Fault>> = jobs.iter().map(end).collect();
        if let Some(queue) = &self.queue {
            let queued = |at: &usize| done[*at].is_ok() && jobs[*at].number != FORGOTTEN;
            let queued: Vec<usize> = (0..jobs.len()).filter(queued).collect();
            let known: Vec<Known> = queued.iter().map(|at| jobs[*at].clone()).collect();
            let told = self.at_site(&reached, |site| queue.cancel(site, &known, how));
            queued.into_iter().zip(told).for_each(|(at, told)| done[at] = told);
        }
        done
    }
}
