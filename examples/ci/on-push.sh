#!/bin/sh
# What CI does on each push, in the clone of a project: bring back what the commit speaks of, execute what has changed, hold
# the gates, tell what came of it, share it. The machine may be empty: everything comes from the depot.
#
#   on-push.sh [COMMENT.md]
#
# Needs `textum` on the PATH, and the credentials of the depot in its usual variables.
set -eu
comment=${1:-comment.md}

# The run that the commit before this one stands for: what the new one is held against.
before=
if [ -f textum.receipt.json ]; then
    before=$(sed -n 's/^  "run": "\(.*\)".*/\1/p' textum.receipt.json)
    textum restore
fi

# A stage or a gate that does not succeed makes CI fail, after it has been told and shared.
status=0
textum run || status=$?
textum report last ${before:+--against "$before"} -o "$comment" || echo "no report could be written" >&2
textum sync --up
exit $status
