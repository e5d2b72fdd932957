#!/bin/bash
# Kills builds and seals at random moments, and holds what comes after against what came before.
#     scripts/crashes.sh PROGRAM [TIMES [PROJECT]]
# PROGRAM is the built cavrith; PROJECT a folder with a spec and a lock, the demo's when it is left out. Works in a temporary folder, and says at the end how many kills there were and what was left.
set -eu
program=$(realpath "$1")
times=${2:-200}
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
export CAVRITH_HOME=$dir/home
longest=400
if [ -n "${3:-}" ]; then
    cp -r "$3" "$dir/project"
    cd "$dir/project"
    longest=9000
else
    "$program" demo "$dir/demo" > /dev/null
    cd "$dir/demo/ida/timetable"
    "$program" lock -q
fi
image() { "$program" build --json | grep -m1 '"image"'; }
expected=$(image)
killed=0
for number in $(seq "$times"); do
    # Something new to build every time, so that there is something to interrupt; and sealing, which builds anew.
    if ((number % 2)); then what=(build --fresh); else what=(seal); fi
    "$program" "${what[@]}" -q > /dev/null 2>&1 &
    pid=$!
    milliseconds=$((RANDOM % longest))
    sleep "$((milliseconds / 1000)).$(printf %03d $((milliseconds % 1000)))"
    if kill -9 "$pid" 2> /dev/null; then killed=$((killed + 1)); fi
    wait "$pid" 2> /dev/null || true
    if ((number % 10 == 0)); then
        found=$(image)
        [ "$found" = "$expected" ] || { echo "another image after kill $number: $found"; exit 1; }
        "$program" store check -q > /dev/null || { echo "the store is damaged after kill $number"; exit 1; }
    fi
done
sleep 2
"$program" build -q
left=$(find "$CAVRITH_HOME/store/staging" -mindepth 1 -maxdepth 1 | wc -l)
processes=$(pgrep -fc "^cavrith-sandbox" || true)
mounts=$(grep -c "$dir" /proc/mounts || true)
echo "$killed of $times were killed; left behind: $left folders, $processes processes, $mounts mounts"
[ "$left$mounts" = 00 ]
