//! What is asked of a machine that is reached by SSH, in the words of its shell, and the answers.

use crate::config::manifest::shell_word;

/// At most so many bytes of a log, or of signals, in one answer.
const BITE: u64 = 8 << 20;

/// Whether the process whose number stands in a file is still the one that was written down: a process that has ended and
/// that nobody waited for has a number but no words, and another may bear its number by now. Of one that is gone the shell
/// itself knows: a machine that many log in to is asked every few seconds.
const ALIVE: &str = r#"alive() { own=; [ -e "$1" ] && read -r own < "$1"
[ -d "/proc/${own:-none}" ] && case $(tr '\0' ' ' < "/proc/$own/cmdline") in *"$2"*) ;; *) false ;; esac; } 2>/dev/null"#;

/// What was fetched for stages goes when nothing was for a month.
const KEEP_FETCHED: &str =
    "if [ -d fetched ] && [ -z \"$(find fetched -maxdepth 1 -name used -mtime -30)\" ]; then rm -rf fetched; fi 2>/dev/null\n";

/// What the machine is.
pub const DESCRIBE: &str = r#"
echo "$(uname -sm)"
echo "$(uname -n), $(getconf _NPROCESSORS_ONLN 2>/dev/null || nproc) processors, $(sed -n 's/^MemTotal: *\([0-9]*\) kB/\1/p' /proc/meminfo | awk '{print int($1/1024)}') MB"
command -v nvidia-smi >/dev/null && nvidia-smi --query-gpu=name,driver_version --format=csv,noheader
for p in tar setsid ps; do command -v $p >/dev/null || echo "$p is not there, and is needed"; done
true
"#;

/// Makes the folder in which all lies, and prints it whole. What jobs have left that nobody asked for in a month goes.
pub fn prepare(folder: &str) -> String {
    format!(
        "umask 077; mkdir -p {0} && cd {0} && pwd -P\n{KEEP_FETCHED}find . -maxdepth 1 -name 'textum-????????????????' -mtime +30 -exec rm -rf {{}} + 2>/dev/null; true\n",
        shell_word(folder)
    )
}

/// Begins a job, once, however often it is asked for; with what ends all jobs when nobody asks for them.
pub fn begin(folder: &str, name: &str, lease: Option<(u64, Option<&str>)>) -> String {
    let watch = lease.map_or(String::new(), |(seconds, lapse)| {
        let every = (seconds / 3).clamp(1, 10);
        let text = format!(
            r#"while sleep {every}; do
[ $(( $(date +%s) - $(stat -c %Y lease) )) -gt {seconds} ] || continue
for p in textum-*/run/*.pid; do [ -e "$p" ] && ! [ -e "${{p%.pid}}.end" ] && kill -s KILL -- "-$(cat "$p")"; done
{}
exit
done"#,
            lapse.unwrap_or("true")
        );
        format!(
            "{ALIVE}\nif ! alive watch.pid watch; then printf '%s\\n' {} > watch; \
             setsid -f /bin/sh -c 'echo $$ > watch.pid; exec /bin/sh watch' > /dev/null 2>&1 < /dev/null; fi\n",
            shell_word(&text)
        )
    });
    format!(
        "cd {0} || exit 1\ntouch lease\n{watch}cd {1}/run || exit 1\nmkdir once 2>/dev/null || exit 0\n\
         setsid -f /bin/sh -c 'echo $$ > {1}.pid; exec /bin/sh {1}.script' > {1}.cluster.log 2>&1 < /dev/null\n",
        shell_word(folder),
        name
    )
}

/// Whether any job is at work there.
pub fn at_work(folder: &str) -> String {
    format!(
        "cd {} || exit 0\n{ALIVE}\nfor p in textum-*/run/*.pid; do n=${{p##*/}}; n=${{n%.pid}}; \
         [ -e \"${{p%.pid}}.end\" ] || ! alive \"$p\" \"$n\" || {{ echo yes; break; }}; done; true\n",
        shell_word(folder)
    )
}

/// A job of a queue begins once, however often it was handed over.
pub const ONCE: &str = "mkdir once 2>/dev/null || exit 125\n";

/// Nothing of a queue's own is in the environment of what it executes.
pub const WITHOUT_QUEUE: &str = r#"for v in $(env | sed -n 's/^\(SLURM[A-Z0-9_]*\)=.*/\1/p'); do unset "$v"; done
"#;

/// Says when a job is handed over, by the clock there.
pub fn queue(folder: &str, name: &str) -> String {
    format!("mkdir -p {0}/arrays && cd {0}/{name}/run && date +%s.%N > {name}.queued\n", shell_word(folder))
}

/// Takes back an order that may still be on its way.
pub fn take_back(folder: &str, name: &str) -> String {
    format!("mkdir -p {0}/run && : > {0}/run/{name}.revoked\n", shell_word(folder))
}

/// Whether a job was begun, or has left anything.
pub fn was_begun(folder: &str, name: &str) -> String {
    format!("cd {}/{name}/run 2>/dev/null && [ -e once ] && echo yes; true\n", shell_word(folder))
}

/// What each question begins with: the lease is renewed, and what follows is known.
pub fn look_begin(folder: &str) -> String {
    format!(
        r#"mkdir -p {0} && cd {0} || exit 1
touch lease
{ALIVE}
# FOLDER NAME BYTES-OF-LOG BYTES-OF-SIGNALS: how it stands, and what is new.
job() {{
cd "$1/run" 2>/dev/null || {{ printf 'job %s lost 0 0 1\n' "$2"; return; }}
if [ -e "$2.end" ]; then s=over
elif [ -e "$2.queued" ]; then s=queued
elif [ ! -e once ]; then s=lost
elif [ ! -e "$2.pid" ]; then s=waiting
elif alive "$2.pid" "$2"; then s=running
elif [ -e "$2.end" ]; then s=over
else s=lost; fi
a=$(stat -c %s log 2>/dev/null || echo 0); b=$(stat -c %s signals 2>/dev/null || echo 0)
a=$((a-$3)); b=$((b-$4)); w=1
[ $a -lt 0 ] && a=0; [ $b -lt 0 ] && b=0
[ $a -gt {BITE} ] && a={BITE} && w=0; [ $b -gt {BITE} ] && b={BITE} && w=0
printf 'job %s %s %s %s %s\n' "$2" $s $a $b $w
[ $a -gt 0 ] && tail -c +$(($3+1)) log | head -c $a
[ $b -gt 0 ] && tail -c +$(($4+1)) signals | head -c $b
:
}}
"#,
        shell_word(folder)
    )
}

/// The question for one job.
pub fn look(folder: &str, name: &str, log: u64, signals: u64) -> String {
    format!("job {} {name} {log} {signals}\n", shell_word(folder))
}

/// Gives a job the answer that it waits for.
pub fn answer(folder: &str, name: &str, answer: &str) -> String {
    let (run, text) = (shell_word(&format!("{folder}/run")), shell_word(answer));
    format!("mkdir -p {run}/answers && printf %s {text} > {run}/answers/.part && mv {run}/answers/.part {run}/answers/{name}\n")
}

/// Tells a job's processes to end.
pub fn end(folder: &str, name: &str, signal: &str) -> String {
    format!(
        "cd {}/run 2>/dev/null || exit 0\n: > {name}.revoked\np=$(cat {name}.pid 2>/dev/null) || exit 0\nkill -s {signal} -- \"-$p\" 2>/dev/null; true\n",
        shell_word(folder)
    )
}

/// What was said of a job.
#[derive(Debug, PartialEq, Eq)]
pub struct Said<'a> {
    /// The job.
    pub name: &'a str,
    /// How it stands.
    pub state: &'a str,
    /// What it printed since.
    pub log: &'a [u8],
    /// What it said since.
    pub signals: &'a [u8],
    /// Whether that is all.
    pub is_whole: bool,
}

/// The answers to a question; whatever does not read as one ends them.
pub fn answers(mut bytes: &[u8]) -> Vec<Said<'_>> {
    let mut found = Vec::new();
    while let Some(end) = memchr::memchr(b'\n', bytes) {
        let Ok(line) = std::str::from_utf8(&bytes[..end]) else { break };
        let words: Vec<&str> = line.split(' ').collect();
        let ["job", name, state, log, signals, whole] = words.as_slice() else { break };
        let (Ok(log), Ok(signals)) = (log.parse::<usize>(), signals.parse::<usize>()) else { break };
        let rest = &bytes[end + 1..];
        let Some(after) = log.checked_add(signals).and_then(|both| rest.get(both..)) else { break };
        let (log, signals) = (&rest[..log], &rest[log..log + signals]);
        found.push(Said { name, state, log, signals, is_whole: *whole == "1" });
        bytes = after;
    }
    found
}

#[cfg(test)]
mod tests {
    #![allow(clippy::disallowed_methods)]

    use std::process::{Command, Stdio};

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn answers_are_read_to_where_they_break_off() {
        let text = b"job a running 3 2 1\nabcxyjob b over 0 0 0\njob c running 9 0 1\nabc";
        let found = answers(text);
        assert_eq!(found.len(), 2);
        assert_eq!((found[0].name, found[0].log, found[0].signals), ("a", &b"abc"[..], &b"xy"[..]));
        assert_eq!((found[1].state, found[1].is_whole), ("over", false));
        assert!(answers(b"job a running 18446744073709551615 1 1\nabc").is_empty());
    }

    #[test]
    fn what_is_asked_is_what_a_shell_reads() {
        let all = [
            prepare("/a b/it's"),
            begin("/a b/it's", "textum-0000000000000000", Some((90, Some("echo 'x y'; poweroff")))),
            at_work("/a b"),
            was_begun("/a b", "textum-0000000000000000"),
            look_begin("/a b") + &look("/a b/c", "textum-0000000000000000", 1, 2),
            answer("/a b", "7x1", "no checkpoint of step 1: it's not there"),
            end("/a b", "textum-0000000000000000", "INT"),
            DESCRIBE.to_string(),
            queue("/a b/it's", "textum-0000000000000000"),
            take_back("/a b/it's", "textum-0000000000000000"),
            format!("{ONCE}{WITHOUT_QUEUE}"),
        ];
        for text in all {
            let ran = Command::new("sh").args(["-n", "-c", &text]).output().unwrap();
            assert!(ran.status.success(), "{text}: {}", String::from_utf8_lossy(&ran.stderr));
        }
    }

    #[test]
    fn a_number_that_a_job_once_had_is_no_job_at_work() {
        let folder = tempfile::tempdir().unwrap();
        let (there, name) = (folder.path().display().to_string(), "textum-0000000000000000");
        let run = folder.path().join(name).join("run");
        std::fs::create_dir_all(run.join("once")).unwrap();
        let ask = |text: String| {
            let ran = Command::new("sh").args(["-c", &text]).output().unwrap();
            assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
            String::from_utf8(ran.stdout).unwrap()
        };
        let stands = || {
            let look = look_begin(&there) + &look(&format!("{there}/{name}"), name, 0, 0);
            (ask(at_work(&there)).trim() == "yes", ask(look).split(' ').nth(2).unwrap().to_string())
        };
        let told = |pid: u32| std::fs::write(run.join(format!("{name}.pid")), pid.to_string()).unwrap();
        assert_eq!(stands(), (false, "waiting".into()));
        told(std::process::id());
        assert_eq!(stands(), (false, "lost".into()), "another process has its number");
        let mut job = Command::new("sh").args(["-c", "read never", name]).stdin(Stdio::piped()).spawn().unwrap();
        told(job.id());
        assert_eq!(stands(), (true, "running".into()));
        std::fs::write(run.join(format!("{name}.end")), "0").unwrap();
        assert_eq!(stands(), (false, "over".into()), "what still goes on after its end is not the job");
        std::fs::remove_file(run.join(format!("{name}.end"))).unwrap();
        job.kill().unwrap();
        // Nobody has waited for it: it has a number still. It has no words from the moment that it has ended.
        while !std::fs::read(format!("/proc/{}/cmdline", job.id())).unwrap().is_empty() {
            std::thread::yield_now();
        }
        assert_eq!(stands(), (false, "lost".into()));
        job.wait().unwrap();
    }

    proptest! {
        #[test]
        fn nonsense_is_no_answer_and_no_end(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            for said in answers(&bytes) {
                prop_assert!(said.log.len() + said.signals.len() <= bytes.len());
            }
        }
    }
}
