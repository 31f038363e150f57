#!/bin/sh
# A small engine that carries jobs out on this machine, for trying places of kind "command".
#   engine.sh DIR submit SCRIPT     hands a script over and prints what the job is called
#   engine.sh DIR state JOB...      a line for each: JOB Q (waiting), R (running), C (over) or X (cancelled)
#   engine.sh DIR cancel JOB [INT]  ends a job, or asks it to end
is_at_work() {
    read -r pid <"$1" && [ -d "/proc/$pid" ] || return 1
    case $(tr '\0' ' ' 2>/dev/null <"/proc/$pid/cmdline") in *textum-*) ;; *) return 1 ;; esac
}
dir=$1 what=$2
shift 2
case $what in
submit)
    mkdir -p "$dir" && job=$(mktemp -d "$dir/jXXXXXX") || exit 1
    setsid -f sh -c 'echo $$ > "$1/part" && mv "$1/part" "$1/pid"; exec sh "$2"' engine "$job" "$1" </dev/null >/dev/null 2>&1
    echo "job $(basename "$job") was taken on"
    basename "$job"
    ;;
state)
    for job in "$@"; do
        [ -d "$dir/$job" ] || continue
        if [ ! -e "$dir/$job/pid" ]; then echo "$job Q no room yet"
        elif is_at_work "$dir/$job/pid"; then echo "$job R"
        elif [ -e "$dir/$job/cancelled" ]; then echo "$job X by somebody"
        else echo "$job C"; fi
    done
    ;;
cancel)
    until [ -e "$dir/$1/pid" ]; do sleep 0.01; done
    [ "${2:-KILL}" = INT ] || : >"$dir/$1/cancelled"
    kill -s "${2:-KILL}" -- "-$(cat "$dir/$1/pid")" 2>/dev/null
    true
    ;;
esac
