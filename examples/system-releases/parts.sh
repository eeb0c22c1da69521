#!/bin/sh
# What people do with a system, in parts: parts.sh PART. Prints what came out, the same everywhere.
set -eu
cd /srv/work
export LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
case "$1" in
    shell)
        n=0 sum=0
        while [ $n -lt 40000 ]; do
            n=$((n + 1)) sum=$(((sum * 31 + n) % 65521))
            case $n in *99) name=${sum#6} ;; esac
        done
        echo "$sum $name" ;;
    sort) sort log.txt | sort -k 2,2 -k 6,6n | cksum ;;
    compression) gzip -6 -n < log.txt | gzip -dc | cksum; xz -1 -T1 < log.txt | xz -dc | cksum ;;
    search)
        for n in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16; do
            grep -c -E 'show-(0[0-9]2|1[5-9]9).*lamp (1|2|3)[0-9]\.[0-9]7' log.txt
            grep -v -c 'projector 3' log.txt
        done ;;
    interpreter) for n in 1 2 3 4 5 6 7 8; do python3 -c 'print(6 * 7)'; done ;;
    program) ./parts ;;
    libc) getconf GNU_LIBC_VERSION ;;
    *) echo "no part $1" >&2; exit 2 ;;
esac
