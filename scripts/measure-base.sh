#!/bin/bash
# Holds the making of a base from cached packages against what it cannot do without, in one run: unpacking and writing the same files with two jobs, and the root's own dpkg
# configuring them. Needs root, dpkg-deb, and a project whose packages the store has.
#     scripts/measure-base.sh PROGRAM PROJECT HOME
set -eu
program=$(realpath "$1") project=$(realpath "$2") home=$(realpath "$3")
dir=$(mktemp -d -p "$home")
trap 'rm -rf --one-file-system "$dir"' EXIT
mkdir "$dir/debs"
grep -oE '[0-9a-f]{64} pool/[^"]*' "$project/cavrith.lock" | while read -r digest path; do ln -s "$home/store/blobs/$digest" "$dir/debs/$(basename "$path")"; done
number=$(find "$dir/debs" -type l | wc -l)
seconds() { local begun; begun=$(date +%s.%N); "$@" > "$dir/log" 2>&1 || { tail -5 "$dir/log"; exit 1; }; echo "$(date +%s.%N) - $begun" | bc; }
root() { mkdir -p "$1"/usr/{bin,sbin,lib,lib64}; for name in bin sbin lib lib64; do ln -s "usr/$name" "$1/$name"; done; }
unpack() {
    root "$dir/plain"
    find "$dir/debs" -type l | xargs -P 2 -I{} sh -c 'dpkg-deb --fsys-tarfile "$1" | tar -x --keep-directory-symlink -C "$2"' - {} "$dir/plain"
}
configure() {
    unshare --mount --pid --fork --mount-proc chroot "$dir/full" /usr/bin/env -i PATH=/tmp/shadow:/usr/sbin:/usr/bin DEBIAN_FRONTEND=noninteractive SOURCE_DATE_EPOCH=1783764997 LC_ALL=C.UTF-8 \
        sh -c 'dpkg --configure --force-depends base-passwd; dpkg --configure --force-depends base-files; dpkg --configure -a'
}
build() { CAVRITH_HOME=$dir/home /usr/bin/time -f '%M' -o "$dir/memory" "$program" -C "$project" build -q; }
mkdir -p "$dir/home"
CAVRITH_HOME=$dir/home "$program" store list -q
cp -r "$home/store/blobs" "$dir/home/store/"
sync
unpacking=$(seconds unpack)
# The records that configuring needs, made by the real dpkg; not measured.
root "$dir/full"
mkdir -p "$dir/full"/var/lib/dpkg/{info,updates,triggers} "$dir/full"/{etc,tmp/shadow,dev,proc}
: > "$dir/full/var/lib/dpkg/status"
cp /etc/passwd /etc/group "$dir/full/etc/"
printf '#!/bin/sh\nexit 0\n' | tee "$dir/full/tmp/shadow/ischroot" > "$dir/full/usr/sbin/policy-rc.d"
printf '#!/bin/sh\nexit 101\n' > "$dir/full/usr/sbin/policy-rc.d"
chmod 755 "$dir/full/tmp/shadow/ischroot" "$dir/full/usr/sbin/policy-rc.d"
for node in null zero urandom; do cp -a "/dev/$node" "$dir/full/dev/"; done
find "$dir/debs" -type l -print0 | xargs -0 dpkg --root="$dir/full" --force-all --force-script-chrootless --no-triggers --unpack > "$dir/log" 2>&1 || true
configuring=$(seconds configure)
sync
building=$(seconds build)
echo "$number packages: unpacked and written by two jobs $unpacking s, configured $configuring s, built $building s with $(cat "$dir/memory") KiB at most"
echo "ratio $(echo "scale=2; $building / ($unpacking + $configuring)" | bc)"
