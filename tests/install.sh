#!/bin/sh
# Installs into a fresh folder and builds an example there with nothing but pkg-config, as another project would.
# usage: install.sh BUILD SOURCE
set -eu
build=$1
source=$2
prefix=$(mktemp -d)
trap 'rm -rf "$prefix"' EXIT
cmake --install "$build" --prefix "$prefix" >/dev/null
pc=$(find "$prefix" -name einbau.pc)
sed -i "s|^prefix=.*|prefix=$prefix|" "$pc"
export PKG_CONFIG_PATH="${pc%/*}"
# shellcheck disable=SC2046
cc -std=c11 -o "$prefix/read_identity" "$source/examples/read_identity.c" $(pkg-config --cflags --libs --static einbau) ${EXTRA_LINK_FLAGS:-}
status=0
"$prefix/read_identity" 2>"$prefix/err" || status=$?
grep -q 'usage: read_identity' "$prefix/err"
[ "$status" = 2 ]
"$prefix/bin/einbau" --version | grep -qx "einbau $(pkg-config --modversion einbau)"
test -x "$prefix/bin/einbau-sim"
