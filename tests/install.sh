#!/bin/sh
# Installs into a fresh folder and builds an example there with nothing but pkg-config, and
# with CMake's find_package, as other projects would.
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
cc -std=c11 -o "$prefix/read_identity" "$source/examples/read_identity.c" $(pkg-config --cflags --libs einbau) ${EXTRA_LINK_FLAGS:-}
status=0
"$prefix/read_identity" 2>"$prefix/err" || status=$?
grep -q 'usage: read_identity' "$prefix/err"
[ "$status" = 2 ]
"$prefix/bin/einbau" --version | grep -qx "einbau $(pkg-config --modversion einbau)"
test -x "$prefix/bin/einbau-sim"

mkdir "$prefix/other"
cat >"$prefix/other/CMakeLists.txt" <<'END'
cmake_minimum_required(VERSION 3.20)
project(other LANGUAGES C)
find_package(einbau REQUIRED)
add_executable(fit_one ${EXAMPLES}/fit_one.c)
target_link_libraries(fit_one PRIVATE einbau::einbau_host)
END
cmake -S "$prefix/other" -B "$prefix/other/build" -DCMAKE_PREFIX_PATH="$prefix" -DEXAMPLES="$source/examples" \
    -DCMAKE_EXE_LINKER_FLAGS="${EXTRA_LINK_FLAGS:-}" >/dev/null
cmake --build "$prefix/other/build" >/dev/null
status=0
"$prefix/other/build/fit_one" 2>"$prefix/err" || status=$?
grep -q 'usage: fit_one' "$prefix/err"
[ "$status" = 2 ]
