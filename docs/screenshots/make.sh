#!/usr/bin/env bash
# Makes the pictures of this folder anew from the demo project: real commands in a real terminal.
# Needs xterm, xvfb and imagemagick (Debian's packages) and a built `textum`.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
root=$(cd "$here/../.." && pwd)
textum=${TEXTUM:-$root/target/release/textum}
work=$(mktemp -d)
trap 'kill "${xvfb:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
mkdir "$work/bin" && ln -s "$textum" "$work/bin/textum"
export PATH="$work/bin:$PATH" USER=weaver DISPLAY=:97
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
    for _ in $(seq 300); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.7
    import -window shot "$here/$name.png"
    kill $term 2>/dev/null || true
    wait $term 2>/dev/null || true
}

project=$work/loom-stops
textum demo "$project" --write-only >/dev/null
cd "$project"
git init -q -b main . && git add . && git -c user.name=weaver -c user.email=weaver@example.org commit -qm 'Begin'
shot run 13 'textum run'
first=$(textum runs --format json | sed -n 's/.*"run": "\(.*\)".*/\1/p' | head -1); first=${first##*-}
sed -i 's/rate = 0.2/rate = 0.1/' textum.toml
textum run -q >/dev/null
python3 shed/export.py data/shifts.csv --mistake
sed -i 's/seed = 7/seed = 11/' textum.toml
shot plan 16 'textum plan'
shot graph 9 'textum plan --graph'
textum run -q >/dev/null
shot runs 9 'textum runs'
shot versions 11 'textum data versions shifts'
shot diff 20 'textum data diff shifts@1 shifts@2'
shot profile 33 'textum data profile shifts@2 --against shifts@1'
shot stats 28 'textum stats --largest 5'
cp build/model.json "$work/final_v2_really.json"
shot trace 22 "textum trace ../final_v2_really.json"
echo 'a note of my own' >>build/model.json
shot restore 20 "textum restore $first"
shot rebuild 18 "textum rebuild $first:build/model.json"
shot show 20 "textum show $first"
sed -i 's/^params = \["fit"\]/parms = ["fit"]/; s/better = "lower"/better = "less"/; s/params = \["split"\]/params = ["spilt"]/' textum.toml
shot mistakes 29 'textum plan'
