#!/bin/bash
# Starts and stops a workspace with a service and a kept folder many times, and kills the keeper, the service or the command at random moments. Afterwards nothing
# may be left: no process, mount, socket, port, control group or file in staging; and every line that was written into the kept folder has to be there.
#     scripts/endurance.sh PROGRAM [ROUNDS]
set -u
program=$(realpath "$1") rounds=${2:-200}
dir=$(mktemp -d)
export CAVRITH_HOME=$dir/home
trap 'cd /; "$program" -C "$dir/demo/ida/timetable" stop -q 2> /dev/null; rm -rf --one-file-system "$dir"' EXIT
"$program" demo "$dir/demo" > "$dir/log" 2>&1 || { tail -5 "$dir/log"; exit 1; }
cd "$dir/demo/ida/timetable" || exit 1
cat >> cavrith.toml <<'SPEC'

[[folders]]
mode   = "kept"
name   = "ledger"
inside = "/srv/ledger"

[[steps]]
name = "note the start"
at   = "start"
run  = "echo start >> /srv/ledger/starts; sync /srv/ledger/starts"
SPEC
"$program" lock -q > "$dir/log" 2>&1 && "$program" build -q > "$dir/log" 2>&1 || { tail -5 "$dir/log"; exit 1; }
running() { pgrep -c -f '^cavrith: ' || true; }
before=$(running)
keeper() { sed -n 's/^{"record":1,"keeper":\([0-9]*\),.*/\1/p' "$CAVRITH_HOME"/workspaces/*/record; }
written=0 failed=0
declare -A kills=([none]=0 [keeper]=0 [service]=0 [command]=0)
for round in $(seq "$rounds"); do
    pause=$(printf '0.%03d' $((RANDOM % 250)))
    case $((RANDOM % 4)) in
    0) what=none; "$program" start -q --wait > "$dir/log" 2>&1 || { failed=$((failed + 1)); cat "$dir/log"; } ;;
    1) what=keeper; "$program" start -q > /dev/null 2>&1 & command=$!; sleep "$pause"; kill -KILL "$(keeper)" 2> /dev/null; wait $command 2> /dev/null ;;
    2) what=service; "$program" start -q > /dev/null 2>&1; "$program" run -q -- sh -c 'kill -KILL $(pidof httpd)' > /dev/null 2>&1 ;;
    3) what=command; "$program" start -q > /dev/null 2>&1 & command=$!; sleep "$pause"; kill -KILL $command 2> /dev/null; wait $command 2> /dev/null ;;
    esac
    kills[$what]=$((${kills[$what]} + 1))
    # What was killed is started again, and takes a line.
    if "$program" run -q -- sh -c "echo $round >> /srv/ledger/rounds; sync /srv/ledger/rounds" > "$dir/log" 2>&1; then
        written=$((written + 1))
    else
        failed=$((failed + 1)); echo "round $round after $what: $(cat "$dir/log")"
    fi
    [ $((RANDOM % 3)) = 0 ] || "$program" stop -q || failed=$((failed + 1))
done
"$program" stop -q
sleep 3
lines=$(wc -l < "$CAVRITH_HOME"/kept/*/ledger/rounds)
left=$(find "$CAVRITH_HOME/store/staging" -mindepth 1 | wc -l)
processes=$(pgrep -cf "$dir" || true)
named=$(($(running) - before))
mounts=$(grep -c "$dir" /proc/mounts)
groups=$(find /sys/fs/cgroup -maxdepth 4 -name "*$(basename "$CAVRITH_HOME"/workspaces/timetable-*)*" 2> /dev/null | wc -l)
sockets=$(find "$CAVRITH_HOME" -type s | wc -l)
ports=$(ss -Hltnp 2> /dev/null | grep -c cavrith)
echo "$rounds rounds: ${kills[none]} whole, the keeper killed ${kills[keeper]} ×, the service ${kills[service]} ×, the command ${kills[command]} ×; $failed failed"
echo "kept: $lines of $written lines"
echo "left: $left files in staging, $processes processes of the folder, $named keepers and insides, $mounts mounts, $groups control groups, $sockets sockets, $ports listening ports"
[ "$lines" = "$written" ] && [ $((failed + left + processes + named + mounts + groups + sockets + ports)) = 0 ]
