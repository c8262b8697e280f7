#!/bin/sh
# A panel whose loader is U-Boot: it pulls its image at its start and writes it to its disk, then to ./flash.bin here.
# usage: uboot.sh INTERFACE MAC LOST-PERCENT      in the panel's network namespace
set -eu
interface=$1 mac=$2 lost=$3
rm -f flash0.img flash1.img disk.img machine.sock relay.sock
ip address flush dev "$interface"
truncate -s 64M flash0.img flash1.img
truncate -s 4M disk.img
dd if=/usr/lib/u-boot/qemu_arm/u-boot.bin of=flash0.img conv=notrunc 2>/dev/null
# Its settings, where it would have stored them itself.
cat >env.txt <<'END'
bootdelay=0
autoload=yes
netretry=no
tftpwindowsize=8
loadaddr=0x40200000
bootcmd=bootp ${loadaddr} && virtio scan && setexpr n ${filesize} + 0x1ff && setexpr n ${n} / 0x200 && virtio write ${loadaddr} 0 ${n} && echo PANEL-DONE; poweroff
END
mkenvimage -s 0x40000 -o env.bin env.txt
dd if=env.bin of=flash1.img conv=notrunc 2>/dev/null
python3 "$(dirname "$0")/frame_relay.py" "$interface" relay.sock machine.sock "$lost" >relay.log &
relay=$!
trap 'kill $relay' EXIT
while ! grep -q ready relay.log; do sleep 0.1; done
timeout 150 qemu-system-arm -M virt -accel tcg -m 128 -display none -monitor none -serial stdio \
    -drive if=pflash,format=raw,file=flash0.img,readonly=on -drive if=pflash,format=raw,file=flash1.img \
    -drive if=none,id=d,format=raw,file=disk.img -device virtio-blk-device,drive=d \
    -netdev dgram,id=n0,local.type=unix,local.path=machine.sock,remote.type=unix,remote.path=relay.sock \
    -device virtio-net-device,netdev=n0,mac="$mac" </dev/null | tee console.log
grep -q '^PANEL-DONE' console.log
bytes=$(sed -n 's/^Bytes transferred = \([0-9]*\).*/\1/p' console.log | tail -1)
head -c "$bytes" disk.img >flash.bin
echo loaded
