#!/bin/sh
# Makes a userland of each release in build/, once, and puts the workloads into each of them.
# `make-userlands.sh` alone does what needs no network: the workloads and what they work on.
#   make-userlands.sh install     also makes userlands that are missing (as root, 1 to 3 min each)
set -eu
cd "$(dirname "$0")"
mirror=${MIRROR:-http://deb.debian.org/debian}
packages=gcc,libc6-dev,python3-minimal,xz-utils
mkdir -p build
[ -f build/log.txt ] || awk 'BEGIN { s = 1; for (n = 0; n < 40000; n++) {
    s = (s * 69069 + 1) % 4294967296
    printf "%010d show-%03d projector %d lamp %d.%02d degrees\n", s, s % 365, n % 7, s % 90, n % 100
} }' > build/log.txt
for release in bullseye bookworm trixie; do
    root=build/$release
    if [ ! -e "$root/etc/os-release" ]; then
        if [ "${1:-}" != install ]; then
            echo "the userland $release is missing: make-userlands.sh install" >&2
            exit 1
        fi
        rm -rf "$root.new"
        debootstrap --variant=minbase --include="$packages" "$release" "$root.new" "$mirror"
        rm -rf "$root.new/var/cache/apt" "$root.new/var/lib/apt/lists"
        mv "$root.new" "$root"
    fi
    mkdir -p "$root/srv/work"
    # Only what is not there yet: who is not root cannot, and need not.
    for file in parts.sh parts.c build/log.txt; do
        cmp -s "$file" "$root/srv/work/$(basename "$file")" || cp "$file" "$root/srv/work/"
    done
    if [ ! "$root/srv/work/parts" -nt parts.c ]; then
        ./enter.sh "$release" cc -O2 -o /srv/work/parts /srv/work/parts.c -lm
    fi
done
