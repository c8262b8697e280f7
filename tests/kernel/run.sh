#!/bin/sh
# Inside the virtual machine: runs the tests that need a kernel.
# usage: run.sh BUILD
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/run/home TMPDIR=/tmp
cd "$1" || exit 1
# Debian gives the program of that name, which tells libusb of what comes and goes.
SYSTEMD_IGNORE_CHROOT=1 sh -c 'exec -a systemd-udevd /bin/udevadm --daemon' 2>/dev/null ||
    SYSTEMD_IGNORE_CHROOT=1 /lib/systemd/systemd-udevd --daemon
bin/test_kernel
echo "check-kernel: test_kernel ended with $?"
bin/test_card 'the_kernel*'
echo "check-kernel: test_card ended with $?"
bin/test_can_interop 'socketcan*'
echo "check-kernel: test_can_interop ended with $?"
