"""Lines of the benchmark about experiments: sweeps, metrics by step, the list of runs, following a run."""
import fcntl
import json
import os
import pty
import select
import statistics
import struct
import subprocess
import termios
import time

SWEPT = """[project]
name = "swept"
[params]
x = 0
[metric.auc]
better = "higher"
[stage.fit]
run = "echo {x} > out; echo '{\\"auc\\": 0.{x}}' > s.json"
params = ["x"]
writes = ["out"]
metrics = ["s.json"]
"""

TOLD = """[project]
name = "told"
[stage.fit]
run = "python3 fit.py"
reads = ["fit.py", "how"]
writes = ["out"]
"""

# A fixed amount of work a step, about a millisecond of it; with "tell" in `how`, a line of 50 metrics a step.
FIT = """import os
tell = open("how").read().startswith("tell")
lines = open(os.environ["TEXTUM_SIGNALS"], "a", buffering=1) if tell else None
values = ", ".join('"m%02d": 0.%d' % (i, 123456 + i) for i in range(50))
total = 0
for step in range(STEPS):
    for i in range(WORK):
        total += i * step % 7
    if tell:
        lines.write('{"metric": {' + values + '}, "step": %d}\\n' % step)
open("out", "w").write(str(total))
"""


def project(folder, name, manifest):
    path = os.path.join(folder, name)
    os.makedirs(path)
    with open(os.path.join(path, "textum.toml"), "w") as out:
        out.write(manifest)
    return path


def sweep(folder, textum, pair):
    """200 trivial variants beside the same commands by xargs."""
    path = project(folder, "sweep-project", SWEPT)
    command = "mkdir -p ../by-hand; seq 1 200 | xargs -P2 -I{} sh -c 'mkdir -p ../by-hand/{}; cd ../by-hand/{}; echo {} > out; echo \"{\\\"auc\\\": 0.{}}\" > s.json'"
    # Some file systems are slow to give out anew what was given back in the last seconds.
    clean = "rm -rf .textum textum.receipt.json ../by-hand; sleep 6"
    return pair("sweep of 200 trivial variants", [textum, "run", "--vary", "x=1..200", "-j2", "-q"], command, path, "1.3", 5, clean, clean, "xargs -P2")


def listed(folder, textum, pair, count):
    """The runs sorted by a metric, beside the same question typed into sqlite3."""
    path = project(folder, "listed-project", SWEPT)
    subprocess.run([textum, "run", "--vary", "x=1..%d" % count, "--yes", "-q"], cwd=path, check=True, stdout=subprocess.DEVNULL)
    subprocess.run([textum, "stats"], cwd=path, check=True, stdout=subprocess.DEVNULL)
    question = ("sqlite3 .textum/ledger.db \"SELECT r.id, r.started, r.seconds, r.state, m.value FROM runs r JOIN run_metrics m ON m.run = r.id "
                "WHERE m.name = 'auc' ORDER BY m.value DESC LIMIT 20\"")
    return pair("runs --by auc over {:,} runs".format(count), [textum, "runs", "--by", "auc"], question, path, "1.2", 9, tool="sqlite3")


def alone(name, command, path, most, timed):
    """A line of a command that has nothing to be held beside: against the seconds that it may take."""
    rows = [timed(command, path) for _ in range(4)][1:]  # the first warms the caches
    seconds, memory = statistics.median(r[0] for r in rows), max(r[1] for r in rows)
    print("%-52s %8.3f s  (at most %s s)  %4.0f MiB" % (name, seconds, most, memory), flush=True)
    return (name, seconds, "–", most, seconds / most, "1", memory)


def verified(folder, textum, timed, count):
    """Everything looked at in a project of so many runs; 20,000 may take two seconds."""
    path = project(folder, "verified-project", SWEPT)
    subprocess.run([textum, "run", "--vary", "x=1..%d" % count, "--yes", "-q"], cwd=path, check=True, stdout=subprocess.DEVNULL)
    return alone("verify over {:,} runs".format(count), [textum, "verify"], path, 2.0 * count / 20_000, timed)


def told(folder, textum, steps):
    """A stage that tells 50 metrics a step beside the same stage that tells nothing."""
    path = project(folder, "told-project", TOLD)
    begun = time.perf_counter()
    total = 0
    for i in range(200_000):
        total += i * 3 % 7
    work = int(200_000 * 0.00095 / (time.perf_counter() - begun))
    with open(os.path.join(path, "fit.py"), "w") as out:
        out.write(FIT.replace("STEPS", str(steps)).replace("WORK", str(work)))
    ratios, with_signals, without, memory = [], [], [], 0
    for number in range(4):
        one = []
        for how in ("tell", "quiet"):
            with open(os.path.join(path, "how"), "w") as out:
                out.write("%s %d\n" % (how, number))
            pid = subprocess.Popen([textum, "run", "-q"], cwd=path, stdout=subprocess.DEVNULL).pid
            _, status, usage = os.wait4(pid, 0)
            assert status == 0
            memory = max(memory, usage.ru_maxrss / 1024)
            shown = subprocess.run([textum, "show", "last", "--format", "json"], cwd=path, check=True, capture_output=True, text=True).stdout
            one.append(json.loads(shown)["stages"][0]["seconds"])
        if number:
            ratios.append(one[0] / one[1])
            with_signals.append(one[0])
            without.append(one[1])
    ratio = statistics.median(ratios)
    name = "a stage that tells {:,} metric points, {:,.0f} lines a second".format(steps * 50, steps / statistics.median(with_signals))
    a, b = statistics.median(with_signals), statistics.median(without)
    print("%-52s %8.3f s  %-22s %8.3f s  %5.2f× (at most 1.02)  %4.0f MiB" % (name, a, "the same, silent", b, ratio, memory), flush=True)
    return (name, a, "the same, silent", b, ratio, "1.02", memory)


def followed(folder, textum, seconds):
    """The share of a core that the live view takes while a stage tells 100 lines a second."""
    path = project(folder, "followed-project", TOLD)
    with open(os.path.join(path, "fit.py"), "w") as out:
        out.write("import os, time\nout = open(os.environ['TEXTUM_SIGNALS'], 'a', buffering=1)\nfor i in range(%d):\n"
                  "    out.write('{\"metric\": {\"loss\": %%f}, \"step\": %%d}\\n' %% (1 / (i + 1), i)); print('round', i, flush=True); time.sleep(0.01)\n"
                  "open('out', 'w').write('x')\n" % ((seconds + 4) * 100))
    open(os.path.join(path, "how"), "w").close()
    run = subprocess.Popen([textum, "run", "-q"], cwd=path, stdout=subprocess.DEVNULL)
    time.sleep(1)
    begun = time.perf_counter()
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(path)
        os.environ.update(TERM="xterm-256color", COLUMNS="110", LINES="36")
        os.execv(textum, [textum, "follow"])
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 36, 110, 0, 0))
    while time.perf_counter() - begun < seconds:
        if select.select([terminal], [], [], 0.2)[0]:
            os.read(terminal, 1 << 16)
    os.write(terminal, b"q")
    _, _, usage = os.wait4(pid, 0)
    share = (usage.ru_utime + usage.ru_stime) / (time.perf_counter() - begun)
    run.wait()
    print("%-52s %8.1f %% of a core (at most 1)  %4.0f MiB" % ("follow, a stage that tells 100 lines a second", share * 100, usage.ru_maxrss / 1024), flush=True)
    return ("follow, a stage that tells 100 lines a second", share * 100, usage.ru_maxrss / 1024)
