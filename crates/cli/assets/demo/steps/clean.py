"""Fills missing humidity with the loom's last reading and drops rows without a result."""
import csv
import os

os.makedirs("build", exist_ok=True)
last, filled, kept = {}, 0, 0
with open("data/shifts.csv", newline="") as source, open("build/clean.csv", "w", newline="") as out:
    reader = csv.DictReader(source)
    writer = csv.DictWriter(out, reader.fieldnames, lineterminator="\n")
    writer.writeheader()
    for row in reader:
        if row["stopped"] not in ("0", "1"):
            continue
        if row["humidity"] == "":
            row["humidity"] = last.get(row["loom"], "62.0")
            filled += 1
        last[row["loom"]] = row["humidity"]
        writer.writerow(row)
        kept += 1
print("kept %d rows, filled %d missing humidity values" % (kept, filled))
