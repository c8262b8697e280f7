#!/bin/sh
# Installs into a fresh folder, moves that to another place, and builds programs there as other projects would: with
# nothing but pkg-config, in C and C++, and with CMake's find_package.
# usage: install.sh BUILD SOURCE
set -eu
build=$1
source=$2
folder=$(mktemp -d)
prefix=$folder/moved
trap 'rm -rf "$folder"' EXIT
cmake --install "$build" --prefix "$folder/first" >/dev/null
mv "$folder/first" "$prefix"
pc=$(find "$prefix" -name einbau.pc)
export PKG_CONFIG_PATH="${pc%/*}"
LD_LIBRARY_PATH=$(pkg-config --variable=libdir einbau)
export LD_LIBRARY_PATH

# Gives its usage, status 2.
expect_usage() {
    status=0
    "$1" 2>"$folder/err" || status=$?
    grep -q "usage: ${1##*/}" "$folder/err"
    [ "$status" = 2 ]
}

# The shared library: no other one is linked to the program by this.
# shellcheck disable=SC2046
cc -std=c11 -o "$folder/read_identity" "$source/examples/read_identity.c" $(pkg-config --cflags --libs einbau) ${EXTRA_LINK_FLAGS:-}
expect_usage "$folder/read_identity"
[ "$(pkg-config --libs-only-l einbau | tr -d ' ')" = -leinbau ]
"$prefix/bin/einbau" --version | grep -qx "einbau $(pkg-config --modversion einbau)"
test -x "$prefix/bin/einbau-sim"
test -s "$prefix/share/man/man1/einbau-shelf-add.1"
grep -q "^complete .* einbau$" "$prefix/share/bash-completion/completions/einbau"
grep -q "^#compdef einbau$" "$prefix/share/zsh/vendor-completions/_einbau"
grep -q "^complete -c einbau " "$prefix/share/fish/vendor_completions.d/einbau.fish"

# Every header in C++, and the core alone.
{
    (cd "$prefix/include" && printf '#include <%s>\n' einbau/*.h)
    cat <<'END'
#include <cstdio>
#include <cstring>
int main()
{
    eb_version_order order = {EB_VERSION_DOTTED, ""};
    std::printf("%s %d\n", eb_library_version(), eb_version_compare(&order, "1.24", "1.3") == EB_NEWER);
    return std::strcmp(eb_library_version(), EB_VERSION);
}
END
} >"$folder/all.cpp"
# shellcheck disable=SC2046
c++ -std=c++11 -Wall -Wextra -Werror -o "$folder/all" "$folder/all.cpp" $(pkg-config --cflags --libs einbau-core) ${EXTRA_LINK_FLAGS:-}
"$folder/all" | grep -qx "$(pkg-config --modversion einbau) 1"

# Only what begins with eb_ can be reached in the shared library.
library=$(find "$prefix" -name 'libeinbau.so.*.*.*')
objdump -p "$library" | grep -q 'SONAME *libeinbau\.so\.0'
if nm -D --defined-only "$library" | grep -qv ' eb_'; then exit 1; fi

# find_package: by the version, and not by one that this is not.
mkdir "$folder/other"
cat >"$folder/other/CMakeLists.txt" <<'END'
cmake_minimum_required(VERSION 3.20)
project(other LANGUAGES C)
find_package(einbau ${ASKED} REQUIRED)
foreach(kind einbau einbau_sim)
  add_executable(fit_one_${kind} ${EXAMPLES}/fit_one.c)
  target_link_libraries(fit_one_${kind} PRIVATE einbau::${kind})
endforeach()
END
configure() {
    cmake -S "$folder/other" -B "$folder/other/$1" -DASKED="$1" -DCMAKE_PREFIX_PATH="$prefix" -DEXAMPLES="$source/examples" \
        -DCMAKE_EXE_LINKER_FLAGS="${EXTRA_LINK_FLAGS:-}" >"$folder/log" 2>&1 || return 1
}
configure 0.1 || { cat "$folder/log"; exit 1; }
if configure 0.2; then exit 1; fi
if configure 1.0; then exit 1; fi
cmake --build "$folder/other/0.1" >/dev/null
# Where the libraries of the static part are not there, the shared one can be used all the same.
sed -i 's/foreach(kind .*/foreach(kind einbau)/' "$folder/other/CMakeLists.txt"
PKG_CONFIG_PATH= PKG_CONFIG_LIBDIR=$folder/nowhere cmake -S "$folder/other" -B "$folder/other/alone" -DASKED=0.1 -DCMAKE_PREFIX_PATH="$prefix" \
    -DEXAMPLES="$source/examples" -DCMAKE_EXE_LINKER_FLAGS="${EXTRA_LINK_FLAGS:-}" >/dev/null
for kind in einbau einbau_sim; do
    ln -sf "fit_one_$kind" "$folder/other/0.1/fit_one"
    expect_usage "$folder/other/0.1/fit_one"
done
