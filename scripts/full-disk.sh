#!/bin/bash
# Builds on a disk that is full at 30 different moments, then with room. Needs root, for a loop mount.
#     scripts/full-disk.sh PROGRAM [PROJECT MEBIBYTES]
# PROJECT is a folder with a spec and a lock, and MEBIBYTES what its build needs; the demo's when they are left out.
set -eu
program=$(realpath "$1")
dir=$(mktemp -d)
trap 'umount "$dir/disk" 2> /dev/null || true; rm -rf "$dir"' EXIT
if [ -n "${2:-}" ]; then
    cp -r "$2" "$dir/project"
    cd "$dir/project"
    step=$(($3 * 1024 / 28)) size=$(($3 * 2 + 64))
else
    "$program" demo "$dir/demo" > /dev/null
    cd "$dir/demo/ida/timetable"
    "$program" lock -q
    step=260 size=24
fi
truncate -s "${size}M" "$dir/image"
mkfs.ext4 -q -O ^has_journal -m 0 "$dir/image"
mkdir "$dir/disk"
mount -o loop "$dir/image" "$dir/disk"
expected=$("$program" build --json | grep -m1 '"image"')
clear=0 fine=0
for number in $(seq 30); do
    rm -rf "$dir/disk/home" "$dir/disk/ballast"
    free=$(df --output=avail -k "$dir/disk" | tail -1)
    # From nothing to a little more than a build needs.
    room=$((number * step))
    dd if=/dev/zero of="$dir/disk/ballast" bs=1k count=$((free - room)) status=none
    if said=$(CAVRITH_HOME=$dir/disk/home "$program" build 2>&1); then
        fine=$((fine + 1))
    elif grep -qi "the disk is full; make room\|No space left on device" <<< "$said"; then
        clear=$((clear + 1))
    else
        echo "with $room KiB: $said"
        exit 1
    fi
    rm "$dir/disk/ballast"
    found=$(CAVRITH_HOME=$dir/disk/home "$program" build --json | grep -m1 '"image"')
    [ "$found" = "$expected" ] || { echo "another image after $room KiB: $found"; exit 1; }
    CAVRITH_HOME=$dir/disk/home "$program" store check -q > /dev/null
done
echo "$clear times full with a clear message, $fine times enough; then, with room, always the same image"
