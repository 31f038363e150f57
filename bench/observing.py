"""Lines of the benchmark about observing: what watching a stage costs, and what asking again costs."""
import os
import subprocess

STAGE = '[project]\nname = "observed"\n[stage.s]\nrun = "%s"\nwrites = ["out"]\n'
OPENS = """import os
for i in range(20000):
    os.close(os.open("many/%d" % i, os.O_RDONLY))
"""
WORK = """total = 0
for i in range(STEPS):
    total += i * i % 7
"""


def project(folder, name, command, more=""):
    path = os.path.join(folder, name)
    os.makedirs(path)
    with open(os.path.join(path, "textum.toml"), "w") as out:
        out.write(STAGE % command + more)
    return path


def watched(textum, command):
    """The command under the tracer alone, as a stage has it."""
    return [textum, "--observe-stage", "./observed.json", ""] + command


def lines(folder, textum, python, pair, scale):
    found = []
    path = project(folder, "observed-project", "true")
    imports = [python, "-c", "import sklearn.ensemble, pandas"]
    if subprocess.run(imports, stderr=subprocess.DEVNULL).returncode == 0:
        found.append(pair("importing scikit-learn and pandas, observed", watched(textum, imports), imports, path, "1.05", 7, tool="the same, not observed"))
    else:
        print("without scikit-learn and pandas the line about importing them is left out", flush=True)
    with open(os.path.join(path, "work.py"), "w") as out:
        out.write(WORK.replace("STEPS", str(16_000_000 // scale)))
    work = [python, "work.py"]
    found.append(pair("a stage that computes for some 10 s, observed", watched(textum, work), work, path, "1.01", 3, tool="the same, not observed"))
    os.makedirs(os.path.join(path, "many"))
    for i in range(20_000):
        with open(os.path.join(path, "many", str(i)), "w") as out:
            out.write("%d\n" % i)
    with open(os.path.join(path, "opens.py"), "w") as out:
        out.write(OPENS)
    opens = [python, "opens.py"]
    line = pair("opening 20,000 files, observed (25 µs more for each)", watched(textum, opens), opens, path, "99", 5, tool="the same, not observed")
    more = (line[1] - line[3]) / 20_000 * 1e6
    print("  %.1f µs more for each file" % more, flush=True)
    found.append(("opening 20,000 files, observed", *line[1:4], more, "25 µs", line[6]))
    count = 100_000 // scale
    path = project(folder, "observed-files", "find many -type f | xargs cat > out")
    for i in range(count):
        inner = os.path.join(path, "many", str(i // 1000))
        if i % 1000 == 0:
            os.makedirs(inner)
        with open(os.path.join(inner, str(i)), "w") as out:
            out.write("%d\n" % i)
    commit = "git init -q . && git add many && git -c gc.auto=0 -c maintenance.auto=false -c user.name=b -c user.email=b@example.org commit -qm x"
    subprocess.run("%s && %s run && sleep 3 && %s plan && git status" % (commit, textum, textum), shell=True, cwd=path, check=True,
                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    found.append(pair("plan, nothing changed, 100,000 files that were read undeclared", [textum, "plan"], "git status", path, "1.0", 9, tool="git status"))
    return found
