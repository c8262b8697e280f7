"""Reads CANopen nodes over a serial adapter with python-can, knowing nothing but the standard.

usage: can_nodes.py TTY NODE...

For each node: its serial number (1018h sub 4) and name (1008h) by SDO; then the first node is reset and its boot-up message
awaited."""
import struct
import sys
import time

import can


def ask(bus, node, data):
    bus.send(can.Message(arbitration_id=0x600 + node, data=data, is_extended_id=False))
    end = time.time() + 2
    while time.time() < end:
        message = bus.recv(0.2)
        if message is not None and message.arbitration_id == 0x580 + node:
            return bytes(message.data)
    raise SystemExit(f"node {node}: no answer")


def read(bus, node, index, sub):
    answer = ask(bus, node, struct.pack("<BHBI", 0x40, index, sub, 0))
    if answer[0] == 0x80:
        raise SystemExit(f"node {node}: abort {struct.unpack('<I', answer[4:])[0]:08x}")
    if answer[0] & 2:
        return answer[4:8 - (answer[0] >> 2 & 3)]
    size, = struct.unpack("<I", answer[4:])
    data, toggle = b"", 0
    while True:
        answer = ask(bus, node, bytes([0x60 | toggle]) + bytes(7))
        data += answer[1:8 - (answer[0] >> 1 & 7)]
        toggle ^= 0x10
        if answer[0] & 1:
            break
    assert len(data) == size
    return data


def main():
    bus = can.Bus(interface="slcan", channel=sys.argv[1], bitrate=250000)
    nodes = [int(n) for n in sys.argv[2:]]
    for node in nodes:
        serial, = struct.unpack("<I", read(bus, node, 0x1018, 4))
        print(f"node {node}: serial {serial}, name {read(bus, node, 0x1008, 0).decode()}", flush=True)
    bus.send(can.Message(arbitration_id=0, data=[0x81, nodes[0]], is_extended_id=False))
    end = time.time() + 5
    while time.time() < end:
        message = bus.recv(0.2)
        if message is not None and message.arbitration_id == 0x700 + nodes[0] and bytes(message.data) == b"\0":
            print(f"node {nodes[0]}: boot-up", flush=True)
            break
    bus.shutdown()


main()
