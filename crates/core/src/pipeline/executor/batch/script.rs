//! What a job is given to execute, and what it leaves: files beside its log, called as the job is.

use std::path::Path;

use crate::config::manifest::shell_word;
use crate::pipeline::executor::{Job, JobCommand};

/// The command with its whole environment, for a file of its own: engines keep and show the scripts that they are given,
/// and there are secrets among the variables.
pub fn command_file(job: &Job) -> String {
    let variables: String =
        job.variables.iter().map(|(name, value)| format!(" {}", shell_word(&format!("{name}={value}")))).collect();
    format!("exec env -i{variables} \"$@\" {}\n", command_words(&job.command))
}

/// A command as words of a shell.
pub fn command_words(command: &JobCommand) -> String {
    command.clone().into_words().iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" ")
}

/// What one job is given: where it works, what it executes, and what is left of it; `first` stands before all that.
pub fn script(work: &Path, folder: &Path, log: &Path, name: &str, first: &str) -> String {
    let word = |path: &Path| shell_word(&path.display().to_string());
    let (work, here, log) = (word(work), word(folder), word(log));
    format!(
        r#"#!/bin/sh
# What tells it to end tells its command too, whose exit status is then still to be written.
trap : INT TERM
cd {here} || exit 125
# Taken back before it began, by somebody who did not know what it is called.
[ -e {name}.revoked ] && exit 125
{first}# The graphics processors that it was given, what they are and by which driver.
g=${{CUDA_VISIBLE_DEVICES:-}}
[ -n "$g" ] && command -v nvidia-smi > /dev/null && g="$g: $(nvidia-smi --query-gpu=name,driver_version --format=csv,noheader 2> /dev/null | sort -u | head -n 2 | tr '\n' ';' | cut -c -150)"
{{ echo "${{SLURMD_NODENAME:-$(uname -n)}}"; echo "${{SLURM_JOB_ID:-}}"; sed -n 's/^model name[^:]*: *//p' /proc/cpuinfo | head -n 1; echo "$g"; date +%s.%N; }} > {name}.part && mv {name}.part {name}.begun
cd {work} || {{ echo 125 > {here}/{name}.end; exit 125; }}
# Graphics processors that were given to the job, and nothing else of the engine's.
set -- ${{CUDA_VISIBLE_DEVICES:+"CUDA_VISIBLE_DEVICES=$CUDA_VISIBLE_DEVICES"}}
/bin/sh {here}/{name}.command "$@" >> {log} 2>&1 < /dev/null
code=$?
# What the command has left running is of the same process group, and ends with it.
trap '' TERM
[ "$(ps -o pgid= -p $$ | tr -d ' ')" = $$ ] && kill -TERM 0
echo "$code $(date +%s.%N)" > {here}/{name}.part && mv {here}/{name}.part {here}/{name}.end
exit $code
"#
    )
}
