"""Splits the rows at random, the same way for the same seed."""
import csv
import json
import os
import random

params = json.load(open(os.environ["TEXTUM_PARAMS"]))["split"]
rng = random.Random(params["seed"])
with open("build/clean.csv", newline="") as source:
    reader = csv.reader(source)
    header, rows = next(reader), list(reader)
rng.shuffle(rows)
cut = round(len(rows) * params["test_share"])
for name, part in (("test", rows[:cut]), ("train", rows[cut:])):
    with open("build/%s.csv" % name, "w", newline="") as out:
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(header)
        writer.writerows(part)
    print("%s: %d rows" % (name, len(part)))
