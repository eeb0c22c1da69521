#!/bin/sh
# Installs what the examples compare: install.sh PYTHON [NAME...], all of them unless named.
# From the distribution, as root, and from the registries of Python and of Node.
set -eu
cd "$(dirname "$0")"
python=$1
case "$python" in /*) ;; *) python=../$python ;; esac
shift
[ $# -gt 0 ] || set -- browsers system-releases runtimes allocators virtual-machine emulation \
    graphics-drivers

packages=
for name in "$@"; do
    case "$name" in
        browsers) packages="$packages chromium firefox-esr" ;;
        system-releases) packages="$packages debootstrap" ;;
        runtimes) packages="$packages python3 python3-dbg pypy3" ;;
        allocators)
            packages="$packages gcc libc6-dev libjemalloc2 libtcmalloc-minimal4 libmimalloc2.0" ;;
        virtual-machine)
            case "$(uname -m)" in aarch64) emulator=qemu-system-arm ;; *) emulator=qemu-system-x86 ;; esac
            packages="$packages gcc libc6-dev $emulator busybox-static cpio" ;;
        emulation) packages="$packages gcc libc6-dev qemu-user" ;;
        graphics-drivers)
            packages="$packages libegl1 libegl-mesa0 libgl1 libgl1-mesa-dri mesa-vulkan-drivers" ;;
        *) ;;
    esac
done
command -v npm > /dev/null || case " $* " in *" runtimes "*) packages="$packages npm" ;; esac
apt-get update -qq
# shellcheck disable=SC2086 - these are words
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $packages
for name in "$@"; do
    case "$name" in
        system-releases) system-releases/make-userlands.sh install ;;
        runtimes) runtimes/install.sh ;;
        virtual-machine) virtual-machine/unpack-kernel.sh ;;
        graphics-drivers)
            "$python" -m pip install -q --disable-pip-version-check \
                -r graphics-drivers/requirements.txt ;;
        *) ;;
    esac
done
