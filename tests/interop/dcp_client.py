"""Finds a station by DCP, names it and gives it an address, with scapy's layers, and prints what it answers.
usage: dcp_client.py INTERFACE MAC NAME ADDRESS"""
import sys
import time

from scapy.config import conf
from scapy.contrib.pnio import ProfinetIO
from scapy.contrib.pnio_dcp import ProfinetDCP
from scapy.layers.l2 import Ether
from scapy.sendrecv import AsyncSniffer, sendp

INTERFACE, MAC, NAME, ADDRESS = sys.argv[1:5]
ALL = "01:0e:cf:00:00:00"
conf.verb = 0
with open(f"/sys/class/net/{INTERFACE}/address", encoding="ascii") as file:
    OWN = file.read().strip()


def exchange(to, frame_id, **fields):
    """Sends one request and gives the answer of that very station."""
    request = Ether(dst=to, src=OWN, type=0x8892) / ProfinetIO(frameID=frame_id) / ProfinetDCP(
        service_type=0, xid=0x2345, reserved=1, **fields)
    for _ in range(5):
        sniffer = AsyncSniffer(iface=INTERFACE, count=1, timeout=2, lfilter=lambda p: p.haslayer(ProfinetDCP)
                               and p.src == MAC and p[ProfinetDCP].service_type == 1)
        sniffer.start()
        time.sleep(0.3)
        sendp(request, iface=INTERFACE)
        sniffer.join()
        if sniffer.results:
            return sniffer.results[0][ProfinetDCP]
    sys.exit("no answer")


def identify():
    blocks = exchange(ALL, 0xFEFE, service_id=5, option=255, sub_option=255, dcp_data_length=4).dcp_blocks
    name = next(b.name_of_station.decode() for b in blocks if "name_of_station" in b.fields)
    print("identified", name or "nameless", next(b.ip for b in blocks if "ip" in b.fields))


def put(size, **fields):
    answer = exchange(MAC, 0xFEFD, service_id=4, block_qualifier=1, dcp_block_length=size,
                      dcp_data_length=4 + size + size % 2, **fields)
    print("set", answer.dcp_blocks[0].block_error)


identify()
put(2 + len(NAME), option=2, sub_option=2, name_of_station=NAME.encode())
put(14, option=1, sub_option=2, ip=ADDRESS, netmask="255.255.255.0", gateway="0.0.0.0")
identify()
