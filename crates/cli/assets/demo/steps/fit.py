"""Gradient-boosted trees on binned columns, with nothing but the standard library; no chance in it.

Every fifth row is only watched: the loss on it tells when more rounds stop helping. Losses are told to Textum by
lines of JSON, and every tenth round is a checkpoint to start from.
"""
import bisect
import csv
import json
import math
import os
import subprocess

NUMBERS = ["yarn_count", "warp_tension", "weft_tension", "humidity", "temperature", "picks_per_minute", "lint",
           "hours_since_service", "stops_before"]
WORDS = ["team", "shift", "loom"]
BINS, LEAST = 24, 20


def read(path):
    with open(path, newline="") as source:
        return list(csv.DictReader(source))


def edges_of(values):
    ordered = sorted(values)
    return sorted({ordered[len(ordered) * i // BINS] for i in range(1, BINS)})


def columns_of(rows):
    """Each row as bin numbers: quantiles of the numbers, the mean result of each word."""
    base = sum(r["stopped"] == "1" for r in rows) / len(rows)
    plan = [{"name": n, "edges": edges_of([float(r[n]) for r in rows])} for n in NUMBERS]
    for name in WORDS:
        groups = {}
        for r in rows:
            groups.setdefault(r[name], []).append(r["stopped"] == "1")
        means = {w: round((sum(g) + 20 * base) / (len(g) + 20), 6) for w, g in sorted(groups.items())}
        plan.append({"name": name, "means": means, "edges": edges_of(list(means.values()) * 2), "base": round(base, 6)})
    return plan


def binned(rows, plan):
    out = []
    for column in plan:
        if "means" in column:
            values = [column["means"].get(r[column["name"]], column["base"]) for r in rows]
        else:
            values = [float(r[column["name"]]) for r in rows]
        out.append([bisect.bisect_right(column["edges"], v) for v in values])
    return out


def grow(members, bins, grad, hess, depth):
    total_g, total_h = sum(grad[i] for i in members), sum(hess[i] for i in members)
    best = None
    if depth > 0 and len(members) >= 2 * LEAST:
        for number, column in enumerate(bins):
            g, h, n = [0.0] * (BINS + 1), [0.0] * (BINS + 1), [0] * (BINS + 1)
            for i in members:
                b = column[i]
                g[b] += grad[i]
                h[b] += hess[i]
                n[b] += 1
            left_g = left_h = 0.0
            left_n = 0
            for b in range(BINS):
                left_g, left_h, left_n = left_g + g[b], left_h + h[b], left_n + n[b]
                if left_n < LEAST or len(members) - left_n < LEAST:
                    continue
                gain = left_g ** 2 / (left_h + 1) + (total_g - left_g) ** 2 / (total_h - left_h + 1) - total_g ** 2 / (total_h + 1)
                if best is None or gain > best[0] + 1e-9:
                    best = (gain, number, b)
    if best is None or best[0] < 1e-6:
        return {"value": round(-total_g / (total_h + 1), 6)}
    _, number, cut = best
    column = bins[number]
    return {"column": number, "cut": cut,
            "low": grow([i for i in members if column[i] <= cut], bins, grad, hess, depth - 1),
            "high": grow([i for i in members if column[i] > cut], bins, grad, hess, depth - 1)}


def value_of(tree, bins, i):
    while "cut" in tree:
        tree = tree["low"] if bins[tree["column"]][i] <= tree["cut"] else tree["high"]
    return tree["value"]


def tell(step, metrics, progress):
    if "TEXTUM_SIGNALS" in os.environ:
        with open(os.environ["TEXTUM_SIGNALS"], "a") as signals:
            signals.write(json.dumps({"metric": metrics, "step": step, "progress": progress}) + "\n")


def checkpoint(step, trees):
    os.makedirs("build/checkpoints", exist_ok=True)
    with open("build/checkpoints/trees.json", "w") as out:
        json.dump(trees, out, sort_keys=True)
    if "TEXTUM_SIGNALS" in os.environ:                   # returns when it is safely stored
        subprocess.run([os.environ["TEXTUM_PROGRAM"], "emit", "--step", str(step), "--checkpoint"], check=True)


def loss_of(score, truth, members):
    chance = ((1 / (1 + math.exp(-score[i])), truth[i]) for i in members)
    return -sum(math.log(max(1e-12, p if t else 1 - p)) for p, t in chance) / len(members)


def main():
    params = json.load(open(os.environ["TEXTUM_PARAMS"]))["fit"]
    rows = read("build/train.csv")
    truth = [1.0 if r["stopped"] == "1" else 0.0 for r in rows]
    plan = columns_of(rows)
    bins = binned(rows, plan)
    base = math.log(sum(truth) / (len(truth) - sum(truth)))
    learn = [i for i in range(len(rows)) if i % 5]
    watch = [i for i in range(len(rows)) if i % 5 == 0]
    score, trees = [base] * len(rows), []
    if "TEXTUM_FROM" in os.environ:                      # go on from a checkpoint; otherwise start clean
        trees = json.load(open(os.path.join(os.environ["TEXTUM_FROM"], "trees.json")))
        for tree in trees:
            score = [s + params["rate"] * value_of(tree, bins, i) for i, s in enumerate(score)]
        print("going on from round %d" % len(trees))
    while len(trees) < params["rounds"]:
        chance = [1 / (1 + math.exp(-s)) for s in score]
        tree = grow(learn, bins, [p - t for p, t in zip(chance, truth)], [p * (1 - p) for p in chance], params["depth"])
        trees.append(tree)
        score = [s + params["rate"] * value_of(tree, bins, i) for i, s in enumerate(score)]
        loss, watched = loss_of(score, truth, learn), loss_of(score, truth, watch)
        print("round %d: loss %.5f, watched %.5f" % (len(trees), loss, watched), flush=True)
        tell(len(trees), {"loss": round(loss, 6), "watch_loss": round(watched, 6)}, len(trees) / params["rounds"])
        if len(trees) % 10 == 0:
            checkpoint(len(trees), trees)
    os.makedirs("build", exist_ok=True)
    with open("build/model.json", "w") as out:
        json.dump({"base": round(base, 6), "rate": params["rate"], "columns": plan, "trees": trees}, out, indent=1, sort_keys=True)


if __name__ == "__main__":
    main()
