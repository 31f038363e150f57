//! The Slurm Workload Manager as an engine, through its commands `sbatch`, `squeue`, `scancel` and `sinfo`.
//!
//! Jobs of the same needs that are submitted together are one array. States: `man squeue`, "job state codes".

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::engine::{Cause, Fault, Placed, Queue, Site, Stand, Told, words};
use super::job::{Known, is_ours, new_name};
use crate::config::manifest::{Needs, shell_word};
use crate::fsio;
use crate::pipeline::executor::{Cancel, JobState};

/// So many jobs in one array: engines allow 1,001 unless they are told otherwise (`MaxArraySize`).
const ARRAY: usize = 500;

/// A Slurm cluster.
pub struct Slurm {
    /// Options of the manifest, each a word of `sbatch`.
    pub options: Vec<String>,
}

/// Whether an error says that the engine could not be reached, rather than that it refuses.
fn is_silence(error: &str) -> bool {
    const SIGNS: [&str; 8] = [
        "Unable to contact slurm controller",
        "Socket timed out",
        "Connection refused",
        "Zero Bytes were transmitted",
        "Transport endpoint is not connected",
        "Connection timed out",
        "Unexpected message received",
        "Protocol authentication error",
    ];
    SIGNS.iter().any(|sign| error.contains(sign))
}

/// Whether an error says that there is no room for more jobs: of this user, of an account, of a quality of service, of all.
fn is_full(error: &str) -> bool {
    const SIGNS: [&str; 6] = [
        "MaxSubmitJob",
        "SubmitJobsLimit",
        "temporarily unable to accept job",
        "job queue full",
        "Job creation temporarily disabled",
        "Resource temporarily unavailable",
    ];
    SIGNS.iter().any(|sign| error.contains(sign))
}

fn slurm(site: &Site<'_>, words: &[String], input: Option<&str>) -> Result<String, Fault> {
    site.ask(words, input.map(str::as_bytes)).map_err(|fault| match fault {
        Fault::Refused(why) if is_silence(&why) => Fault::Silent(why),
        other => other,
    })
}

/// What a job's state means.
fn stand(state: &str) -> Stand {
    match state {
        "COMPLETED" | "FAILED" => Stand::Over,
        "TIMEOUT" | "DEADLINE" => Stand::Ended(Cause::Time),
        "OUT_OF_MEMORY" => Stand::Ended(Cause::Memory),
        "NODE_FAIL" | "BOOT_FAIL" => Stand::Ended(Cause::Node),
        "PREEMPTED" => Stand::Ended(Cause::Preempted),
        "CANCELLED" | "REVOKED" => Stand::Ended(Cause::Cancelled),
        "PENDING" | "CONFIGURING" | "REQUEUED" | "REQUEUE_FED" | "REQUEUE_HOLD" => Stand::Waiting,
        // Also what nobody knows: it does not end a wait.
        _ => Stand::Running,
    }
}

impl Slurm {
    fn submission(&self, needs: &Needs, name: &str, folder: &Path, output: &str) -> Vec<String> {
        let mut all = words(&["sbatch", "--parsable", "--no-requeue", "--open-mode=append"]);
        // What `sbatch` has itself: here little of a person's, see `keeps_variable`; there what whoever logs in there has.
        all.push("--export=ALL".to_string());
        all.push(format!("--job-name={name}"));
        all.push(format!("--chdir={}", folder.display()));
        // What the engine itself says of the job, its end by force for example.
        all.push(format!("--output={output}"));
        all.push(format!("--cpus-per-task={}", needs.cpus));
        if needs.memory > 0 {
            all.push(format!("--mem={}M", needs.memory.div_ceil(1 << 20)));
        }
        if needs.gpus > 0 {
            all.push(format!("--gpus={}", needs.gpus));
        }
        if let Some(seconds) = needs.time {
            all.push(format!("--time={}", seconds.div_ceil(60).max(1)));
        }
        all.extend(self.options.iter().cloned());
        all
    }

    fn number(said: &str) -> Result<u64, Fault> {
        let number = said.trim().split(';').next().and_then(|n| n.parse().ok());
        number.ok_or_else(|| Fault::Refused(format!("sbatch answered {:?}, which is no number of a job", said.trim())))
    }

    /// One job, under its own name.
    fn submit_one(&self, site: &Site<'_>, one: &Placed) -> Result<Vec<String>, Fault> {
        let output = one.folder.join(format!("{}.cluster.log", one.name)).display().to_string();
        let all = self.submission(&one.needs, &one.name, &one.folder, &output);
        Ok(vec![self.hand_over(site, &all, &one.script, &one.name)?.to_string()])
    }

    /// The number of what `sbatch` submits by these words under this name.
    fn hand_over(&self, site: &Site<'_>, all: &[String], script: &str, name: &str) -> Result<u64, Fault> {
        match slurm(site, all, Some(script)) {
            Ok(said) => Slurm::number(&said),
            Err(Fault::Refused(why)) if is_full(&why) => Err(Fault::Full(why)),
            Err(Fault::Refused(why)) if why.contains("Invalid job array specification") => Err(Fault::TooMany(why)),
            // It tries again by itself, for longer than it is waited for: whether it came through is asked.
            Err(Fault::Silent(why)) if is_full(&why) => Slurm::numbered(site, name)?.ok_or(Fault::Full(why)),
            Err(e) => Err(e),
        }
    }

    /// The number of what was submitted under this name.
    fn numbered(site: &Site<'_>, name: &str) -> Result<Option<u64>, Fault> {
        let all = words(&["squeue", "--noheader", "--states=all", "--format=%F", &format!("--name={name}")]);
        Ok(slurm(site, &all, None)?.lines().next().and_then(|l| l.trim().parse().ok()))
    }

    /// Many as one array, under a name of its own that stands beside each.
    fn submit_array(&self, site: &Site<'_>, jobs: &[Placed], common: &Path) -> Result<Vec<String>, Fault> {
        let refused = |e: fsio::IoError| Fault::Refused(e.to_string());
        let name = new_name();
        let mut cases = String::new();
        for (at, one) in jobs.iter().enumerate() {
            fsio::write_derived(&one.here.join(ARRAY_NAME), format!("{name}_{at}").as_bytes()).map_err(refused)?;
            cases.push_str(&format!("{at}) exec /bin/sh {};;\n", shell_word(&one.script_path().display().to_string())));
        }
        let text = format!("#!/bin/sh\ncase $SLURM_ARRAY_TASK_ID in\n{cases}esac\nexit 125\n");
        let Some(first) = jobs.first() else { return Ok(Vec::new()) };
        // The folders of the jobs come and go one by one: what they have in common cannot lie in one of them.
        let mut all = self.submission(&first.needs, &name, common, "/dev/null");
        all.push(format!("--array=0-{}", jobs.len() - 1));
        let number = self.hand_over(site, &all, &text, &name)?;
        Ok((0..jobs.len()).map(|at| format!("{number}_{at}")).collect())
    }
}

/// In the folder of a job that was submitted in an array: the array's name and the job's place in it.
const ARRAY_NAME: &str = "submitted-array";

impl Queue for Slurm {
    fn kind(&self) -> &'static str {
        "slurm"
    }

    fn describe(&self, site: &Site<'_>) -> Result<(String, Vec<String>), Fault> {
        let version = slurm(site, &words(&["sinfo", "--version"]), None)?;
        let format = "--format=%P  %D nodes %T, %c processors and %m MB each, %G, at most %l";
        let partitions = slurm(site, &words(&["sinfo", "--noheader", format]), None)?;
        Ok((version.trim().to_string(), partitions.lines().map(|l| l.trim().replace(", (null)", "")).collect()))
    }

    fn can_meet(&self, site: &Site<'_>, needs: &Needs, folder: &Path) -> Result<(), Fault> {
        let mut all = self.submission(needs, "textum", folder, "/dev/null");
        all.push("--test-only".to_string());
        match slurm(site, &all, Some("#!/bin/sh\ntrue\n")) {
            // That nobody answers is told, or waited out, when it is submitted.
            // Nor is what has no room now what never fits.
            Err(Fault::Refused(e)) if !e.contains("cannot be started") && !e.ends_with("not found") && !is_full(&e) => {
                Err(Fault::Refused(e))
            }
            _ => Ok(()),
        }
    }

    fn most_together(&self) -> usize {
        ARRAY
    }

    fn submit(&self, site: &Site<'_>, jobs: &[Placed]) -> Result<Vec<String>, Fault> {
        match (jobs, &site.common) {
            ([one], _) => self.submit_one(site, one),
            (many, Some(common)) => self.submit_array(site, many, common),
            (_, None) => Err(Fault::Refused("jobs are submitted one by one here".into())),
        }
    }

    fn find(&self, site: &Site<'_>, name: &str, _folder: &Path, here: &Path) -> Result<Option<String>, Fault> {
        if let Some(number) = Slurm::numbered(site, name)? {
            return Ok(Some(number.to_string()));
        }
        let array = std::fs::read_to_string(here.join(ARRAY_NAME)).unwrap_or_default();
        let Some((array, at)) = array.trim().split_once('_').filter(|(array, _)| is_ours(array)) else { return Ok(None) };
        let Ok(at) = at.parse::<u32>() else { return Ok(None) };
        Ok(Slurm::numbered(site, array)?.map(|number| format!("{number}_{at}")))
    }

    fn look(&self, site: &Site<'_>, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault> {
        // An array is asked for as a whole: the numbers of ten thousand jobs would not fit on a command line.
        let numbers = jobs.iter().filter_map(|k| k.number.split('_').next()).filter(|n| n.parse::<u64>().is_ok());
        let numbers: BTreeSet<&str> = numbers.collect();
        if numbers.is_empty() {
            return Ok(BTreeMap::new());
        }
        let list = numbers.into_iter().collect::<Vec<_>>().join(",");
        let all = words(&["squeue", "--noheader", "--states=all", "--array", "--format=%i|%j|%T|%r|%S", &format!("--jobs={list}")]);
        let said = match slurm(site, &all, None) {
            Ok(said) => said,
            // Of jobs that it has forgotten, all of them, it says that there are none such.
            Err(Fault::Refused(e)) if e.contains("Invalid job id") => String::new(),
            Err(e) => return Err(e),
        };
        let names: BTreeMap<&str, &str> = jobs.iter().map(|k| (k.number.as_str(), k.name.as_str())).collect();
        // An array has a name of its own.
        let is_this = |number: &str, name: &str| match number.contains('_') {
            true => is_ours(name),
            false => names.get(number).is_none_or(|of| *of == name),
        };
        let mut found = BTreeMap::new();
        for line in said.lines() {
            let mut parts = line.trim().splitn(5, '|');
            let (Some(number), Some(name), Some(state)) = (parts.next(), parts.next(), parts.next()) else { continue };
            // A controller that lost what it knew counts from an earlier number again: that job is another's.
            if !is_this(number, name) {
                continue;
            }
            let reason = parts.next().unwrap_or_default();
            let mut words = if reason.is_empty() || reason == "None" { state.to_string() } else { format!("{state}, {reason}") };
            let start = parts.next().filter(|start| state == "PENDING" && start.starts_with(|c: char| c.is_ascii_digit()));
            words.extend(start.map(|start| format!(", may begin at {start}")));
            found.insert(number.to_string(), Told { stand: stand(state), words });
        }
        Ok(found)
    }

    fn cancel(&self, site: &Site<'_>, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>> {
        let mut done = vec![Ok(()); jobs.len()];
        for running in [true, false] {
            let same: Vec<usize> = (0..jobs.len()).filter(|at| (jobs[*at].state == JobState::Running) == running).collect();
            for some in same.chunks(IN_ONE_ORDER) {
                let numbers: Vec<&str> = some.iter().map(|at| jobs[*at].number.as_str()).collect();
                let told = end_by(site, &numbers, running, how);
                some.iter().for_each(|at| done[*at] = told.clone());
            }
        }
        done
    }

    /// The environment that `sbatch` has is the job's, which its script puts aside, and it is kept by the engine: nothing else
    /// of what a person has set comes there. (`--export=NIL` has the node read the person's login files for each job.)
    fn keeps_variable(&self, name: &str) -> bool {
        const NAMES: [&str; 8] = ["PATH", "HOME", "USER", "LOGNAME", "LANG", "TZ", "LD_LIBRARY_PATH", "KRB5CCNAME"];
        const BEGINNINGS: [&str; 7] = ["SLURM_", "SBATCH_", "SQUEUE_", "SCANCEL_", "SINFO_", "MUNGE_", "LC_"];
        NAMES.contains(&name) || BEGINNINGS.iter().any(|beginning| name.starts_with(beginning))
    }
}

/// So many jobs are ended by one order.
const IN_ONE_ORDER: usize = 200;

/// Ends jobs that are all at work, or all wait.
fn end_by(site: &Site<'_>, numbers: &[&str], running: bool, how: Cancel) -> Result<(), Fault> {
    let order = |options: &[&str]| words(&[&["scancel"], options, numbers].concat());
    // The whole job hears it, also what the script has started.
    let orders = match (how, running) {
        (Cancel::Ask, true) => vec![order(&["--full", "--signal=INT"])],
        (Cancel::AtOnce, true) => vec![order(&["--full", "--signal=KILL"]), order(&[])],
        (_, false) => vec![order(&[])],
    };
    for order in orders {
        match slurm(site, &order, None) {
            Ok(_) => {}
            Err(Fault::Refused(e))
                if e.contains("Invalid job id") || e.contains("already complet") || e.contains("not running") => {}
            Err(e) => return Err(e),
        }
    }
    Ok(())
}
