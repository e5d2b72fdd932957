#!/bin/bash
# Holds a running workspace against what it cannot do without, in one run: starting it and a command in it against the same namespaces and mounts made by hand, a further command against nsenter, a carried
# port against the loopback, a live folder against the same folder outside. Needs root, hyperfine, iperf3, git, and a project with git inside and a port `iperf` with 5201 inside.
#     scripts/measure-living.sh PROGRAM PROJECT HOME
set -u
program=$(realpath "$1") project=$(realpath "$2")
export CAVRITH_HOME=$(realpath "$3")
cd "$project" || exit 1
dir=$(mktemp -d)
trap '"$program" stop -q 2> /dev/null; rm -rf "$dir" "$project/many"' EXIT
"$program" stop -q 2> /dev/null
"$program" start -q --wait
keeper=$("$program" status --json | sed -n 's/^ *"keeper": \([0-9]*\),*$/\1/p' | head -1)
inside=$(for child in $(pgrep -P "$keeper"); do pgrep -P "$child"; done | head -1)
outside=$("$program" status --json | tr -d ' \n' | grep -oE '"name":"iperf"[^}]*' | grep -oE '"outside":[0-9]+' | grep -oE '[0-9]+')
mean() { sed -n 's/^ *"mean": \([0-9.e-]*\),/\1/p' "$1"; }
ratio() { awk -v ours="$1" -v theirs="$2" -v what="$3" 'BEGIN { printf "%-44s %.4g against %.4g: %.2f ×\n", what, ours, theirs, ours / theirs }'; }

hyperfine -N -w 20 -r 300 --export-json "$dir/run" "$program run -q -- true" > /dev/null 2>&1
hyperfine -N -w 20 -r 300 --export-json "$dir/nsenter" "nsenter -t $inside -m -u -i -n -p -U true" > /dev/null 2>&1
ratio "$(mean "$dir/run")" "$(mean "$dir/nsenter")" "a command in a running workspace (s)"

nsenter -t "$inside" -n iperf3 -s > /dev/null 2>&1 &
server=$!
sleep 0.5
rate() { "$@" -t 3 -J | sed -n '/sum_received/,/}/s/.*"bits_per_second":[[:space:]]*\([0-9.e+]*\).*/\1/p' | head -1; }
direct=$(rate nsenter -t "$inside" -n iperf3 -c 127.0.0.1) carried=$(rate iperf3 -c 127.0.0.1 -p "$outside")
ratio "$carried" "$direct" "a carried port, as fast as it goes (bit/s)"
slow_direct=$(rate nsenter -t "$inside" -n iperf3 -c 127.0.0.1 -b 10G) slow=$(rate iperf3 -c 127.0.0.1 -p "$outside" -b 10G)
ratio "$slow" "$slow_direct" "a carried port at 10 Gbit/s (bit/s)"
kill $server

mkdir -p many && (cd many && git init -q . && for part in $(seq 200); do mkdir "$part"; for file in $(seq 100); do echo "$file" > "$part/$file"; done; done && git -c core.hooksPath=/dev/null add . && git -c user.name=a -c user.email=a@brindle.example commit -q -m many)
seconds() { awk 'NR == 1 { print $1 }'; }
loop='cd many; git status > /dev/null; a=$(date +%s%N); for i in 1 2 3 4 5 6 7 8 9 10; do git status > /dev/null; done; b=$(date +%s%N); echo $(( (b - a) / 10 )) | sed "s/\(.*\)/\1e-9/"'
within=$("$program" run -q -- sh -c "$loop" | seconds) without=$(sh -c "$loop" | seconds)
within2=$("$program" run -q -- sh -c "$loop" | seconds) without2=$(sh -c "$loop" | seconds)
ratio "$(awk "BEGIN { print $within + $within2 }")" "$(awk "BEGIN { print $without + $without2 }")" "git status over 20 000 files (s, two runs)"

"$program" stop -q
layers=$(ls -d "$CAVRITH_HOME"/store/layers/*/root | head -12 | paste -sd:)
cat > "$dir/hand" <<HAND
mount --make-rprivate / && mkdir -p "$dir/u" "$dir/w" "$dir/m" && mount -t overlay overlay -o "lowerdir=$layers,upperdir=$dir/u,workdir=$dir/w,userxattr" "$dir/m" && cd "$dir/m" &&
mkdir -p proc sys dev run tmp code && mount -t proc proc proc && mount -t sysfs -o ro sysfs sys && mount -t tmpfs tmpfs dev && mkdir dev/pts dev/shm && mount -t devpts -o newinstance devpts dev/pts && mount -t tmpfs tmpfs dev/shm &&
for node in null zero full random urandom tty; do : > dev/\$node; mount --bind /dev/\$node dev/\$node; done && mount -t tmpfs tmpfs run && mount -t tmpfs tmpfs tmp && mount --bind "$project" code && mkdir run/old && pivot_root . run/old && umount -l run/old && exec true
HAND
hyperfine -N -w 2 -r 20 --prepare "$program stop -q" --export-json "$dir/start" "$program run -q -- true" > /dev/null 2>&1
hyperfine -N -w 2 -r 20 --export-json "$dir/byhand" "unshare -U -r -m -p -f -u -i -n -C sh $dir/hand" > /dev/null 2>"$dir/err" || cat "$dir/err"
ratio "$(mean "$dir/start")" "$(mean "$dir/byhand")" "start to the first command's end (s)"
