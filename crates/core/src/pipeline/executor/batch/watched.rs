//! Jobs that are observed where nothing is shared: this program there is given an order, and what it saw is brought back.

use std::path::Path;

use super::engine::{Fault, Submission};
use super::machine::refused;
use crate::fsio;
use crate::pipeline::executor::JobCommand;
use crate::project::observed::{AWAY_WORD, SeenAway};

/// Beside the log of a job: what it was seen to do, as it was said there.
pub const SEEN_AWAY: &str = "seen.json";

/// The name of the order in the folder of a job's log there.
pub(super) const ORDER: &str = "order.json";

/// The command of a job with this program before it, where it is to be observed; and the order that the program is given.
/// `run` is the folder of its log there.
pub(super) fn watched(one: &Submission, run: &Path, program: Option<&str>) -> Result<(JobCommand, Option<Vec<u8>>), Fault> {
    let Submission { job, name, folder } = one;
    let seen = folder.join(SEEN_AWAY);
    // What an order that was lost has said is not of this one.
    fsio::remove_any(&seen).map_err(refused)?;
    let Some(order) = &job.away else { return Ok((job.command.clone(), None)) };
    let Some(program) = program else {
        let why = "Textum's program, which is brought there, cannot be executed there";
        if order.sealed {
            return Err(Fault::Refused(format!("it is sealed, and {why}: nothing there can seal it")));
        }
        let text = serde_json::to_vec(&SeenAway::nothing(why)).map_err(|e| Fault::Refused(e.to_string()))?;
        fsio::write_derived(&seen, &text).map_err(refused)?;
        return Ok((job.command.clone(), None));
    };
    let text = |path: &Path| path.display().to_string();
    let mut words =
        vec![program.to_string(), AWAY_WORD.into(), text(&run.join(ORDER)), text(&run.join(format!("{name}.observed")))];
    words.extend(job.command.clone().into_words());
    let order = serde_json::to_vec(order).map_err(|e| Fault::Refused(e.to_string()))?;
    Ok((JobCommand::Argv(words), Some(order)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::manifest::Needs;
    use crate::pipeline::executor::Job;
    use crate::project::observed::{AwayOrder, read_seen_away};

    fn order(sealed: bool) -> AwayOrder {
        AwayOrder { sealed, ..AwayOrder::default() }
    }

    #[test]
    fn what_cannot_be_observed_says_so_and_what_cannot_be_sealed_is_not_executed() {
        let folder = tempfile::tempdir().unwrap();
        let of = |away: Option<AwayOrder>| Submission {
            job: Job {
                command: JobCommand::Shell("echo 'a b'".into()),
                folder: folder.path().join("work"),
                variables: Vec::new(),
                log: folder.path().join("log"),
                needs: Needs { cpus: 1, memory: 0, gpus: 0, time: None },
                place: Some("box".into()),
                declared: Vec::new(),
                inputs: Vec::new(),
                outputs: Vec::new(),
                checkpoints: None,
                away,
            },
            name: "textum-0000000000000000".into(),
            folder: folder.path().to_path_buf(),
        };
        let (run, seen) = (Path::new("/there/run"), folder.path().join(SEEN_AWAY));
        let plain = JobCommand::Shell("echo 'a b'".into());
        assert_eq!(watched(&of(Some(order(false))), run, None).unwrap(), (plain.clone(), None));
        let said = read_seen_away(&seen).unwrap();
        assert!(said.not_observed.is_some_and(|why| why.contains("cannot be executed there")));
        assert!(
            matches!(watched(&of(Some(order(true))), run, None), Err(Fault::Refused(why)) if why.contains("nothing there can seal it"))
        );
        assert!(!seen.exists(), "what an earlier one has said is not of this one");
        assert_eq!(watched(&of(None), run, Some("/there/textum")).unwrap(), (plain, None));
        let (command, given) = watched(&of(Some(order(true))), run, Some("/there/textum")).unwrap();
        let words = ["/there/textum", AWAY_WORD, "/there/run/order.json", "/there/run/textum-0000000000000000.observed"];
        let words: Vec<String> = words.into_iter().chain(["/bin/sh", "-c", "echo 'a b'"]).map(str::to_string).collect();
        assert_eq!(command, JobCommand::Argv(words));
        assert_eq!(serde_json::from_slice::<AwayOrder>(&given.unwrap()).unwrap(), order(true));
    }
}
