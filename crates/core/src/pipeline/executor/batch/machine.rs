//! A machine that is reached by SSH as an engine: what a stage reads is sent there, it works there, what it wrote is brought back.
//!
//! There each job has a folder with `work`, where the stage works, and `run`, for its log and signals. Here it looks like any
//! other job: what it prints and says comes as it goes, `NAME.end` when all that it wrote is here. One question is asked for
//! all jobs, and each renews the lease.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

use super::by_depot::{WORD as PUT_WORD, Way};
use super::engine::{Cause, Engine, Fault, Placed, Queue, Stand, Submission, Told};
use super::held::{self, HeldMachine};
use super::job::Known;
use super::remote::Remote;
use super::script::{command_words, script};
use super::{far, program};
use crate::config::manifest::{MachineDecl, Needs, shell_word};
use crate::fsio::{self, FileLock, IoError};
use crate::pipeline::executor::{Cancel, Job};
use crate::record::receipt::Content;

/// So long a machine may take to fetch what a stage reads.
const FETCH: Duration = Duration::from_secs(24 * 3600);

/// A machine.
pub struct SshEngine {
    place: String,
    pub(super) decl: MachineDecl,
    /// What carries jobs out, where it is not the machine itself.
    pub(super) queue: Option<Box<dyn Queue>>,
    /// How what stages read goes there, where it is not sent.
    way: Option<Way>,
    /// The project's own files, where it is noted what is held.
    state: Option<PathBuf>,
    /// For the sockets of connections.
    sockets: Option<tempfile::TempDir>,
    now: Mutex<Option<Reached>>,
    /// Whether a job has said anything since that was asked.
    news: AtomicBool,
    /// Whether it was asked for here: then it is given back here, whether or not it could be reached.
    asked_for: AtomicBool,
}

/// The machine as it was reached.
#[derive(Clone)]
pub(super) struct Reached {
    pub(super) remote: Remote,
    /// The folder there, whole.
    pub(super) folder: String,
    held: Option<HeldMachine>,
    /// As long as it is there nobody gives the machine back.
    _used: Option<Arc<FileLock>>,
    /// As long as it is there the lease is renewed, also while no job is there.
    _renewed: Option<Arc<Renewing>>,
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

/// Beside the log of a job: where it works there, and what is to be brought from there.
#[derive(Serialize, Deserialize)]
pub(super) struct There {
    /// Its folder there.
    pub(super) folder: String,
    /// Where its stage works here.
    work: PathBuf,
    /// What it writes.
    outputs: Vec<String>,
    /// The path of its checkpoints.
    checkpoints: Option<String>,
    /// What stood in its log and its signals here when it was submitted.
    before: (u64, u64),
}

fn refused(e: IoError) -> Fault {
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
            let machine = held::hold(state, &self.place, &self.decl)?;
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
        let reached = Reached { remote, folder, held, _used: used, _renewed: renewed };
        *now = Some(reached.clone());
        Ok(reached)
    }

    /// Whether it was rented, and nobody holds it any more.
    fn is_given_back(&self) -> bool {
        let is_rented = self.decl.address.is_none();
        is_rented && self.state.as_ref().is_none_or(|s| held::held_machines(s).iter().all(|h| h.place != self.place))
    }

    /// This program there, for stages that speak by `textum emit`; none where it cannot be executed.
    fn program_there(&self, reached: &Reached) -> Result<Option<String>, Fault> {
        let (own, name) = program::own().map_err(refused)?;
        let path = format!("{}/programs/{name}", reached.folder);
        let word = shell_word(&path);
        let look = format!("mkdir -p {0}/programs; {word} --version 2>/dev/null || true", shell_word(&reached.folder));
        let is_there = |said: String| said.starts_with("textum ");
        if is_there(reached.remote.ask_text(&look)?) {
            return Ok(Some(path));
        }
        reached.remote.put_file(&own, &path)?;
        Ok(is_there(reached.remote.ask_text(&look)?).then_some(path))
    }

    /// Sends what a job reads by way of a depot; the paths that stand there then.
    fn put_by(
        &self,
        way: &Way,
        reached: &Reached,
        inputs: &[(String, Content)],
        (there, program): (&str, Option<&str>),
    ) -> Result<Vec<String>, Fault> {
        let sent = way.send(inputs)?;
        if sent.paths.is_empty() && !inputs.is_empty() {
            return Ok(Vec::new());
        }
        let Some(program) = program else {
            let why = "what a stage reads comes from a depot by this program, which cannot be executed there";
            return Err(Fault::Refused(format!("{why}: leave `depot` out of the place, and it is sent")));
        };
        let (paths, folder) = (sent.paths.clone(), PathBuf::from(format!("{}/fetched", reached.folder)));
        let order = sent.order(&folder, &PathBuf::from(format!("{there}/work")))?;
        let words = [program, PUT_WORD].map(str::to_string);
        reached.remote.ask_words(&words, Some(&order), FETCH)?;
        Ok(paths)
    }

    /// Sends all that a job needs: what it reads, what it executes, and its script.
    pub(super) fn place(&self, reached: &Reached, one: &Submission) -> Result<Placed, Fault> {
        let Submission { job, name, folder } = one;
        let there = format!("{}/{name}", reached.folder);
        let note = There {
            folder: there.clone(),
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
        put(&format!("{name}.command"), far_command(job, folder, &run, program.as_deref(), before).as_bytes())?;
        let script = script(&work, &run, &run.join("log"), name, first);
        put(&format!("{name}.script"), script.as_bytes())?;
        fsio::set_executable(&files.path().join(format!("{name}.script")), true).map_err(refused)?;
        if let Ok(bytes) = std::fs::read(folder.join("params.json")) {
            put("params.json", &bytes)?;
        }
        fsio::create_folder(&files.path().join("tmp")).map_err(refused)?;
        reached.remote.send(files.path(), &[], &format!("{there}/run"))?;
        Ok(Placed { name: name.clone(), needs: job.needs, folder: run, here: folder.clone(), script })
    }

    fn submit_one(&self, reached: &Reached, one: &Submission) -> Result<String, Fault> {
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
                reached.remote.bring(&format!("{}/work", there.folder), std::slice::from_ref(path), &there.work)?;
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
        reached.remote.bring(&format!("{}/work", there.folder), &there.outputs, &there.work)?;
        self.bring_ends(reached, job, there)?;
        // What is left there for want of an answer is swept by whoever comes next.
        let _ = reached.remote.ask(&format!("rm -rf {}", shell_word(&there.folder)));
        Ok(())
    }

    /// Brings what tells of a job: where it was at work, what its queue said of it, at last how it ended.
    pub(super) fn bring_ends(&self, reached: &Reached, job: &Known, there: &There) -> Result<(), Fault> {
        let ends = ["queued", "cluster.log", "begun", "end"].map(|what| format!("{}.{what}", job.name));
        let part = fsio::part_folder(&job.folder).map_err(refused)?;
        reached.remote.bring(&format!("{}/run", there.folder), &ends, part.path())?;
        for name in ends {
            let from = part.path().join(&name);
            // A link could lead to any file of this machine.
            if std::fs::symlink_metadata(&from).is_ok_and(|m| m.is_file()) {
                fsio::rename(&from, &job.folder.join(&name)).map_err(refused)?;
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

pub(super) fn there_of(job: &Known) -> Option<There> {
    let path = job.folder.join(format!("{}.there", job.name));
    serde_json::from_slice(&std::fs::read(path).ok()?).ok()
}

/// The command with what the stage declares of its environment, in that of the machine; paths that lie in the folder of its
/// log are those there. `before` stands before all that.
fn far_command(job: &Job, here: &Path, there: &Path, program: Option<&str>, before: &str) -> String {
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
    format!("{before}exec env{words} \"$@\" {}\n", command_words(&job.command))
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
        // What has ended and is here needs no machine any more.
        if folder.join(format!("{name}.end")).exists() || !folder.join(format!("{name}.there")).exists() {
            return Ok(None);
        }
        if self.is_given_back() {
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
        let reached = match self.reach(true) {
            // That nobody answers is told, or waited out, when the job is submitted.
            Err(Fault::Silent(_)) => return Ok(()),
            other => other?,
        };
        self.at_site(&reached, |site| queue.can_meet(site, needs, Path::new(&reached.folder)))
    }

    fn try_way(&self) -> Result<(), Fault> {
        let Some(way) = &self.way else { return Ok(()) };
        let reached = self.reach(true)?;
        let program = self.program_there(&reached)?;
        let there = format!("{}/tried", reached.folder);
        self.put_by(way, &reached, &[], (&there, program.as_deref()))?;
        reached.remote.ask(&format!("rm -rf {}", shell_word(&there))).map(drop)
    }

    fn most_together(&self) -> usize {
        self.queue.as_ref().map_or(1, |queue| queue.most_together())
    }

    fn take_back(&self, name: &str, folder: &Path) -> Result<(), Fault> {
        let path = folder.join(format!("{name}.there"));
        let there: Option<There> = std::fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        let Some(there) = there.filter(|_| !self.is_given_back()) else { return Ok(()) };
        self.reach(false)?.remote.ask(&far::take_back(&there.folder, name)).map(drop)
    }

    fn look(&self, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault> {
        let reached = self.reach(false)?;
        let told = match &self.queue {
            Some(queue) => self.at_site(&reached, |site| queue.look(site, jobs))?,
            None => BTreeMap::new(),
        };
        let mut text = far::look_begin(&reached.folder);
        let (mut asked, mut given): (Vec<(&Known, There)>, Vec<PathBuf>) = Default::default();
        for job in jobs {
            let Some(there) = there_of(job) else { continue };
            let log = size_of(&job.folder, "log").saturating_sub(there.before.0);
            let signals = size_of(&job.folder, "signals").saturating_sub(there.before.1);
            text.push_str(&far::look(&there.folder, &job.name, log, signals));
            for (path, name, answer) in answers_to(job) {
                text.push_str(&far::answer(&there.folder, &name, &answer));
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
            self.take_in(&reached, job, there, said.log, said.signals)?;
            if self.queue.is_some() {
                if let Some(told) = self.stand_queued(&reached, (job, there), &said, told.get(&job.number))? {
                    found.insert(job.number.clone(), told);
                }
                continue;
            }
            let stand = match said.state {
                "over" => {
                    // What it printed last may have come after this look began.
                    if !said.is_whole {
                        found.insert(job.number.clone(), Told { stand: Stand::Running, words: "over".to_string() });
                        continue;
                    }
                    self.bring(&reached, job, there)?;
                    Stand::Over
                }
                "waiting" => Stand::Waiting,
                "lost" => Stand::Ended(Cause::Node),
                _ => Stand::Running,
            };
            found.insert(job.number.clone(), Told { stand, words: said.state.to_string() });
        }
        Ok(found)
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

    fn cancel(&self, job: &Known, how: Cancel) -> Result<(), Fault> {
        let Some(there) = there_of(job) else { return Ok(()) };
        let reached = self.reach(false)?;
        if let Some(queue) = &self.queue {
            reached.remote.ask(&far::take_back(&there.folder, &job.name)).map(drop)?;
            return self.at_site(&reached, |site| queue.cancel(site, job, how));
        }
        let signal = if how == Cancel::Ask { "INT" } else { "KILL" };
        reached.remote.ask(&far::end(&there.folder, &job.name, signal)).map(drop)
    }
}
