//! A queue that is reached through a login machine: nothing is shared with this one. Files go and come as with any machine by
//! SSH; what carries a job out, and when, is the queue's, whose commands are executed there.

use std::path::{Path, PathBuf};

use super::engine::{Fault, Placed, Queue, Site, Stand, Submission, Told};
use super::far::{self, Said};
use super::job::Known;
use super::machine::{Reached, SshEngine};
use super::transfer::There;

/// So many jobs at most are handed over in one call: all that they read is there before the first of them can begin.
pub(super) const TOGETHER: usize = 40;

/// What a job is called whose queue has forgotten it, while what it left is there.
pub(super) const FORGOTTEN: &str = "-";

impl SshEngine {
    /// Asks a queue, by commands on the machine.
    pub(super) fn at_site<T>(&self, reached: &Reached, ask: impl FnOnce(&Site<'_>) -> T) -> T {
        let folder = PathBuf::from(&reached.folder);
        ask(&Site {
            ask: &|words, input, most| reached.remote.ask_words(words, input, most),
            common: Some(folder.join("arrays")),
            root: Some(folder),
            is_far: true,
        })
    }

    /// Sends what jobs of the same needs read, then hands them over in one call.
    pub(super) fn submit_queued(&self, queue: &dyn Queue, reached: &Reached, jobs: &[Submission]) -> Result<Vec<String>, Fault> {
        let place = |one: &Submission| {
            let placed = self.place(reached, one)?;
            reached.remote.ask(&far::queue(&reached.folder, &one.name))?;
            Ok(placed)
        };
        let sent: Vec<Result<Placed, Fault>> = std::thread::scope(|scope| {
            let sending: Vec<_> = jobs.iter().map(|one| scope.spawn(|| place(one))).collect();
            let ended = || Err(Fault::Silent("what was to be sent was not".into()));
            sending.into_iter().map(|one| one.join().unwrap_or_else(|_| ended())).collect()
        });
        let placed = sent.into_iter().collect::<Result<Vec<Placed>, Fault>>()?;
        self.at_site(reached, |site| queue.submit(site, &placed))
    }

    /// What a job is called there; one that the queue has forgotten is found by what it left.
    pub(super) fn find_queued(
        &self,
        queue: &dyn Queue,
        reached: &Reached,
        name: &str,
        here: &Path,
    ) -> Result<Option<String>, Fault> {
        let run = PathBuf::from(reached.of(name)).join("run");
        if let Some(number) = self.at_site(reached, |site| queue.find(site, name, &run, here))? {
            return Ok(Some(number));
        }
        let begun = reached.remote.ask_text(&far::was_begun(&reached.folder, name))?;
        Ok((begun.trim() == "yes").then(|| FORGOTTEN.to_string()))
    }

    /// How a job stands by what its queue said and by what has come from it; nothing where neither knows of it.
    pub(super) fn stand_queued(
        &self,
        reached: &Reached,
        (job, there): (&Known, &There),
        said: &Said<'_>,
        by_queue: Option<&Told>,
    ) -> Result<Option<Told>, Fault> {
        if said.state == "over" {
            if !said.is_whole {
                // What it printed comes first.
                let words = by_queue.map_or_else(|| "over".to_string(), |told| told.words.clone());
                return Ok(Some(Told { stand: Stand::Running, words }));
            }
            self.bring(reached, job, there)?;
            let over = || Told { stand: Stand::Over, words: "over".to_string() };
            return Ok(Some(by_queue.cloned().unwrap_or_else(over)));
        }
        // Of one that was ended by force only that can be told.
        let is_over = by_queue.is_some_and(|told| matches!(told.stand, Stand::Over | Stand::Ended(_)));
        if is_over && job.left().is_none() {
            self.bring_ends(reached, job)?;
        }
        let left = || job.left().map(|_| Told { stand: Stand::Over, words: "over".to_string() });
        Ok(by_queue.cloned().or_else(left))
    }
}
