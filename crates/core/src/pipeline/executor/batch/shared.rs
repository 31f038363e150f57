//! A queue whose commands are executed on this machine, with a folder that both sides see.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::engine::{Engine, Fault, Placed, Queue, Site, Submission, Told, ask_for};
use super::job::Known;
use super::script::script;
use crate::config::manifest::Needs;
use crate::fsio::{self, IoError};
use crate::pipeline::executor::Cancel;

/// A queue that sees this machine's folders.
pub struct SharedEngine {
    queue: Box<dyn Queue>,
    /// A folder of the project's that both sides see; none where only one job is tried.
    state: Option<PathBuf>,
}

fn refused(e: IoError) -> Fault {
    Fault::Refused(e.to_string())
}

impl SharedEngine {
    /// Over this queue.
    pub fn new(queue: Box<dyn Queue>, state: Option<&Path>) -> SharedEngine {
        SharedEngine { queue, state: state.map(Path::to_path_buf) }
    }

    fn at_site<T>(&self, ask: impl FnOnce(&Site<'_>) -> T) -> T {
        ask(&Site {
            ask: &|words, input, most| ask_for(words, input, most, &|name| self.queue.keeps_variable(name)),
            root: self.state.as_deref().and_then(Path::parent).map(Path::to_path_buf),
            common: self.state.as_ref().map(|state| state.join("arrays")),
            is_far: false,
        })
    }
}

impl Engine for SharedEngine {
    fn kind(&self) -> &'static str {
        self.queue.kind()
    }

    fn describe(&self) -> Result<(String, Vec<String>), Fault> {
        self.at_site(|site| self.queue.describe(site))
    }

    fn can_meet(&self, needs: &Needs, folder: &Path) -> Result<(), Fault> {
        self.at_site(|site| self.queue.can_meet(site, needs, folder))
    }

    fn most_together(&self) -> usize {
        if self.state.is_some() { self.queue.most_together() } else { 1 }
    }

    fn submit(&self, jobs: &[Submission]) -> Result<Vec<String>, Fault> {
        if let Some(state) = self.state.as_ref().filter(|_| jobs.len() > 1) {
            fsio::create_folder(&state.join("arrays")).map_err(refused)?;
        }
        let mut placed = Vec::with_capacity(jobs.len());
        for one in jobs {
            let (folder, script) = (one.folder.clone(), script(&one.job.folder, &one.folder, &one.job.log, &one.name, ""));
            let one = Placed { name: one.name.clone(), needs: one.job.needs, here: folder.clone(), folder, script };
            fsio::write_derived(&one.script_path(), one.script.as_bytes()).map_err(refused)?;
            fsio::set_executable(&one.script_path(), true).map_err(refused)?;
            placed.push(one);
        }
        self.at_site(|site| self.queue.submit(site, &placed))
    }

    fn find(&self, name: &str, folder: &Path) -> Result<Option<String>, Fault> {
        self.at_site(|site| self.queue.find(site, name, folder, folder))
    }

    fn look(&self, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault> {
        self.at_site(|site| self.queue.look(site, jobs))
    }

    fn cancel(&self, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>> {
        self.at_site(|site| self.queue.cancel(site, jobs, how))
    }
}
