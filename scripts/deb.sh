#!/bin/sh
# Makes a Debian package of this machine's architecture: the program, its completions and its manual pages.
#
#   scripts/deb.sh [DIRECTORY]      where the package goes; the folder of the build when left out
#
# Needs cargo and the package dpkg-dev. The same commit gives the same package.
set -eu

here=$(cd "$(dirname "$0")/.." && pwd)
target=${CARGO_TARGET_DIR:-$here/target}
to=${1:-$target/debian}
cd "$here"

version=$(sed -n 's/^version *= *"\(.*\)"/\1/p' Cargo.toml | head -n 1)
architecture=$(dpkg --print-architecture)
SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct 2>/dev/null || date +%s)}
export SOURCE_DATE_EPOCH

cargo build --profile dist --locked
program=$target/dist/cavrith

root=$(mktemp -d)
trap 'rm -rf "$root"' EXIT
chmod 755 "$root"

install -D -m 755 "$program" "$root/usr/bin/cavrith"
complete() {
    mkdir -p "$root/$(dirname "$2")"
    "$program" completions "$1" > "$root/$2"
}
complete bash usr/share/bash-completion/completions/cavrith
complete zsh usr/share/zsh/vendor-completions/_cavrith
complete fish usr/share/fish/vendor_completions.d/cavrith.fish

mkdir -p "$root/usr/share/man/man1"
"$program" --quiet manual "$root/usr/share/man/man1"
find "$root/usr/share/man" -name '*.1' -exec gzip -9n {} +

mkdir -p "$root/usr/share/doc/cavrith"
cp -r docs/*.md docs/*.json "$root/usr/share/doc/cavrith/"
gzip -9n < README.md > "$root/usr/share/doc/cavrith/README.gz"
# Either licence, whole, as the archive's policy wants it.
{ printf 'Cavrith is free software under either of two licences.\n\n'; cat LICENSE-MIT; printf '\n\n'; cat LICENSE-APACHE; } \
    > "$root/usr/share/doc/cavrith/copyright"

# The oldest C library that has all symbols which the program asks for.
libc=$(objdump -T "$program" | sed -n 's/.*GLIBC_\([0-9.]*\).*/\1/p' | sort -Vu | tail -n 1)
mkdir -p "$root/DEBIAN"
cat > "$root/DEBIAN/control" <<CONTROL
Package: cavrith
Version: $version
Architecture: $architecture
Maintainer: Cavrith <cavrith@brindle.example>
Installed-Size: $(du -ks "$root/usr" | cut -f 1)
Depends: libc6 (>= $libc), libgcc-s1
Recommends: uidmap, passt, git, openssh-client
Section: devel
Priority: optional
Description: describe a development workspace once, build it the same everywhere, prove it
 A team lead specifies base system, toolchains, editor extensions, folders,
 ports and provisioning steps in one file. Every member's workspace is built
 from pinned inputs to the same bits, and held against what was sealed.
CONTROL

find "$root" -exec touch -h -d "@$SOURCE_DATE_EPOCH" {} +
mkdir -p "$to"
package=$to/cavrith_${version}_$architecture.deb
dpkg-deb --root-owner-group -Zxz --build "$root" "$package" >/dev/null
echo "$package"
