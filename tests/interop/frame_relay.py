#!/usr/bin/python3
"""Joins an emulated machine to an Ethernet interface: a datagram is a frame (qemu's -netdev dgram).

usage: frame_relay.py INTERFACE OWN-SOCKET MACHINE-SOCKET LOST-PERCENT

Of every hundred frames so many are lost, both ways, by a fixed seed."""
import os
import random
import select
import socket
import sys

interface, own, machine, lost = sys.argv[1:]
SOL_PACKET, PACKET_AUXDATA, NOT_FILLED_IN, OUTGOING = 263, 8, 8, 4
chance = random.Random(7)
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
wire.bind((interface, 0))
wire.setsockopt(SOL_PACKET, PACKET_AUXDATA, 1)
local = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
local.bind(own)
print("ready", flush=True)
while True:
    for ready in select.select([wire, local], [], [])[0]:
        if ready is local:
            frame = local.recv(65536)
            if chance.uniform(0, 100) >= float(lost):
                wire.send(frame)
            continue
        frame, more, _, address = wire.recvmsg(65536, 256)
        if address[2] == OUTGOING or chance.uniform(0, 100) < float(lost):
            continue
        # Between two interfaces of one kernel the checksum of UDP is not filled in: none, as RFC 768 allows.
        not_filled_in = any(int.from_bytes(data[:4], sys.byteorder) & NOT_FILLED_IN for _, _, data in more)
        if not_filled_in and frame[12:14] == b"\x08\x00" and frame[23] == 17:
            at = 14 + 4 * (frame[14] & 15) + 6
            frame = frame[:at] + b"\0\0" + frame[at + 2:]
        if os.path.exists(machine):
            local.sendto(frame, machine)
