//! A person who follows a run at a terminal: what the screen shows at each step, and what keys do.

use std::process::Child;

use serde_json::Value;
use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

/// Runs the program in a pseudo-terminal and keeps its screen. Each step waits until a text is on it, notes the screen, and
/// types keys; a step whose text never comes ends the test. Prints the screens, and the exit status at last.
const HARNESS: &str = r#"
import fcntl, json, os, pty, re, select, struct, sys, termios, time
columns, rows, steps = int(sys.argv[1]), int(sys.argv[2]), json.loads(sys.argv[3])
pid, fd = pty.fork()
if pid == 0:
    os.environ.update(TERM='xterm-256color', COLUMNS=str(columns), LINES=str(rows))
    os.execv(sys.argv[4], sys.argv[4:])
fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack('HHHH', rows, columns, 0, 0))
screen = [[' '] * columns for _ in range(rows)]
at, rest, odd = [0, 0], '', set()

def take(text):
    global rest
    text = rest + text
    rest = ''
    i = 0
    while i < len(text):
        c = text[i]
        if c == '\x1b':
            code = re.match(r'\x1b\[([?<>=]?[0-9;]*)([A-Za-z])|\x1b([78=>])|\x1b\][^\x07]*\x07', text[i:])
            if not code:
                if len(text) - i < 40:
                    rest = text[i:]
                    return
                odd.add(repr(text[i:i + 10]))
                i += 1
                continue
            i += code.end()
            if code.group(2) is None:
                if code.group(3) is None: odd.add(repr(code.group(0)))
                continue
            numbers = [int(n) if n else 1 for n in code.group(1).lstrip('?<>=').split(';')] if code.group(1).strip('?<>=') else []
            n = numbers[0] if numbers else 1
            kind = code.group(2)
            if kind == 'H': at[:] = [min(n, rows) - 1, min(numbers[1] if len(numbers) > 1 else 1, columns) - 1]
            elif kind == 'A': at[0] = max(at[0] - n, 0)
            elif kind == 'B': at[0] = min(at[0] + n, rows - 1)
            elif kind == 'C': at[1] = min(at[1] + n, columns - 1)
            elif kind == 'D': at[1] = max(at[1] - n, 0)
            elif kind == 'G': at[1] = n - 1
            elif kind == 'J': screen[:] = [[' '] * columns for _ in range(rows)]
            elif kind == 'K': screen[at[0]][at[1]:] = [' '] * (columns - at[1])
            elif kind == 'n': os.write(fd, b'\x1b[%d;%dR' % (at[0] + 1, at[1] + 1))
            elif kind not in 'mhlrtc': odd.add(repr(code.group(0)))
            continue
        i += 1
        if c == '\r': at[1] = 0
        elif c == '\n': at[0] = min(at[0] + 1, rows - 1)
        elif c == '\x08': at[1] = max(at[1] - 1, 0)
        elif ord(c) < 32 or ord(c) == 127: odd.add(repr(c))
        else:
            if at[1] >= columns: at[:] = [min(at[0] + 1, rows - 1), 0]
            screen[at[0]][at[1]] = c
            at[1] += 1

def lines():
    return [''.join(l).rstrip() for l in screen]

shown, raw, ends = [], b'', time.time() + 90
while time.time() < ends:
    if steps and steps[0][0] in '\n'.join(lines()):
        shown.append(lines())
        keys = steps.pop(0)[1]
        if keys.startswith('size '):
            rows, columns = map(int, keys.split()[1:])
            screen[:] = [[' '] * columns for _ in range(rows)]
            fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack('HHHH', rows, columns, 0, 0))
        elif keys.startswith('touch '):
            open(keys.split()[1], 'w').close()
        elif keys:
            os.write(fd, keys.encode())
    if select.select([fd], [], [], 0.05)[0]:
        try:
            part = os.read(fd, 65536)
        except OSError:
            break
        if not part:
            break
        raw += part
        take(part.decode('utf-8', 'replace'))
status = os.waitpid(pid, 0)[1] if not steps else None
if steps:
    os.kill(pid, 9)
print(json.dumps({'shown': shown, 'left': steps, 'last': lines(), 'odd': sorted(odd),
                  'status': None if status is None else os.waitstatus_to_exitcode(status)}))
"#;

struct Followed {
    shown: Vec<String>,
    status: i64,
}

/// Follows with these steps: a text that is waited for, and the keys typed when it is there.
fn follow(tiny: &Tiny, (columns, rows): (usize, usize), words: &[&str], steps: &[(&str, &str)]) -> Followed {
    let steps = serde_json::json!(steps).to_string();
    let size = [columns.to_string(), rows.to_string()];
    let line = [&["-c", HARNESS, &size[0], &size[1], &steps, TEXTUM], words].concat();
    let ran = tiny.textum("python3", &line).expect(0);
    let found: Value = ran.json();
    let screen = |v: &Value| v.as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect::<Vec<_>>().join("\n");
    assert_eq!(found["left"], serde_json::json!([]), "these were never seen; the screen at last:\n{}", screen(&found["last"]));
    assert_eq!(found["odd"], serde_json::json!([]), "codes that no screen of ours needs");
    let shown: Vec<String> = found["shown"].as_array().unwrap().iter().map(screen).collect();
    Followed { shown, status: found["status"].as_i64().unwrap() }
}

/// Two stages: the first is done at once, the second tells two metrics and prints until the file `go` is there.
fn at_work() -> (Tiny, Child) {
    let tiny = Tiny::with(
        r#"
[metric.loss]
better = "lower"

[stage.card]
run    = "echo carded; echo x > carded"
writes = ["carded"]

[stage.spin]
run    = '''
for i in 1 2 3 4 5 6; do
  printf '{"metric": {"loss": 0.%s, "twist": %s}, "step": %s, "progress": 0.5}\n' $((9 - i)) $((i * 10)) $i >> $TEXTUM_SIGNALS
  echo "thread number $i"
done
printf 'a line with \033[2Jcodes\007 in it\n'
while ! test -e go; do sleep 0.02; done
echo x > yarn
'''
reads  = ["carded"]
writes = ["yarn"]
"#,
    );
    let child = tiny.start(TEXTUM, &["run"]);
    let begun = std::time::Instant::now();
    let folder = tiny.path(".textum/runs");
    while !folder.read_dir().is_ok_and(|mut d| d.any(|e| e.is_ok_and(|e| e.path().join("spin/signals").exists()))) {
        assert!(begun.elapsed() < std::time::Duration::from_secs(60), "no run is at work");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    (tiny, child)
}

fn state_of_last(tiny: &Tiny) -> String {
    textum(tiny, &["runs", "--format", "json"]).expect(0).json()[0]["state"].as_str().unwrap().to_string()
}

#[test]
fn keys_choose_stages_metrics_and_the_log_and_leaving_ends_nothing() {
    let (tiny, mut run) = at_work();
    let seen = follow(
        &tiny,
        (100, 30),
        &["follow"],
        &[("codes in it", "m"), ("twist", "l"), ("thread number 1", "l"), ("step", "k"), ("carded", "j"), ("thread number 6", "q")],
    );
    assert_eq!(seen.status, 0);
    let first = &seen.shown[0];
    for part in ["card", "spin", "ran", "runs", "50", "loss", "codes"] {
        assert!(first.contains(part), "{part} is not on\n{first}");
    }
    assert!(first.lines().all(|l| l.chars().count() <= 100), "{first}");
    // Drawn as a curve, between its axes.
    assert!(first.contains('└') && first.chars().any(|c| ('\u{2801}'..='\u{28ff}').contains(&c)), "{first}");
    // The log alone has room for all of it.
    assert!((1..=6).all(|i| seen.shown[2].contains(&format!("thread number {i}"))), "{}", seen.shown[2]);
    // Who stopped looking has not stopped the run.
    std::fs::write(tiny.path("go"), "").unwrap();
    assert!(run.wait().unwrap().success());
    assert_eq!(state_of_last(&tiny), "done");
}

#[test]
fn the_run_is_stopped_only_by_yes() {
    for (answer, state) in [("n", "done"), ("x", "done"), ("y", "stopped")] {
        let (tiny, mut run) = at_work();
        let mut steps = vec![("thread number 6", "s"), ("stop", answer)];
        if answer != "y" {
            steps.push(("thread number 6", "q"));
        } else {
            steps.push(("stopped in", "q"));
        }
        let seen = follow(&tiny, (90, 28), &["follow"], &steps);
        assert!(seen.shown[1].contains("stop"), "{}", seen.shown[1]);
        if answer == "y" {
            // The stage is no longer said to run.
            let of_stage = seen.shown[2].lines().find(|l| l.contains("spin")).unwrap();
            assert!(of_stage.contains("stopped") && !of_stage.contains("left"), "{}", seen.shown[2]);
        }
        std::fs::write(tiny.path("go"), "").unwrap();
        run.wait().unwrap();
        assert_eq!(state_of_last(&tiny), state, "{answer}");
    }
}

#[test]
fn a_small_terminal_is_told_and_a_larger_one_drawn_into() {
    let (tiny, mut run) = at_work();
    let seen = follow(
        &tiny,
        (40, 8),
        &["follow"],
        &[("larger", "size 24 80"), ("thread number 6", "size 50 140"), ("thread number 6", "q")],
    );
    assert!(!seen.shown[0].contains("thread"), "{}", seen.shown[0]);
    assert!(seen.shown[2].lines().any(|l| l.chars().count() > 80), "all of the room is used:\n{}", seen.shown[2]);
    std::fs::write(tiny.path("go"), "").unwrap();
    run.wait().unwrap();
}

#[test]
fn what_is_seen_stays_when_the_run_has_ended() {
    let (tiny, mut run) = at_work();
    // The stage ends once the screen has shown it at work.
    let seen = follow(&tiny, (100, 30), &["follow"], &[("thread number 6", "touch go"), ("done in", "q")]);
    assert_eq!(seen.status, 0);
    assert!(seen.shown[1].contains("thread number") && seen.shown[1].contains("2 of 2 stages"), "{}", seen.shown[1]);
    assert!(run.wait().unwrap().success());
}

/// Where there is no terminal, what happens is told line by line until the run has ended.
#[test]
fn without_a_terminal_the_run_is_told_in_lines() {
    let (tiny, mut run) = at_work();
    let mut command = std::process::Command::new(TEXTUM);
    command.arg("follow").current_dir(tiny.root()).env_clear().envs(tiny.variables());
    command.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let mut looking = command.spawn().unwrap();
    let mut told = String::new();
    let mut out = std::io::BufReader::new(looking.stdout.take().unwrap());
    // Once it has told of the stage, the stage may end.
    while !told.contains("spin") && std::io::BufRead::read_line(&mut out, &mut told).unwrap() > 0 {}
    std::fs::write(tiny.path("go"), "").unwrap();
    std::io::Read::read_to_string(&mut out, &mut told).unwrap();
    assert!(looking.wait().unwrap().success(), "{told}");
    assert!(told.contains("spin") && told.contains("done") && !told.contains('\u{1b}'), "{told}");
    assert!(run.wait().unwrap().success());
}
