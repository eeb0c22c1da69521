#!/bin/sh
# Runs a program through the user-mode emulator of this machine's own architecture.
exec "qemu-$(uname -m)" "$@"
