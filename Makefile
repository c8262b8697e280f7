# The README's two commands are `make demo` and `make check`; both install what is missing first.

BUILD ?= build
SANITIZED ?= build-sanitized
CLANG_SOURCES = $(shell git ls-files '*.c' '*.h')

.PHONY: all demo check bench check-kernel docs setup build sanitize fuzz lint format cortex-m4 portability screenshots install deb clean

all: build

setup:
	@scripts/setup

build: setup
	@cmake -S . -B $(BUILD) -G Ninja -DCMAKE_BUILD_TYPE=Release -DEINBAU_TESTS=ON >$(BUILD).log 2>&1 || { cat $(BUILD).log; exit 1; }
	@rm -f $(BUILD).log
	@ninja -C $(BUILD) --quiet

# Without the tests, which need much more, where they are not built already.
demo:
	@scripts/setup demo
	@[ -f $(BUILD)/CMakeCache.txt ] || cmake -S . -B $(BUILD) -G Ninja -DCMAKE_BUILD_TYPE=Release -DEINBAU_TESTS=OFF >$(BUILD).log 2>&1 || { cat $(BUILD).log; exit 1; }
	@rm -f $(BUILD).log
	@ninja -C $(BUILD) --quiet
	@scripts/demo $(BUILD)

check: build
	@ctest --test-dir $(BUILD) --output-on-failure -j 4

# USB and CAN on Debian's kernel, in a virtual machine.
check-kernel: build
	@scripts/setup kernel
	@scripts/check-kernel $(BUILD)

# SHORT=--short: on less data, to see that everything still runs.
bench: build
	@scripts/bench $(SHORT) $(BUILD)

# LEAVE_OUT="peers|slow": without those that wait for real programs and kernels, and for devices' times.
LEAVE_OUT ?= none
sanitize: setup
	@cmake -S . -B $(SANITIZED) -G Ninja -DCMAKE_BUILD_TYPE=Debug -DEINBAU_SANITIZE=ON >/dev/null
	@ninja -C $(SANITIZED) --quiet
	@ctest --test-dir $(SANITIZED) --output-on-failure -j 4 -LE '^($(LEAVE_OUT))$$'

# SECONDS for each target.
SECONDS ?= 60
fuzz: setup
	@scripts/fuzz $(SECONDS)

# Warnings are errors in every build; these look deeper.
lint: build
	@clang-format --dry-run --Werror $(CLANG_SOURCES)
	@scripts/tidy $(BUILD)
	@cppcheck --quiet --error-exitcode=1 --enable=warning,performance,portability --inline-suppr --std=c11 \
	  --suppress=missingIncludeSystem -D_GNU_SOURCE -Iinclude -Isrc -Ihost -Itools/einbau src host sim tools examples

format:
	@clang-format -i $(CLANG_SOURCES)

# The core alone, for a bare Cortex-M4: no operating system, no heap; prints its size.
cortex-m4: setup
	@scripts/cortex-m4

# The core and its own tests on other processors, C libraries and compilers; MACHINES="s390x armhf": only these.
portability: setup
	@scripts/portability $(MACHINES)

# Pages of the public API; its comments are checked.
docs: setup
	@scripts/docs

# Debian packages, source archive, checksums and bill of materials of the last commit, in build/packages; TWICE=twice: built
# once more, and compared.
deb: setup
	@scripts/package build/packages $(TWICE)

screenshots: build
	@scripts/screenshots $(BUILD)

install: build
	@cmake --install $(BUILD)

clean:
	@rm -rf $(BUILD) $(SANITIZED)
