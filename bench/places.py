#!/usr/bin/env python3
"""Places against the engine itself: a hundred trivial stages through a cluster beside one job array of the same commands, and
what a Textum costs whose thousand jobs wait.

    python3 bench/places.py [--textum target/release/textum] [--pairs 5]

Needs a Slurm cluster that sees this machine's temporary folder (`scripts/cluster start DIR`)."""

import argparse
import os
import pathlib
import shutil
import statistics
import subprocess
import tempfile
import time

ROOT = pathlib.Path(__file__).resolve().parent.parent


def manifest(folder, stages, place):
    text = '[project]\nname = "shed"\n\n' + place
    for n in range(stages):
        text += f'\n[stage.s{n}]\nrun = "echo {n} > out/{n}"\nwrites = ["out/{n}"]\nplace = "cluster"\nobserve = false\n'
    (folder / "textum.toml").write_text(text)


def through_textum(textum, stages):
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        manifest(folder, stages, f'[place.cluster]\nkind = "slurm"\njobs = {stages}\n')
        begun = time.perf_counter()
        subprocess.run([textum, "run", "-q"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        return time.perf_counter() - begun


def as_an_array(stages):
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        (folder / "out").mkdir()
        script = "#!/bin/sh\necho $SLURM_ARRAY_TASK_ID > out/$SLURM_ARRAY_TASK_ID\n"
        words = ["sbatch", "--export=ALL", f"--array=0-{stages - 1}", "--output=/dev/null", "--cpus-per-task=1", f"--chdir={folder}"]
        begun = time.perf_counter()
        subprocess.run(words, input=script, text=True, check=True, stdout=subprocess.DEVNULL)
        # Not by `--wait`, which looks only now and then.
        while len(list((folder / "out").iterdir())) < stages:
            time.sleep(0.02)
        return time.perf_counter() - begun


def processor_seconds(pid):
    """Of the process alone and with what it has waited for."""
    fields = pathlib.Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    ticks = os.sysconf("SC_CLK_TCK")
    return (int(fields[11]) + int(fields[12])) / ticks, (int(fields[13]) + int(fields[14])) / ticks


def waiting(textum, jobs, seconds):
    """A sweep whose jobs all wait, at an engine that only says so; seconds of a processor for each second, and calls."""
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        (folder / "bin").mkdir()
        engine = {
            "sbatch": 'case "$*" in *--test-only*) exit 0;; esac\ncat > /dev/null\nn=$(cat "$0.n" 2>/dev/null || echo 0); n=$((n+1)); echo $n > "$0.n"\n'
            'case "$*" in *--array=*) a=$(echo "$*" | sed "s/.*--array=0-\\([0-9]*\\).*/\\1/");; *) a=;; esac\necho "$n $a" >> "$0.all"; echo $n\n',
            "squeue": 'echo x >> "$0.calls"\ncat "${0%squeue}squeue.lines"\n',
            "scancel": "exit 0\n",
        }
        for program, text in engine.items():
            path = folder / "bin" / program
            path.write_text("#!/bin/sh\n" + text)
            path.chmod(0o755)
        lines = folder / "bin" / "squeue.lines"
        lines.write_text("")
        text = f'[project]\nname = "shed"\n\n[place.cluster]\nkind = "slurm"\njobs = {jobs}\n\n[params]\nfit = {{ n = 0 }}\n\n'
        text += '[stage.fit]\nrun = "echo {fit.n} > o"\nparams = ["fit"]\nwrites = ["o"]\nplace = "cluster"\nobserve = false\n'
        (folder / "textum.toml").write_text(text)
        variables = dict(os.environ, PATH=f"{folder}/bin:/usr/bin:/bin")
        begun = time.perf_counter()
        order = [textum, "run", "-q", "--vary", f"fit.n=1..{jobs}", "--yes"]
        child = subprocess.Popen(order, cwd=folder, env=variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            submitted = 0
            while submitted < jobs:
                assert child.poll() is None and time.perf_counter() - begun < 300, submitted
                time.sleep(0.2)
                arrays = folder / "bin" / "sbatch.all"
                told = [line.split() for line in arrays.read_text().splitlines()] if arrays.exists() else []
                every = [line[0] for line in told if len(line) == 1]
                every += [f"{line[0]}_{n}" for line in told if len(line) == 2 for n in range(int(line[1]) + 1)]
                lines.write_text("".join(f"{number}|PENDING|Priority|N/A\n" for number in every))
                submitted = len(every)
            took = time.perf_counter() - begun
            time.sleep(20)
            calls = folder / "bin" / "squeue.calls"
            before, asked, at = processor_seconds(child.pid), len(calls.read_text().split()), time.perf_counter()
            time.sleep(seconds)
            after, later, now = processor_seconds(child.pid), len(calls.read_text().split()), time.perf_counter()
            span = now - at
            arrays = len((folder / "bin" / "sbatch.all").read_text().splitlines())
            return took, arrays, (after[0] - before[0]) / span, (after[1] - before[1]) / span, (later - asked) / span
        finally:
            child.kill()
            child.wait()


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--textum", default=str(ROOT / "target/release/textum"))
    parser.add_argument("--pairs", type=int, default=5)
    parser.add_argument("--stages", type=int, default=100)
    parser.add_argument("--waiting", type=int, default=1000)
    asked = parser.parse_args()
    if shutil.which("sbatch") and os.environ.get("SLURM_CONF"):
        ratios, own, beside = [], [], []
        for _ in range(asked.pairs):
            own.append(through_textum(asked.textum, asked.stages))
            beside.append(as_an_array(asked.stages))
            ratios.append(own[-1] / beside[-1])
            print(f"{asked.stages} stages: {own[-1]:.2f} s, one array: {beside[-1]:.2f} s, {ratios[-1]:.2f}x", flush=True)
        print(f"median {statistics.median(own):.2f} s beside {statistics.median(beside):.2f} s: {statistics.median(ratios):.2f}x")
    else:
        print("no cluster is there: scripts/cluster start DIR, and eval what it prints")
    took, arrays, own, others, calls = waiting(asked.textum, asked.waiting, 30)
    print(
        f"{asked.waiting} jobs that wait: submitted in {took:.1f} s by {arrays} arrays; then {own * 100:.1f} % of a core, "
        f"{others * 100:.1f} % for what it asks with, {calls:.2f} questions a second"
    )


if __name__ == "__main__":
    main()
