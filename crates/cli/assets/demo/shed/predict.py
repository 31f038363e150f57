"""Gives each row that comes in, as CSV, the probability that its loom stops: python3 shed/predict.py < rows.csv"""
import bisect
import csv
import json
import math
import sys


def load(path="build/model.json"):
    with open(path) as source:
        return json.load(source)


def chance_of(model, row):
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


if __name__ == "__main__":
    model = load()
    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(["shift_id", "loom", "p_stop"])
    for row in csv.DictReader(sys.stdin):
        writer.writerow([row["shift_id"], row["loom"], "%.6f" % chance_of(model, row)])
