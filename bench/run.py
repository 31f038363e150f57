#!/usr/bin/env python3
"""Textum beside public general-purpose tools, in one run: `python3 bench/run.py [--quick] [--write]`.

Every line is measured in pairs, one after the other, several times; what counts is the median of the
ratios, so that a machine that is slow for a while slows both. Peak memory is the operating system's own
count (ru_maxrss). `--write` puts the figures into docs/benchmarks.md.
"""
import argparse
import datetime
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time

import experiments
import observing
import sharing

HERE = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
TEXTUM = os.path.join(HERE, "target", "release", "textum")


def timed(command, cwd):
    """Wall seconds and peak memory in MiB of a command, given as a list or as a line for the shell."""
    words = ["/bin/sh", "-c", command] if isinstance(command, str) else command
    begun = time.perf_counter()
    quiet = subprocess.DEVNULL
    pid = subprocess.Popen(words, cwd=cwd, stdin=quiet, stdout=quiet, stderr=quiet).pid
    _, status, usage = os.wait4(pid, 0)
    seconds = time.perf_counter() - begun
    if status != 0:
        sys.exit("`%s` did not succeed in %s" % (command, cwd))
    return seconds, usage.ru_maxrss / 1024


def pair(name, ours, theirs, cwd, target, rounds=5, before_ours=None, before_theirs=None, tool=""):
    """Runs two commands in turn; what comes before each is not timed."""
    rows = []
    for number in range(rounds + 1):
        one = []
        for command, before in ((ours, before_ours), (theirs, before_theirs)):
            if before:
                subprocess.run(before, shell=True, cwd=cwd, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            one.append(timed(command, cwd))
        if number:  # the first round warms the caches
            rows.append(one)
    ratio = statistics.median(a[0] / b[0] for a, b in rows)
    a, b = (statistics.median(r[i][0] for r in rows) for i in (0, 1))
    memory = max(r[0][1] for r in rows)
    print("%-52s %8.3f s  %-22s %8.3f s  %5.2f× (at most %s)  %4.0f MiB" % (name, a, tool, b, ratio, target, memory), flush=True)
    return (name, a, tool, b, ratio, target, memory)


def random_file(path, size):
    with open(path, "wb") as out:
        for _ in range(size // (1 << 20)):
            out.write(os.urandom(1 << 20))


def images(folder, count):
    project = os.path.join(folder, "images-project")
    for d in range(100):
        os.makedirs(os.path.join(project, "images", "%02d" % d))
        for i in range(count // 100):
            with open(os.path.join(project, "images", "%02d" % d, "%05d.bin" % i), "wb") as out:
                out.write(os.urandom(4096))
    with open(os.path.join(project, "textum.toml"), "w") as out:
        out.write('[project]\nname = "images"\n[data.images]\npath = "images"\n'
                  '[stage.count]\nrun = "echo done > n"\nreads = ["images"]\nwrites = ["n"]\n')
    return project


def large(folder, size):
    project = os.path.join(folder, "large-project")
    os.makedirs(project)
    random_file(os.path.join(project, "shifts.bin"), size)
    with open(os.path.join(project, "textum.toml"), "w") as out:
        out.write('[project]\nname = "large"\n[data.shifts]\npath = "shifts.bin"\n'
                  '[stage.count]\nrun = "echo done > n"\nreads = ["shifts.bin"]\nwrites = ["n"]\n')
    return project


def tables(folder, rows):
    """Two exports of one table: every hundredth row has another cell, every thousandth is gone, as many are new."""
    project = os.path.join(folder, "table-project")
    os.makedirs(project)
    for name, later in (("old.csv", False), ("new.csv", True)):
        with open(os.path.join(project, name), "w") as out:
            out.write("shift_id,loom,humidity,temperature,lint,stopped\n")
            block = []
            for i in range(rows):
                if later and i % 1000 == 500:
                    continue
                h = 400 + i * 7919 % 300 + (3 if later and i % 100 == 7 else 0)
                block.append("S%08d,L%02d,%d.%d,%d.%d,%d,%d\n" % (i, i % 24, h // 10, h % 10, 20 + i * 31 % 9, i % 10, i * 17 % 8, i % 5 == 0))
                if len(block) == 50_000:
                    out.write("".join(block))
                    block = []
            new = range(rows, rows + rows // 1000) if later else ()
            out.write("".join(block) + "".join("S%08d,L01,60.0,20.0,1,0\n" % i for i in new))
    shuffled = "tail -n +2 %s | shuf --random-source=old.csv > rows; (head -n 1 %s; cat rows) > mixed-%s; rm rows"
    for name in ("old.csv", "new.csv"):
        subprocess.run(shuffled % (name, name, name), shell=True, cwd=project, check=True)
    with open(os.path.join(project, "textum.toml"), "w") as out:
        out.write('[project]\nname = "tables"\n')
    return project


def many_stages(folder, count):
    project = os.path.join(folder, "many-project")
    os.makedirs(os.path.join(project, "build"))
    manifest, ninja = ['[project]\nname = "many"\n'], ["rule c\n  command = $cmd\n"]
    for i in range(count):
        source = "seed.txt" if i < 10 else "build/%d.txt" % (i - 10)
        command = "cat %s > build/%d.txt; echo %d >> build/%d.txt" % (source, i, i, i)
        manifest.append('[stage.s%d]\nrun = "%s"\nreads = ["%s"]\nwrites = ["build/%d.txt"]\n' % (i, command, source, i))
        ninja.append("build build/%d.txt: c %s\n  cmd = %s\n" % (i, source, command))
    for name, text in (("textum.toml", "".join(manifest)), ("build.ninja", "".join(ninja)), ("seed.txt", "seed\n")):
        with open(os.path.join(project, name), "w") as out:
            out.write(text)
    return project


def stored_bytes(project):
    packs = os.path.join(project, ".textum", "store", "packs")
    return sum(os.path.getsize(os.path.join(packs, n)) for n in os.listdir(packs) if n.endswith(".pack"))


def change_in_place(path, share):
    size = os.path.getsize(path)
    with open(path, "r+b") as out:
        out.seek(size // 3)
        out.write(os.urandom(int(size * share)))


def insert(path, length):
    with open(path, "rb") as source, open(path + ".new", "wb") as out:
        # In pieces: the memory of a child begins as that of this process.
        for _ in range(os.path.getsize(path) // 2 >> 20):
            out.write(source.read(1 << 20))
        out.write(os.urandom(length))
        shutil.copyfileobj(source, out, 1 << 20)
    os.replace(path + ".new", path)


def wide(folder, python, rows):
    """Two exports of a table of ten columns, as CSV and as Parquet: every hundredth row has another cell."""
    project = os.path.join(folder, "wide-project")
    os.makedirs(project)
    make = """
import numpy as np, pyarrow as pa, pyarrow.csv as pc, pyarrow.parquet as pq
n = %d
r = np.random.default_rng(1)
columns = {'id': np.arange(n)}
for i in range(4): columns['x%%d' %% i] = np.round(r.normal(50, 10, n), 3)
for i in range(3): columns['n%%d' %% i] = r.integers(0, 1000, n)
columns['shed'] = np.array(['A', 'B', 'C', 'D'])[r.integers(0, 4, n)]
columns['team'] = np.array(['team %%d' %% i for i in range(200)])[r.integers(0, 200, n)]
t = pa.table(columns)
pc.write_csv(t, 'old.csv'); pq.write_table(t, 'old.parquet')
columns['x1'] = np.where(np.arange(n) %% 100 == 7, columns['x1'] + 3, columns['x1'])
pc.write_csv(pa.table(columns), 'new.csv')
""" % rows
    subprocess.run([python, "-c", make], cwd=project, check=True)
    with open(os.path.join(project, "textum.toml"), "w") as out:
        out.write('[project]\nname = "wide"\n')
    return project


def beside_tables(folder, python, rows):
    """Tables beside Polars and DuckDB, whole processes all of them."""
    project = wide(folder, python, rows)
    columns = ["x0", "x1", "x2", "x3", "n0", "n1", "n2", "shed", "team"]
    differs = " or ".join("a.%s is distinct from b.%s" % (c, c) for c in columns)
    duck = ("import duckdb; print(duckdb.sql(\"select count(*) from 'old.csv' a full join 'new.csv' b on a.id = b.id where %s\").fetchall())" % differs)
    polars = ("import polars as pl; a, b = pl.read_csv('old.csv'), pl.read_csv('new.csv'); j = a.join(b, on='id', how='full', suffix='_b'); "
              "print(j.filter(pl.any_horizontal(*[pl.col(c).ne_missing(pl.col(c + '_b')) for c in %r])).height)" % columns)
    summarize = "import duckdb; duckdb.sql(\"summarize select * from '%s'\").fetchall()"
    diff = [TEXTUM, "data", "diff", "old.csv", "new.csv", "--key", "id"]
    lines = [
        pair("diff 5 million rows of 10 columns cell by cell", diff, [python, "-c", polars], project, "0.3", 3, tool="a join in Polars"),
        pair("the same beside DuckDB", diff, [python, "-c", duck], project, "0.3", 3, tool="a join in DuckDB"),
    ]
    for name, table in (("CSV", "old.csv"), ("Parquet", "old.parquet")):
        lines.append(pair("profile 5 million rows of 10 columns, %s" % name, [TEXTUM, "data", "profile", table],
                          [python, "-c", summarize % table], project, "0.5", 3, tool="DuckDB summarize"))
    shutil.rmtree(project, ignore_errors=True)
    return lines


def built():
    """Seconds of a clean release build, crates fetched, and the size of the program."""
    with tempfile.TemporaryDirectory(prefix="textum-build-") as target:
        begun = time.perf_counter()
        subprocess.run(["cargo", "build", "--release", "--quiet", "-p", "textum", "--target-dir", target], cwd=HERE, check=True)
        seconds = time.perf_counter() - begun
        return seconds, os.path.getsize(os.path.join(target, "release", "textum"))


def growth(name, project, change, expected):
    path = os.path.join(project, "shifts.bin")
    before = stored_bytes(project)
    change(path)
    _, memory = timed([TEXTUM, "run"], project)
    grown = stored_bytes(project) - before
    print("%-52s %8.1f MB stored for a change of %.1f MB: %.2f× (at most 1.1 and 1.25)" % (name, grown / 1e6, expected / 1e6, grown / expected), flush=True)
    return (name, grown / 1e6, expected / 1e6, grown / expected, memory)


def many(lines, project, how, target):
    clean = "rm -rf .textum textum.receipt.json .ninja_log .ninja_deps build; mkdir build"
    lines.append(pair("500 trivial stages, first run" + how, [TEXTUM, "run"], "ninja -j2", project, target, 5, clean, clean, "ninja"))


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--quick", action="store_true", help="a tenth of the size, for trying it out")
    parser.add_argument("--experiments", action="store_true", help="only the lines about experiments")
    parser.add_argument("--observing", action="store_true", help="only the lines about observing")
    parser.add_argument("--sharing", action="store_true", help="only the lines about depots")
    parser.add_argument("--runs", type=int, default=50_000, help="so many runs for the line about the list of runs")
    parser.add_argument("--short", action="store_true", help="without the line about metric points, which takes minutes")
    parser.add_argument("--python", default=sys.executable, help="a Python with polars, duckdb and pyarrow, for the lines about tables")
    parser.add_argument("--build", action="store_true", help="time a clean release build too")
    parser.add_argument("--write", action="store_true", help="write docs/benchmarks.md")
    options = parser.parse_args()
    scale = 10 if options.quick else 1
    missing = [t for t in ("git", "b3sum", "tar", "ninja", "sqlite3", "xargs") if not shutil.which(t)]
    if missing:
        sys.exit("these tools are compared with and are not here: %s" % ", ".join(missing))
    subprocess.run(["cargo", "build", "--release", "--quiet"], cwd=HERE, check=True)
    fresh = "rm -rf .textum textum.receipt.json n"
    lines, sizes, shares = [], [], []
    with tempfile.TemporaryDirectory(prefix="textum-bench-") as folder:
        if options.sharing:
            sharing.lines(folder, TEXTUM, pair, timed, scale)
            return
        lines.extend(observing.lines(folder, TEXTUM, options.python, pair, scale))
        project = many_stages(folder, 500)
        many(lines, project, "", "3.5")
        with open(os.path.join(project, "textum.toml")) as manifest:
            text = manifest.read().replace("]\n[stage", "]\nobserve = false\n[stage")
        with open(os.path.join(project, "textum.toml"), "w") as manifest:
            manifest.write(text + "observe = false\n")
        many(lines, project, ", not observed", "2")
        if options.observing:
            return
        lines.append(experiments.sweep(folder, TEXTUM, pair))
        lines.append(experiments.listed(folder, TEXTUM, pair, options.runs // scale))
        lines.append(experiments.verified(folder, TEXTUM, timed, 20_000 // scale))
        if not options.short:
            lines.append(experiments.told(folder, TEXTUM, 20_000 // scale))
        shares.append(experiments.followed(folder, TEXTUM, 10))
        if options.experiments:
            return
        clean = "rm -rf .textum textum.receipt.json .ninja_log .ninja_deps build; mkdir build"
        subprocess.run("%s; ninja; sleep 0.5; %s run; %s run" % (clean, TEXTUM, TEXTUM), shell=True, cwd=project, check=True,
                       stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        lines.append(pair("500 trivial stages, nothing to do", [TEXTUM, "run"], "ninja", project, "2", 9, tool="ninja"))
        project = images(folder, 100_000 // scale)
        lines.append(pair("run that records 100,000 files of 4 KiB", [TEXTUM, "run"], "tar cf ../images.tar images", project, "1.0", 5,
                          fresh, "rm -f ../images.tar", "tar cf"))
        subprocess.run("git init -q . && git add -A && git -c gc.auto=0 -c maintenance.auto=false -c user.name=b -c user.email=b@example.org commit -qm x", shell=True, cwd=project, check=True)
        subprocess.run("sleep 1; %s run; git status" % TEXTUM, shell=True, cwd=project, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        lines.append(pair("plan, nothing changed, 100,000 files", [TEXTUM, "plan"], "git status", project, "0.5", 9, tool="git status"))
        subprocess.run("rm -f ../images.tar; tar cf ../images.tar images", shell=True, cwd=project, check=True)
        lines.append(pair("restore 100,000 files", [TEXTUM, "restore", "last", "-o", "../restored"], "tar xf ../images.tar -C ../unpacked",
                          project, "0.5", 1, "rm -rf ../restored", "rm -rf ../unpacked; mkdir ../unpacked", "tar xf"))
        shutil.rmtree(project, ignore_errors=True)
        for name in ("restored", "unpacked"):
            shutil.rmtree(os.path.join(folder, name))
        os.remove(os.path.join(folder, "images.tar"))
        project = images(folder, 300_000 // scale)
        subprocess.run([TEXTUM, "run", "-q"], cwd=project, check=True, stdout=subprocess.DEVNULL)
        lines.append(experiments.alone("stats of 300,000 stored files", [TEXTUM, "stats"], project, 1.0, timed))
        shutil.rmtree(project, ignore_errors=True)
        project = tables(folder, 10_000_000 // scale)
        for what, old, new in (("in the order of its key", "old.csv", "new.csv"), ("in no order", "mixed-old.csv", "mixed-new.csv")):
            sorting = "export LC_ALL=C; sort %s > a; sort %s > b; comm -3 a b | wc -l" % (old, new)
            lines.append(pair("diff a table of 10 million rows by key, " + what, [TEXTUM, "data", "diff", old, new, "--key", "shift_id"],
                              sorting, project, "0.5" if "order of" in what else "0.3", 3, tool="sort; comm"))
        shutil.rmtree(project, ignore_errors=True)
        if subprocess.run([options.python, "-c", "import polars, duckdb, pyarrow"], stderr=subprocess.DEVNULL).returncode == 0:
            lines.extend(beside_tables(folder, options.python, 5_000_000 // scale))
        else:
            print("without Polars, DuckDB and pyarrow the lines about tables beside them are left out", flush=True)
        size = (2 << 30) // scale
        project = large(folder, size)
        cold = "touch shifts.bin; sleep 0.1"
        subprocess.run([TEXTUM, "run", "-q"], cwd=project, check=True, stdout=subprocess.DEVNULL)
        lines.append(pair("hash a 2 GiB file (plan, its times changed)", [TEXTUM, "plan"], "b3sum shifts.bin", project, "1.05", 5, cold, cold, "b3sum"))
        copied = "cp shifts.bin ../copy.bin; b3sum ../copy.bin"
        lines.append(pair("run that records an incompressible 2 GiB file", [TEXTUM, "run"], copied, project, "1.5", 3, fresh, "rm -f ../copy.bin", "cp; b3sum"))
        synced = "cp shifts.bin ../copy.bin; sync ../copy.bin; b3sum ../copy.bin"
        lines.append(pair("the same beside a copy that is synced too", [TEXTUM, "run"], synced, project, "1.0", 3, fresh, "rm -f ../copy.bin", "cp; sync; b3sum"))
        os.path.exists(os.path.join(folder, "copy.bin")) and os.remove(os.path.join(folder, "copy.bin"))
        sizes.append(growth("record it again with 1 % changed in place", project, lambda p: change_in_place(p, 0.01), size * 0.01))
        sizes.append(growth("record it again with 5 MB inserted in the middle", project, lambda p: insert(p, 5_000_000), 5_000_000))
        shutil.rmtree(project, ignore_errors=True)
    with tempfile.TemporaryDirectory(prefix="textum-bench-") as folder:
        lines.extend(sharing.lines(folder, TEXTUM, pair, timed, scale))
    if options.write:
        write(lines, sizes, shares, built() if options.build else None)


def write(lines, sizes, shares, build):
    cpu = next((l.split(":")[1].strip() for l in open("/proc/cpuinfo") if l.startswith("model name")), platform.processor())
    out = ["# Benchmarks", "",
           "Made by `python3 bench/run.py --write` on %s, on %d processors (%s), %s. Pairs are run in turn; seconds are medians, the ratio is the "
           "median of the pairs' ratios; memory is the peak of the Textum process by the operating system's count."
           % (datetime.date.today().isoformat(), os.cpu_count(), cpu, platform.platform()), "",
           "| work | Textum | beside it | | ratio | at most | memory |", "|---|---:|---|---:|---:|---:|---:|"]
    for name, a, tool, b, ratio, target, memory in lines:
        beside = "`%s` | %.3f s" % (tool, b)
        if tool == "–":  # held against the seconds that it may take
            beside, shown, most, short = "– |", "", "%.1f s" % b, a > b
        elif target.endswith(" µs"):  # by how much each costs more than without
            shown, most, short = "%.1f µs more for each" % ratio, target, ratio > float(target[:-3])
        else:
            shown, most, short = "%.2f×" % ratio, target + "×", ratio > float(target)
        mark = " (short of it)" if short else ""
        out.append("| %s | %.3f s | %s | %s | %s%s | %.0f MiB |" % (name, a, beside, shown, most, mark, memory))
    out += ["", "| work | stored | change | ratio | at most | memory |", "|---|---:|---:|---:|---:|---:|"]
    for name, grown, expected, ratio, memory in sizes:
        most = 1.1 if "%" in name else 1.25
        mark = "" if ratio <= most else " (short of it)"
        out.append("| %s | %.1f MB | %.1f MB | %.2f× | %s×%s | %.0f MiB |" % (name, grown, expected, ratio, most, mark, memory))
    out += ["", "| work | of a core | at most | memory |", "|---|---:|---:|---:|"]
    for name, share, memory in shares:
        out.append("| %s | %.1f %% | 1 %%%s | %.0f MiB |" % (name, share, "" if share <= 1 else " (short of it)", memory))
    if build:
        out += ["", "A clean release build with crates fetched took %.0f s; the program has %.1f MB." % (build[0], build[1] / 1e6)]
    path = os.path.join(HERE, "docs", "benchmarks.md")
    notes = ""
    if os.path.exists(path):
        old = open(path).read()
        notes = old[old.index("## Reading the figures"):] if "## Reading the figures" in old else ""
    with open(path, "w") as target:
        target.write("\n".join(out) + "\n\n" + notes)


if __name__ == "__main__":
    main()
