#!/bin/sh
# A panel's loader, made of general programs: an address by BOOTP or DHCP, then its image by TFTP into ./flash.bin.
# usage: loader.sh dhcp|bootp busybox|atftp|hpa|curl INTERFACE      in the panel's network namespace
set -eu
how=$1 client=$2 interface=$3
rm -f lease
ip address flush dev "$interface"
if [ "$how" = dhcp ]; then
    printf '#!/bin/sh\n[ "$1" = bound ] || exit 0\nip address add "$ip/$mask" dev "$interface"\necho "$siaddr ${boot_file:-$bootfile}" >lease\n' >took
    chmod +x took
    busybox udhcpc -i "$interface" -n -q -f -t 10 -T 2 -s "$PWD/took" >dhcp.log 2>&1
else
    /usr/lib/klibc/bin/ipconfig -t 20 -c bootp -d "$interface" >dhcp.log 2>&1
    # What it was told is in a file of the system's, which every namespace shares.
    echo "$(sed -n 's/.*[Ss]erver: *\([0-9.]*\).*/\1/p; s/.*rootserver: *\([0-9.]*\).*/\1/p' dhcp.log | head -1)" panel.fw >lease
fi
read -r server file <lease
[ -n "$server" ] || server=10.77.0.1
rm -f flash.new
case $client in
busybox) busybox tftp -g -b 1400 -r "$file" -l flash.new "$server" ;;
atftp) atftp --option 'blksize 1428' --option 'windowsize 8' --option 'tsize 0' -g -r "$file" -l flash.new "$server" ;;
hpa) tftp -m binary "$server" -c get "$file" flash.new ;;
curl) curl -s -S -o flash.new "tftp://$server/$file" ;;
esac
mv flash.new flash.bin
echo loaded
