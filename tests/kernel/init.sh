#!/bin/busybox sh
# The first program of the virtual machine: brings up what the tests need, runs them in the host's own tree (read-only) and
# says how it went.
/bin/busybox mkdir -p /proc /sys /dev /host
/bin/busybox mount -t proc proc /proc
/bin/busybox mount -t sysfs sysfs /sys
/bin/busybox mount -t devtmpfs dev /dev
for module in $(/bin/busybox cat /modules/order); do
    # A disk of 64 MB that can be taken out, as a reader of memory cards shows it.
    [ "$module" = scsi_debug.ko ] && options="dev_size_mb=64 removable=1" || options=""
    /bin/busybox insmod "/modules/$module" $options 2>/dev/null
done
/bin/busybox mount -t 9p -o trans=virtio,version=9p2000.L,ro,msize=262144,cache=loose root /host || echo "check-kernel: no root"
/bin/busybox mount -t proc proc /host/proc
/bin/busybox mount -t sysfs sysfs /host/sys
/bin/busybox mount -t devtmpfs dev /host/dev
/bin/busybox mkdir -p /host/dev/pts /host/dev/shm
/bin/busybox mount -t devpts devpts /host/dev/pts
read -r source build </modules/folder
# All else is read-only; the tree stays where it is, even below one of these.
/bin/busybox mkdir -p /source /build
/bin/busybox mount -o bind "/host$source" /source
/bin/busybox mount -o bind "/host$build" /build
/bin/busybox mount -t tmpfs tmpfs /host/tmp
/bin/busybox mount -t tmpfs tmpfs /host/run
/bin/busybox mkdir -p /host/run/home
if [ ! -d "/host$build" ]; then
    /bin/busybox mkdir -p "/host$source"
    /bin/busybox mount -o bind /source "/host$source"
    [ -d "/host$build" ] || /bin/busybox mkdir -p "/host$build"
    /bin/busybox mount -o bind /build "/host$build"
fi
/bin/busybox ip link set lo up
/bin/busybox chroot /host /bin/sh "$source/tests/kernel/run.sh" "$build"
/bin/busybox poweroff -f
