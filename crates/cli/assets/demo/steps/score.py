"""Gives every test row the probability that its loom stops."""
import bisect
import csv
import json
import math

model = json.load(open("build/model.json"))
with open("build/test.csv", newline="") as source:
    rows = list(csv.DictReader(source))


def chance_of(row):
    bins = []
    for column in model["columns"]:
        value = column["means"].get(row[column["name"]], column["base"]) if "means" in column else float(row[column["name"]])
        bins.append(bisect.bisect_right(column["edges"], value))
    score = model["base"]
    for tree in model["trees"]:
        while "cut" in tree:
            tree = tree["low"] if bins[tree["column"]] <= tree["cut"] else tree["high"]
        score += model["rate"] * tree["value"]
    return 1 / (1 + math.exp(-score))


with open("build/predictions.csv", "w", newline="") as out:
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["shift_id", "shed", "loom", "stopped", "p_stop"])
    for row in sorted(rows, key=lambda r: r["shift_id"]):
        writer.writerow([row["shift_id"], row["shed"], row["loom"], row["stopped"], "%.6f" % chance_of(row)])
print("scored %d rows" % len(rows))
