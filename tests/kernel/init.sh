#!/bin/busybox sh
# The first program of the virtual machine: brings up what the tests need, runs them in the host's own tree (read-only) and
# says how it went.
/bin/busybox mkdir -p /proc /sys /dev /host
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t sysfs sysfs /sys
/bin/busybox mount -t devtmpfs dev /dev
for module in $(/bin/busybox cat /modules/order); do
    /bin/busybox insmod "/modules/$module" 2>/dev/null
done
/bin/busybox mount -t 9p -o trans=virtio,version=9p2000.L,ro,msize=262144,cache=loose root /host || echo "check-kernel: no root"
/bin/busybox mount -t proc proc /host/proc
/bin/busybox mount -t sysfs sysfs /host/sys
/bin/busybox mount -t devtmpfs dev /host/dev
/bin/busybox mkdir -p /host/dev/pts /host/dev/shm
/bin/busybox mount -t devpts devpts /host/dev/pts
for folder in tmp run var/tmp root; do
    /bin/busybox mount -t tmpfs tmpfs "/host/$folder"
done
/bin/busybox ip link set lo up
read -r folder </modules/folder
/bin/busybox chroot /host /bin/sh "$folder/tests/kernel/run.sh" "$folder"
/bin/busybox poweroff -f
