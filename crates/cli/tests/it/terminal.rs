//! A person at a terminal: what is drawn while something happens, and what stands there afterwards.

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

/// Runs the program in a pseudo-terminal of this size and gives all that it sent there, and its exit status. `keys` are
/// typed once `when` has been seen.
const HARNESS: &str = r#"
import fcntl, os, pty, select, struct, sys, termios, time
columns, rows, when, keys = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3].encode(), sys.argv[4].encode()
pid, fd = pty.fork()
if pid == 0:
    os.environ['TERM'] = 'xterm-256color'
    os.execv(sys.argv[5], sys.argv[5:])
fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack('HHHH', rows, columns, 0, 0))
seen, ends = b'', time.time() + 60
while time.time() < ends:
    if select.select([fd], [], [], 1)[0]:
        try:
            part = os.read(fd, 65536)
        except OSError:
            break
        if not part:
            break
        seen += part
        if when and when in seen:
            os.write(fd, keys)
            when = b''
status = os.waitpid(pid, 0)[1]
sys.stdout.buffer.write(seen)
sys.stdout.buffer.flush()
sys.exit(os.waitstatus_to_exitcode(status))
"#;

struct Seen {
    status: i32,
    raw: String,
    screen: Vec<String>,
}

fn in_terminal(tiny: &Tiny, (columns, rows): (usize, usize), typed: (&str, &str), words: &[&str]) -> Seen {
    let size = [columns.to_string(), rows.to_string()];
    let line = [&["-c", HARNESS, &size[0], &size[1], typed.0, typed.1, TEXTUM], words].concat();
    let ran = tiny.textum("python3", &line);
    Seen { status: ran.status, screen: drawn(&ran.out, columns), raw: ran.out }
}

/// What stands on an endless screen of so many columns after all that; anything that is no plain character, line break or
/// one of the few codes that Textum needs is a fault.
fn drawn(sent: &str, columns: usize) -> Vec<String> {
    let mut screen: Vec<Vec<char>> = vec![Vec::new()];
    let (mut row, mut column) = (0usize, 0usize);
    let mut rest = sent.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '\r' => column = 0,
            '\n' => row += 1,
            '\u{8}' => column = column.saturating_sub(1),
            '\u{1b}' => {
                assert_eq!(rest.next(), Some('['), "only CSI is sent: {sent:?}");
                let mut numbers = String::new();
                let last = loop {
                    let c = rest.next().unwrap();
                    if c.is_ascii_alphabetic() {
                        break c;
                    }
                    numbers.push(c);
                };
                let number = numbers.parse::<usize>().unwrap_or(1).max(1);
                match last {
                    'm' | 'h' | 'l' => {}
                    'A' => row = row.saturating_sub(number),
                    'B' => row += number,
                    'C' => column += number,
                    'D' => column = column.saturating_sub(number),
                    'G' => column = number - 1,
                    'K' => screen[row].truncate(if numbers == "2" { 0 } else { column }),
                    'J' => {
                        screen[row].truncate(column);
                        screen.truncate(row + 1);
                    }
                    other => panic!("a code CSI {numbers}{other}: {sent:?}"),
                }
            }
            c => {
                assert!(!c.is_control(), "{c:?} in {sent:?}");
                if column == columns {
                    row += 1;
                    column = 0;
                }
                screen.resize(screen.len().max(row + 1), Vec::new());
                let line = &mut screen[row];
                line.resize(line.len().max(column + 1), ' ');
                line[column] = c;
                column += 1;
            }
        }
        screen.resize(screen.len().max(row + 1), Vec::new());
    }
    screen.into_iter().map(|line| line.into_iter().collect::<String>().trim_end().to_string()).collect()
}

fn project() -> Tiny {
    let tiny = Tiny::with(
        "[params]\nn = 1\n\n[stage.card]\nrun = \"for i in 1 2 3; do echo \\\"{\\\\\\\"metric\\\\\\\": {\\\\\\\"loss\\\\\\\": 0.$i}, \\\\\\\"progress\\\\\\\": 0.$i, \\\\\\\"step\\\\\\\": $i}\\\" >> $TEXTUM_SIGNALS; done; echo x > b\"\nwrites = [\"b\"]\n\
         [stage.weave]\nrun = \"cat b > cloth; echo {n} >> cloth; printf '{\\\"share\\\": 0.5}' > s.json\"\nreads = [\"b\"]\nparams = [\"n\"]\nwrites = [\"cloth\"]\nmetrics = [\"s.json\"]\n",
    );
    tiny.write("unused", "x");
    tiny
}

#[test]
fn a_run_leaves_its_result_and_no_trace_of_what_moved() {
    for columns in [40, 80, 132] {
        let tiny = project();
        let seen = in_terminal(&tiny, (columns, 24), ("", ""), &["run"]);
        assert_eq!(seen.status, 0, "{}", seen.raw);
        let screen = seen.screen.join("\n");
        assert_eq!(screen.matches("done in").count(), 1, "{screen}");
        assert!(screen.contains("cloth 4 B") && screen.contains("share 0.5000"), "{screen}");
        for moved in ["⠋", "█", "left", "\\x1b", "%"] {
            assert!(!screen.contains(moved), "{moved} is left:\n{screen}");
        }
        assert!(seen.screen.iter().all(|line| line.chars().count() <= columns), "{screen}");
        // The same words as in a pipe, but for times.
        let piped = textum(&project(), &["run"]).expect(0);
        let last = |text: &str| text.lines().rfind(|l| !l.trim().is_empty()).unwrap().to_string();
        assert_eq!(last(&screen), last(&piped.out));
    }
}

#[test]
fn hostile_words_stay_words_while_a_run_is_drawn() {
    let tiny = Tiny::with(
        "[stage.s]\nrun = \"printf '{\\\"note\\\": \\\"a\\\\\\\\u001b]0;owned\\\\\\\\u0007b\\\"}\\n' >> $TEXTUM_SIGNALS; printf 'out\\\\033[2Jput\\\\007\\n'; printf '\\\\033[31mred\\n' >&2; echo x > b; exit 3\"\nwrites = [\"b\"]\n",
    );
    let seen = in_terminal(&tiny, (100, 30), ("", ""), &["run", "--echo"]);
    assert_eq!(seen.status, 1, "{}", seen.raw);
    // `drawn` has seen to it that no code of theirs was sent.
    let screen = seen.screen.join("\n");
    assert!(screen.contains("\\x1b[2J") && !seen.raw.contains("\u{1b}[2J"), "{screen}");
    assert!(!seen.raw.contains("\u{1b}]0;"), "{:?}", seen.raw);
}

#[test]
fn a_question_is_asked_and_no_answer_but_yes_does_it() {
    let tiny = project();
    let manifest = tiny.read("textum.toml").replace("cat b > cloth", "seq {n} 7 200000 > cloth");
    std::fs::write(tiny.path("textum.toml"), manifest).unwrap();
    for n in ["1", "2", "3"] {
        textum(&tiny, &["run", "--set", &format!("n={n}")]).expect(0);
    }
    for run in ["last", "last~1", "last~2"] {
        textum(&tiny, &["rebuild", run]).expect(0);
    }
    let frees = |tiny: &Tiny| {
        textum(tiny, &["prune", "--last-outputs", "--newest", "1", "--dry-run", "--format", "json"]).expect(0).json()["frees"]
            .as_u64()
            .unwrap()
    };
    let before = frees(&tiny);
    assert!(before > 0, "there is something to drop");
    for answer in ["n\n", "\n", "yess\n", "\u{4}"] {
        let seen = in_terminal(&tiny, (100, 30), ("[y/N]", answer), &["prune", "--last-outputs", "--newest", "1"]);
        assert!(seen.raw.contains("[y/N]"), "{}", seen.raw);
        assert_eq!(frees(&tiny), before, "{answer:?}: {}", seen.raw);
    }
    let seen = in_terminal(&tiny, (100, 30), ("[y/N]", "y\n"), &["prune", "--last-outputs", "--newest", "1"]);
    assert_eq!((seen.status, frees(&tiny)), (0, 0), "{}", seen.raw);
    // Where nobody can be asked, nothing is done.
    textum(&tiny, &["run", "--set", "n=4"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0);
    textum(&tiny, &["run", "--set", "n=5"]).expect(0);
    assert!(frees(&tiny) > 0);
    textum(&tiny, &["prune", "--last-outputs", "--newest", "1"]).expect(2).warns("nobody to be asked");
    assert!(frees(&tiny) > 0);
}
