//! Any engine, by three commands of the manifest: one hands a job over, one says how jobs stand, one ends a job.
//!
//! A part of `submit` in double brackets, `[[ … ]]`, is left out where what it names is not said.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use super::engine::{Cause, Fault, Placed, Queue, Site, Stand, Told, words};
use super::job::Known;
use crate::config::manifest::{EngineCommands, Needs, shell_word};
use crate::pipeline::executor::Cancel;

/// What an engine calls a job is one word of at most so many bytes.
const LONGEST: usize = 200;
/// So long handing a job over may take: one that is cut off may have been handed over all the same.
const LONGEST_SUBMIT: Duration = Duration::from_secs(600);

/// An engine that is known by its commands.
pub struct CommandEngine {
    /// Its commands.
    pub commands: EngineCommands,
}

/// What a word means, in the words of the manifest.
fn meaning(word: &str) -> Option<Stand> {
    Some(match word {
        "waiting" => Stand::Waiting,
        "running" => Stand::Running,
        "over" => Stand::Over,
        "cancelled" => Stand::Ended(Cause::Cancelled),
        "lost" => Stand::Ended(Cause::Node),
        "preempted" => Stand::Ended(Cause::Preempted),
        "time" => Stand::Ended(Cause::Time),
        "memory" => Stand::Ended(Cause::Memory),
        _ => return None,
    })
}

/// A text with what its placeholders stand for, each as a word of a shell; what is not said leaves its brackets out.
fn filled(text: &str, value_of: &dyn Fn(&str) -> Option<String>) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, inner)) = rest.split_once("[[") {
        let Some((inner, after)) = inner.split_once("]]") else { break };
        out.push_str(&in_place(before, value_of).unwrap_or_default());
        out.push_str(&in_place(inner, value_of).unwrap_or_default());
        rest = after;
    }
    // Outside of brackets what is not said is nothing.
    let whole = in_place(rest, &|name| Some(value_of(name).unwrap_or_default()));
    out.push_str(&whole.unwrap_or_default());
    out
}

/// `None` where a placeholder has no value.
fn in_place(text: &str, value_of: &dyn Fn(&str) -> Option<String>) -> Option<String> {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(open) = rest.find('{') {
        let Some(length) = rest[open + 1..].find('}') else { break };
        let name = &rest[open + 1..open + 1 + length];
        let is_name = !name.is_empty() && name.bytes().all(|b| b.is_ascii_lowercase()) && !rest[..open].ends_with('$');
        if is_name {
            out.push_str(&rest[..open]);
            out.push_str(&value_of(name)?);
            rest = &rest[open + length + 2..];
        } else {
            out.push_str(&rest[..=open]);
            rest = &rest[open + 1..];
        }
    }
    out.push_str(rest);
    Some(out)
}

fn needs_value(needs: &Needs, name: &str) -> Option<String> {
    match name {
        "cpus" => Some(needs.cpus.to_string()),
        "memory" => (needs.memory > 0).then(|| needs.memory.div_ceil(1 << 20).to_string()),
        "gpus" => (needs.gpus > 0).then(|| needs.gpus.to_string()),
        "minutes" => needs.time.map(|seconds| seconds.div_ceil(60).max(1).to_string()),
        "seconds" => needs.time.map(|seconds| seconds.to_string()),
        _ => None,
    }
}

/// A command as it is executed, in the project's folder or that of the other machine.
fn shell(site: &Site<'_>, text: &str) -> Vec<String> {
    let Some(root) = &site.root else { return words(&["/bin/sh", "-c", text]) };
    let root = shell_word(&root.display().to_string());
    // Somebody may tidy up there while jobs are at work.
    let there = if site.is_far { format!("mkdir -p {root} && ") } else { String::new() };
    words(&["/bin/sh", "-c", &format!("{there}cd {root} || exit 1\n{text}")])
}

/// What an engine printed as the name of a job: the first word of its last line.
fn called(said: &str) -> Result<String, Fault> {
    let last = said.lines().rev().map(str::trim).find(|l| !l.is_empty()).unwrap_or_default();
    let word = last.split_whitespace().next().unwrap_or_default();
    let fine = !word.is_empty() && word.len() <= LONGEST && word.chars().all(|c| c.is_ascii_graphic());
    let wrong =
        || Fault::Refused(format!("`submit` printed {:?}, which is no name of a job", last.chars().take(100).collect::<String>()));
    fine.then(|| word.to_string()).ok_or_else(wrong)
}

impl Queue for CommandEngine {
    fn kind(&self) -> &'static str {
        "command"
    }

    fn describe(&self, _site: &Site<'_>) -> Result<(String, Vec<String>), Fault> {
        // It has no word for that; a trivial job tells whether it can be used.
        Ok(("by its commands".into(), Vec::new()))
    }

    fn submit(&self, site: &Site<'_>, jobs: &[Placed]) -> Result<Vec<String>, Fault> {
        let mut all = Vec::new();
        for one in jobs {
            let word = |path: &Path| shell_word(&path.display().to_string());
            let value_of = |name: &str| match name {
                "script" => Some(word(&one.script_path())),
                "folder" => Some(word(&one.folder)),
                "name" => Some(one.name.clone()),
                other => needs_value(&one.needs, other),
            };
            let order = filled(&self.commands.submit, &value_of);
            // The answer is kept by the command itself: it is not lost with this process.
            let file = |what: &str| one.folder.join(format!("{}.{what}", one.name));
            let (part, kept) = (file("part-called"), file("called"));
            let text = format!("({order}\n) > {0} && mv {0} {1} && cat {1}", word(&part), word(&kept));
            let said = (site.ask)(&shell(site, &text), None, LONGEST_SUBMIT).map_err(|fault| match fault {
                Fault::Refused(why) => Fault::Refused(format!("`submit` did not succeed: {why}")),
                silent => silent,
            })?;
            all.push(called(&said)?);
        }
        Ok(all)
    }

    fn find(&self, site: &Site<'_>, name: &str, folder: &Path, _here: &Path) -> Result<Option<String>, Fault> {
        let word = |what: &str| shell_word(&folder.join(format!("{name}.{what}")).display().to_string());
        let text = format!(
            "if [ -e {0} ]; then cat {0}; elif [ -e {1} ] && ! [ -e {2} ]; then printf '\\001'; fi; true",
            word("called"),
            word("begun"),
            word("end")
        );
        let said = site.ask(&shell(site, &text), None)?;
        match said.trim_ascii() {
            "" => Ok(None),
            // It was handed over, and nobody knows what it is called.
            "\u{1}" => Err(Fault::Silent("what the engine calls it was not kept, and it has not ended".into())),
            _ => called(&said).map(Some),
        }
    }

    fn look(&self, site: &Site<'_>, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault> {
        let list = jobs.iter().map(|k| shell_word(&k.number)).collect::<Vec<_>>().join(" ");
        let order = filled(&self.commands.state, &|name| (name == "jobs").then(|| list.clone()));
        // One that does not succeed has not said anything.
        let said = site.ask(&shell(site, &order), None).map_err(|e| Fault::Silent(e.words().to_string()))?;
        let mut found = BTreeMap::new();
        for line in said.lines() {
            let mut parts = line.split_whitespace();
            let (Some(number), Some(state)) = (parts.next(), parts.next()) else { continue };
            let own = self.commands.words.iter().find(|(word, _)| word == state).map(|(_, meaning)| meaning.as_str());
            // Also what nobody knows: it does not end a wait.
            let stand = meaning(own.unwrap_or(state)).unwrap_or(Stand::Running);
            let rest: Vec<&str> = parts.take(12).collect();
            let said = if rest.is_empty() { state.to_string() } else { format!("{state}, {}", rest.join(" ")) };
            found.insert(number.to_string(), Told { stand, words: said });
        }
        Ok(found)
    }

    fn cancel(&self, site: &Site<'_>, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>> {
        jobs.iter().map(|job| self.cancel_one(site, job, how)).collect()
    }
}

impl CommandEngine {
    fn cancel_one(&self, site: &Site<'_>, job: &Known, how: Cancel) -> Result<(), Fault> {
        let number = shell_word(&job.number);
        let signal = if how == Cancel::Ask { "INT" } else { "KILL" };
        let order = filled(&self.commands.cancel, &|name| match name {
            "job" => Some(number.clone()),
            "signal" => Some(signal.to_string()),
            _ => None,
        });
        match site.ask(&shell(site, &order), None) {
            // One that has ended meanwhile cannot be ended, which engines say in their own ways.
            Err(Fault::Refused(_)) if job.left().is_some() => Ok(()),
            other => other.map(drop),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::filled;

    #[test]
    fn what_is_not_said_leaves_its_brackets_out() {
        let value = |name: &str| match name {
            "script" => Some("'a b.sh'".to_string()),
            "cpus" => Some("2".to_string()),
            _ => None,
        };
        let cases = [
            ("qsub -n {cpus} {script}", "qsub -n 2 'a b.sh'"),
            ("qsub[[ -m {memory}]] [[-n {cpus} ]]{script}", "qsub -n 2 'a b.sh'"),
            ("q {memory}|{script}", "q |'a b.sh'"),
            ("q ${cpus} {not a name} { {cpus} }", "q ${cpus} {not a name} { 2 }"),
            ("q [[ {cpus}", "q [[ 2"),
            ("if [[ -e x ]]; then", "if  -e x ; then"),
        ];
        for (text, wanted) in cases {
            assert_eq!(filled(text, &value), wanted);
        }
    }
}
