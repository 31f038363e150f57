"""Scores the test rows: metrics, predictions, and the ROC curve as a figure."""
import bisect
import csv
import json
import math
import os

model = json.load(open("build/model.json"))
with open("build/test.csv", newline="") as source:
    rows = list(csv.DictReader(source))


def bins_of(row):
    out = []
    for column in model["columns"]:
        value = column["means"].get(row[column["name"]], column["base"]) if "means" in column else float(row[column["name"]])
        out.append(bisect.bisect_right(column["edges"], value))
    return out


def chance_of(row):
    bins, score = bins_of(row), model["base"]
    for tree in model["trees"]:
        while "cut" in tree:
            tree = tree["low"] if bins[tree["column"]] <= tree["cut"] else tree["high"]
        score += model["rate"] * tree["value"]
    return 1 / (1 + math.exp(-score))


scored = sorted(((chance_of(r), int(r["stopped"]), r["shift_id"]) for r in rows), key=lambda s: (-s[0], s[2]))
stops = sum(t for _, t, _ in scored)
others = len(scored) - stops
points, hits, alarms, area = [(0.0, 0.0)], 0, 0, 0.0
for at, (chance, truth, _) in enumerate(scored):
    hits, alarms = hits + truth, alarms + 1 - truth
    if at + 1 == len(scored) or scored[at + 1][0] != chance:
        points.append((alarms / others, hits / stops))
for (x0, y0), (x1, y1) in zip(points, points[1:]):
    area += (x1 - x0) * (y0 + y1) / 2
loss = -sum(math.log(max(1e-12, c if t else 1 - c)) for c, t, _ in scored) / len(scored)
scores = {"auc": round(area, 6), "log_loss": round(loss, 6), "brier": round(sum((c - t) ** 2 for c, t, _ in scored) / len(scored), 6),
          "accuracy": round(sum((c >= 0.5) == (t == 1) for c, t, _ in scored) / len(scored), 6), "rows": len(scored)}
os.makedirs("build/figures", exist_ok=True)
with open("build/scores.json", "w") as out:
    json.dump(scores, out, indent=1, sort_keys=True)
with open("build/predictions.csv", "w", newline="") as out:
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["shift_id", "stopped", "p_stop"])
    writer.writerows([i, t, "%.6f" % c] for c, t, i in sorted(scored, key=lambda s: s[2]))
path = " ".join("%s%.1f,%.1f" % ("L" if i else "M", 60 + 300 * x, 340 - 300 * y) for i, (x, y) in enumerate(points))
with open("build/figures/roc.svg", "w") as out:
    out.write('<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 400" font-family="sans-serif" font-size="13">'
              '<rect width="400" height="400" fill="#fff"/><path d="M60,40V340H360" fill="none" stroke="#333"/>'
              '<path d="M60,340L360,40" stroke="#bbb" stroke-dasharray="4"/><path d="%s" fill="none" stroke="#06c" stroke-width="2"/>'
              '<text x="210" y="375" text-anchor="middle">false alarms</text>'
              '<text x="24" y="190" text-anchor="middle" transform="rotate(-90 24 190)">stops foreseen</text>'
              '<text x="230" y="220">AUC %.3f</text></svg>\n' % (path, area))
print("AUC %.4f on %d rows" % (area, len(scored)))
