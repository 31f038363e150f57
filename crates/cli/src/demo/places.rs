//! The fourth act: the same pipeline on a cluster.

use super::Step;

/// A small engine, for machines without a cluster.
pub const ENGINE: (&str, &str) = ("shed/engine.sh", include_str!("../../assets/demo/shed/engine.sh"));

const SLURM: &str = "printf '%s\\n' '' '[place.cluster]' 'kind    = \"slurm\"' 'retries = 2' >> textum.toml";
const BY_COMMANDS: &str = r#"cat >> textum.toml <<'END'

[place.cluster]
kind    = "command"
submit  = "sh shed/engine.sh .textum/engine submit {script}"
state   = "sh shed/engine.sh .textum/engine state {jobs}"
cancel  = "sh shed/engine.sh .textum/engine cancel {job} {signal}"
words   = { Q = "waiting", R = "running", C = "over", X = "cancelled" }
retries = 2
END"#;

/// The fourth act, in order; with the cluster that is there, or an engine that the demo brings.
pub fn place_story(slurm: bool) -> Vec<Step> {
    use Step::{Git, Lost, Say, Shell, Textum};
    let (what, declare) = match slurm {
        true => ("This machine outgrown, the lab's cluster is next: Slurm, which sees the same folder.", SLURM),
        false => (
            "This machine outgrown, a bigger one is next. There is no Slurm here; a small engine stands in for it, known by three commands.",
            BY_COMMANDS,
        ),
    };
    vec![
        Say("The pipeline as it is, on this machine."),
        Textum(&["run"]),
        Say(what),
        Shell(declare),
        Git("git add --all; git commit --quiet --message 'A place to grow'"),
        Textum(&["place", "check"]),
        Say("Where a result is made counts for nothing: what was made here is up to date there."),
        Textum(&["run", "--place", "cluster"]),
        Say("Another rate is another result. The same command, the same promises, another place."),
        Textum(&["run", "--place", "cluster", "--set", "fit.rate=0.1"]),
        Textum(&["show", "last"]),
        Say("A longer training goes on in the background. Then the machine that submitted it is lost: here its process is killed."),
        Lost(&["run", "--detach", "--place", "fit=cluster", "--set", "fit.rounds=200", "--set", "fit.rate=0.02"]),
        Textum(&["runs"]),
        Say("The job goes on. It is taken up, not executed a second time, and what it said meanwhile is heard."),
        Textum(&["resume"]),
        Say("Which models were made there?"),
        Textum(&["runs", "--where", "place = cluster"]),
        Textum(&["verify"]),
    ]
}
