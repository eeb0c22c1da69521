#!/bin/sh
# Runs a command with a userland as its root: enter.sh RELEASE COMMAND...
root=$(dirname "$0")/build/$1
shift
if [ "$(id -u)" = 0 ]; then
    exec chroot "$root" "$@"
fi
exec unshare --user --map-root-user chroot "$root" "$@"
