#!/bin/sh
# Unpacks the distribution's kernel for virtual machines into build/kernel, without installing it.
set -eu
cd "$(dirname "$0")"
case "$(uname -m)" in
    x86_64) name=linux-image-cloud-amd64 ;;
    aarch64) name=linux-image-cloud-arm64 ;;
    *) echo "no kernel is known for $(uname -m)" >&2; exit 1 ;;
esac
[ -d build/kernel/boot ] && exit 0
mkdir -p build/download
cd build/download
apt-get download -qq "$(apt-cache depends "$name" | awk '/Depends: linux-image/ { print $2; exit }')"
dpkg -x linux-image-*.deb ../kernel
rm -r ../kernel/lib ../kernel/usr
cd ..
rm -r download
