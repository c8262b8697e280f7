#!/bin/sh
# Inside the virtual machine: runs the tests that need a kernel.
# usage: run.sh FOLDER
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/root TMPDIR=/tmp
cd "$1" || exit 1
# Debian gives the program of that name, which tells libusb of what comes and goes.
SYSTEMD_IGNORE_CHROOT=1 sh -c 'exec -a systemd-udevd /bin/udevadm --daemon' 2>/dev/null ||
    SYSTEMD_IGNORE_CHROOT=1 /lib/systemd/systemd-udevd --daemon
build/bin/test_kernel
echo "check-kernel: test_kernel ended with $?"
build/bin/test_can_interop 'socketcan*'
echo "check-kernel: test_can_interop ended with $?"
