#!/usr/bin/env bash
# Makes the pictures of this folder anew from the demo project: real commands in a real terminal.
# Needs xterm, xvfb and imagemagick (Debian's packages), chromium for the report, and a built `textum`.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
root=$(cd "$here/../.." && pwd)
textum=${TEXTUM:-$root/target/release/textum}
work=$(mktemp -d)
trap 'kill "${xvfb:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
mkdir "$work/bin" && ln -s "$textum" "$work/bin/textum"
# The system's own Python, where there is one: what is in a home folder keeps rebuilds from being sealed.
export PATH="$work/bin:/usr/bin:/bin:$PATH" USER=weaver DISPLAY=:97
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 & xvfb=$!
sleep 1

# shot NAME LINES COMMAND: the command's output in a terminal of that many lines
shot() {
    local name=$1 lines=$2 command=$3
    cat >"$work/show" <<TXT
cd "$project"
printf '\033[36m\$\033[0m %s\n' '$command'
$command
touch "$work/done"
sleep 20
TXT
    rm -f "$work/done"
    xterm -geometry "112x$lines+0+0" -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf7' -fg '#22252a' -b 14 +sb \
        -xrm 'XTerm*color1: #b3261e' -xrm 'XTerm*color2: #1b7f3b' -xrm 'XTerm*color6: #0b6e8f' \
        -T shot -xrm 'XTerm*faintIsRelative: true' -xrm 'XTerm*cursorColor: #fbfaf7' -e bash "$work/show" & local term=$!
    for _ in $(seq 1200); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.7
    import -window shot "$here/$name.png"
    kill $term 2>/dev/null || true
    wait $term 2>/dev/null || true
}

project=$work/loom-stops
textum demo "$project" --write-only >/dev/null
cd "$project"
shot run 20 'textum run'
first=$(textum runs --format json | sed -n 's/.*"run": "\(.*\)".*/\1/p' | head -1); first=${first##*-}
shot sweep 26 'textum run -q --vary fit.rate=0.05,0.1,0.2,0.4 --vary fit.depth=2..4'
sweep=$(textum runs --format json | sed -n 's/.*"sweep": "\(sweep.*\)".*/\1/p' | head -1)
shot plot 30 "textum plot $sweep --metric auc --against fit.rate"
shot compare 34 "textum compare $first best:auc"
textum run -q --from "$first#20" --set fit.rounds=40 --set fit.rate=0.1 >/dev/null
sed -i 's/rate = 0.2/rate = 0.1/' textum.toml
textum run -q >/dev/null
python3 shed/export.py data/shifts.csv --mistake
sed -i 's/seed = 7/seed = 11/' textum.toml
shot plan 19 'textum plan'
textum run -q >/dev/null
shot runs 13 'textum runs'
shot diff 43 'textum data versions shifts; echo; textum data diff shifts@1 shifts@2 --examples 3; echo; textum data examine shifts@2 --rule "humidity between 20 and 100 in 98 %" --rule "drift below 0.25" --rule "shift_id is unique" --against shifts@1 --examples 2'
shot profile 33 'textum data profile shifts@2 --against shifts@1'
cp build/model.json "$work/final_v2_really.json"
echo 'HUMIDITY = "62.0"' >steps/usual.py
sed -i -e 's/"62.0"/usual.HUMIDITY/' -e 's/^import os/import os, usual/' steps/clean.py
textum run -q >/dev/null
sed -i 's/62.0/48.0/' steps/usual.py
shot observed 26 'textum plan; echo; sed -i s/48.0/62.0/ steps/usual.py; textum plan clean; echo; textum adopt'
shot trace 24 "textum trace ../final_v2_really.json"
echo 'a note of my own' >>build/model.json
shot rebuild 34 "textum restore $first; echo; textum rebuild $first:build/model.json"
shot show 27 "textum show $first"
# A run that is at work: once it has told a checkpoint there is something to see.
project=$work/followed
textum demo "$project" --write-only >/dev/null
(cd "$project" && textum run -q --set fit.rounds=400 --set fit.rate=0.03 >/dev/null 2>&1 || true) & run=$!
for _ in $(seq 600); do grep -qs '"checkpoint"' "$project"/.textum/runs/*/events && break; sleep 0.1; done
(sleep 5; touch "$work/done") &
shot follow 34 'textum follow'
textum -C "$project" stop >/dev/null && wait $run
project=$work/loom-stops
# The page as a browser shows it, where there is one.
if command -v chromium >/dev/null; then
    textum report best:auc --against "$first" -o "$work/report.html" >/dev/null
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,1500 --screenshot="$here/report.png" \
        "file://$work/report.html" >/dev/null 2>&1
fi
textum demo "$work/team" --team >/dev/null
project=$work/team/bo
shot team 30 'textum depot check; echo; textum runs; echo; textum sync --dry-run; echo; textum verify --depot team'
textum demo "$work/shared" --registry --quiet-story >/dev/null
project=$work/shared/ada
shot registry 39 'textum registry show stop-predictor@live --color always | head -24; echo; textum registry history stop-predictor'
if command -v chromium >/dev/null; then
    (cd "$project" && textum impact shifts --where 'shed = "C" and humidity < 1' --format html >"$work/impact.html")
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,420 --screenshot="$here/impact.png" \
        "file://$work/impact.html" >/dev/null 2>&1
fi
# On a cluster: Slurm where there is one, else the engine that the demo brings.
project=$work/cluster
textum demo "$project" --place --quiet-story >/dev/null 2>&1
cd "$project"
sed -i -e 's/^\[stage.fit\]$/&\nplace = "cluster"/' -e 's/rate = 0.2/rate = 0.02/; s/rounds = 40/rounds = 60/' textum.toml
shot places 37 'textum place check; echo; textum plan; echo; textum run --detach; textum follow --plain'
