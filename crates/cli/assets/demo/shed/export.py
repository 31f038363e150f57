"""The shed's export: one row per loom and shift. All of it is made up, by a seeded generator.

    python3 shed/export.py data/shifts.csv              a good export
    python3 shed/export.py data/shifts.csv --mistake    shed C's humidity as a fraction, not in percent
"""
import csv
import math
import os
import random
import sys

COLUMNS = ["shift_id", "date", "shift", "shed", "loom", "team", "yarn_count", "warp_tension", "weft_tension",
           "humidity", "temperature", "picks_per_minute", "lint", "hours_since_service", "stops_before", "stopped"]
LOOMS, DAYS, SHIFTS = 24, 84, ("early", "late", "night")
TEAMS = ("Ahorn", "Birke", "Linde", "Weide")


def rows(seed=1804, mistake=False):
    rng = random.Random(seed)
    looms = [{"name": "L%02d" % (i + 1), "shed": "ABC"[i // 8], "wear": rng.gauss(0, 0.5), "speed": rng.choice((420, 460, 500)),
              "yarn": rng.choice((16, 20, 24, 30, 36)), "serviced": rng.uniform(0, 300), "before": 0} for i in range(LOOMS)]
    number = 0
    for day in range(DAYS):
        week = day / 7
        outside = 11 + 0.9 * week + rng.gauss(0, 2)          # spring comes: warmer and drier from week to week
        date = "2026-%02d-%02d" % (3 + day // 28, 1 + day % 28)
        for s, shift in enumerate(SHIFTS):
            for i, loom in enumerate(looms):
                number += 1
                if rng.random() < 0.01:
                    loom["yarn"] = rng.choice((16, 20, 24, 30, 36))
                team = TEAMS[(day + s + i // 6) % 4]
                temperature = outside + 9 + {"early": 0, "late": 3, "night": -2}[shift] + rng.gauss(0, 1)
                humidity = 70 - 0.9 * (temperature - 20) - 0.6 * week + {"A": 2, "B": 0, "C": -3}[loom["shed"]] + rng.gauss(0, 4)
                warp = 24 + 0.15 * (loom["yarn"] - 24) + rng.gauss(0, 1.6)
                weft = 17 + rng.gauss(0, 1.4)
                picks = loom["speed"] + rng.gauss(0, 12)
                lint = max(0.0, 2 + 0.012 * loom["serviced"] + (0.03 * (60 - humidity) if humidity < 60 else 0) + rng.gauss(0, 0.8))
                strain = max(0.0, abs(warp - weft - 7) - 1.2)
                odds = (-4.7 + loom["wear"] + 0.55 * strain + 0.30 * lint + 0.0045 * loom["serviced"] + 0.5 * min(loom["before"], 3)
                        + (0.24 * (58 - humidity) if humidity < 58 else 0.05 * max(0.0, humidity - 74))
                        + (0.9 if picks > 490 and loom["yarn"] >= 30 else 0.0) + {"Ahorn": -0.2, "Birke": 0.0, "Linde": 0.1, "Weide": 0.3}[team])
                stopped = rng.random() < 1 / (1 + math.exp(-1.5 * odds))
                shown = humidity / 100 if mistake and loom["shed"] == "C" else humidity
                text = "" if rng.random() < 0.02 else ("%.3f" % shown if mistake and loom["shed"] == "C" else "%.1f" % shown)
                yield ["S%05d" % number, date, shift, loom["shed"], loom["name"], team, loom["yarn"], "%.1f" % warp, "%.1f" % weft, text,
                       "%.1f" % temperature, "%.0f" % picks, "%.2f" % lint, "%.0f" % loom["serviced"], loom["before"], int(stopped)]
                loom["before"] = min(9, loom["before"] + 1) if stopped else max(0, loom["before"] - 1)
                loom["serviced"] += 8
                if loom["serviced"] > 340 or (stopped and rng.random() < 0.05):
                    loom["serviced"] = 0.0


def main():
    target = sys.argv[1] if len(sys.argv) > 1 else "data/shifts.csv"
    os.makedirs(os.path.dirname(target) or ".", exist_ok=True)
    with open(target, "w", newline="") as out:
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(COLUMNS)
        writer.writerows(rows(mistake="--mistake" in sys.argv))


if __name__ == "__main__":
    main()
