#!/bin/sh
# A device whose loader is U-Boot reads a file from a memory card and writes it to its disk, then to ./read.bin here.
# usage: uboot_card.sh CARD-IMAGE PARTITION PATH-ON-CARD      partition 0: there is none
set -eu
card=$1 partition=$2 path=$3
rm -f flash0.img flash1.img disk.img read.bin
truncate -s 64M flash0.img flash1.img
truncate -s 1M disk.img
dd if=/usr/lib/u-boot/qemu_arm/u-boot.bin of=flash0.img conv=notrunc 2>/dev/null
cat >env.txt <<END
bootdelay=0
loadaddr=0x40200000
bootcmd=virtio scan; fatls virtio 0:$partition; fatls virtio 1:$partition; fatload virtio 0:$partition \${loadaddr} $path || fatload virtio 1:$partition \${loadaddr} $path; setenv disk 0; fatinfo virtio 0:$partition && setenv disk 1; virtio dev \${disk}; setexpr n \${filesize} + 0x1ff; setexpr n \${n} / 0x200; virtio write \${loadaddr} 0 \${n} && echo CARD-DONE; poweroff
END
mkenvimage -s 0x40000 -o env.bin env.txt
dd if=env.bin of=flash1.img conv=notrunc 2>/dev/null
timeout 120 qemu-system-arm -M virt -accel tcg -m 128 -display none -monitor none -serial stdio \
    -drive if=pflash,format=raw,file=flash0.img,readonly=on -drive if=pflash,format=raw,file=flash1.img \
    -drive if=none,id=c,format=raw,file="$card",readonly=on -device virtio-blk-device,drive=c \
    -drive if=none,id=d,format=raw,file=disk.img -device virtio-blk-device,drive=d \
    -nic none </dev/null >console.log 2>&1 || true
grep -q '^CARD-DONE' console.log || { tail -30 console.log; exit 1; }
bytes=$(sed -n 's/^\([0-9]*\) bytes read in.*/\1/p' console.log | tail -1)
head -c "$bytes" disk.img >read.bin
echo "read $bytes bytes"
