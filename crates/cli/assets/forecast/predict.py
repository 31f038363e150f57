"""Gives tomorrow's rows to the published model, and writes what it answers."""
import json
import subprocess

card = json.load(open("models/stop/textum.card.json"))
with open("tomorrow.csv", "rb") as rows, open("risks.csv", "wb") as risks:
    subprocess.run(card["predict"], shell=True, cwd="models/stop", stdin=rows, stdout=risks, check=True)
print("predicted by", card["reference"])
