#!/usr/bin/env bash
# Runs the suite on a machine unlike the developer's: another processor, core count and release,
# one processor, a user without name and home, another time zone, a German locale, a strict umask,
# a path with blanks and letters beyond ASCII, another TMPDIR, standard input closed. Then what
# reads and writes text once more in the C locale. Needs root, Linux, and the package locales.
set -euo pipefail
cd "$(dirname "$0")/.."

if [[ ${1-} != inside ]]; then
    [[ $(id -u) == 0 ]] || { echo "elsewhere: needs root, to mount and to change the user" >&2; exit 2; }
    trap 'rm -rf "$away"' EXIT
    away=$(mktemp -d)
    chmod 755 "$away"
    place="$away/Größe & Maß 5"
    mkdir -p "$place" "$away/in C" "$away/spare room"
    git ls-files -z | xargs -0 cp --parents -t "$place"
    git ls-files -z | xargs -0 cp --parents -t "$away/in C"
    localedef -i de_DE -f UTF-8 "$away/de_DE.UTF-8" || {
        echo "elsewhere: needs the German locale: install the package locales" >&2
        exit 2
    }
    # What it can do is still what it is: there are programs that look here before they start.
    flags=$(grep -m 1 -E '^(flags|Features)' /proc/cpuinfo || true)
    for number in 0 1 2 3 4 5 6; do
        printf 'processor\t: %s\nvendor_id\t: Pelican\nmodel name\t: Pelican 9 @ 1.70GHz\n' "$number"
        printf 'microcode\t: 0x77\ncpu MHz\t\t: 1700.000\nphysical id\t: 0\ncore id\t\t: %s\n%s\n\n' "$number" "$flags"
    done >"$away/cpuinfo"
    printf 'PRETTY_NAME="Halden 5 (dome)"\nID=halden\nVERSION_ID="5"\n' >"$away/os-release"
    chown -R 54321:54321 "$away"
    # In a namespace of its own, so that nothing that is mounted is seen elsewhere.
    unshare --mount --propagation private bash "$place/tests/elsewhere.sh" inside "$away"
    exit
fi

away=$2
export LOCPATH="$away" TZ=Pacific/Auckland TMPDIR="$away/spare room"
export LC_ALL=de_DE.UTF-8 LANG=de_DE.UTF-8
umask 077
mount --bind "$away/cpuinfo" /proc/cpuinfo
mount --bind "$away/os-release" "$(readlink -f /etc/os-release)"
# LD_LIBRARY_PATH and the like are kept: Python itself may need them here.
run() {
    setpriv --reuid 54321 --regid 54321 --clear-groups --inh-caps=-all \
        env -u HOME -u USER -u LOGNAME -u XDG_CACHE_HOME "$@"
}
run grep -q 'Pelican 9' /proc/cpuinfo
[[ $(run locale decimal_point) == , ]]
processor=$(taskset -cp $$ | sed 's/.*: *\([0-9]*\).*/\1/')
# What a browser finds in a page does not depend on the machine, and takes minutes.
run PYTEST_ADDOPTS="--deselect tests/test_page.py::test_no_reader_is_kept_out" \
    taskset -c "$processor" make test WORKERS=0 <&-
# Python cannot read where an editable package is in that locale, if its path is not in ASCII.
cd "$away/in C"
run LC_ALL=C LANG=C make test WORKERS=2 \
    TESTS="tests/test_interface.py tests/test_terminal.py tests/test_output.py tests/test_roundtrip.py"
