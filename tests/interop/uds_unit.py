"""A control unit made of scapy's automotive layers on python-can: UDS over ISO-TP over a serial adapter.

usage: uds_unit.py TTY REQUEST RESPONSE FLASH

Answers until it is killed.  What was downloaded is written to FLASH once it is reset; its version is the one in those bytes."""
import logging
import struct
import sys
import zlib

logging.getLogger("scapy").setLevel(logging.ERROR)
from scapy.config import conf

conf.contribs["CANSocket"] = {"use-python-can": True}
conf.contribs["ISOTP"] = {"use-can-isotp-kernel-module": False}
from scapy.contrib.automotive.uds import UDS
from scapy.contrib.cansocket_python_can import PythonCANSocket
from scapy.contrib.isotp import ISOTPSoftSocket
from scapy.packet import Packet

BASE, KEY = 0x8000, 0x1234


class Unit:
    def __init__(self, flash):
        self.path, self.memory, self.program = flash, bytearray(), b""
        self.session, self.unlocked, self.seed = 1, False, 0x11223344
        self.coding = {0x0400: b"morning", 0x0401: b": valley -6 dB, and twelve more", 0x0403: b"\x01"}  # an update erases it

    def version(self):
        return self.program[48:64].rstrip(b"\0") if self.program[:8] == b"EBIMAGE1" else b"1.0"

    def value(self, did):
        crc = b"%08X" % zlib.crc32(self.program) if self.program else b"00000000"
        return {0xF186: bytes([self.session]), 0xF187: b"TU-1", 0xF191: b"3", 0xF18C: b"100", 0xF189: self.version(), 0xF180: b"application",
                0xF1F0: crc, 0x0200: struct.pack(">H", 0 if self.program else 1480), **self.coding}.get(did)

    def faults(self, mask):
        """What stands in its fault memory; another code once an image was sent to it.  The last was never confirmed."""
        codes = [(0x9A0F00, 0x2F)] if self.program else []
        codes += [(0xC10050, 0x2F), (0x445566, 0x40)]
        return b"".join(struct.pack(">IB", code, status)[1:] for code, status in codes if status & mask)

    def answer(self, request: Packet):
        service = request.service
        raw = bytes(request)

        def refuse(code):
            return bytes([0x7F, service, code])

        if service == 0x10:
            self.session, self.unlocked = request.diagnosticSessionType, False
            return bytes([0x50, self.session]) + struct.pack(">HH", 50, 500)
        if service == 0x22:
            did = request.identifiers[0]
            value = self.value(did)
            return refuse(0x31) if value is None else struct.pack(">BH", 0x62, did) + value
        if service == 0x19:  # read by scapy's own layer
            return refuse(0x12) if request.reportType != 2 else b"\x59\x02\xff" + self.faults(int(request.DTCStatusMask))
        if service in (0x85, 0x28):
            return bytes([service + 0x40, raw[1]])
        if service == 0x27:
            if request.securityAccessType == 1:
                return struct.pack(">BBI", 0x67, 1, self.seed)
            self.unlocked = bytes(request.securityKey) == struct.pack(">I", self.seed + KEY)
            return b"\x67\x02" if self.unlocked else refuse(0x35)
        if service == 0x2E and request.dataIdentifier in self.coding:
            if self.session == 1 or not self.unlocked:
                return refuse(0x7F if self.session == 1 else 0x33)
            self.coding[request.dataIdentifier] = raw[3:]
            with open(self.path + ".coding", "wb") as file:
                file.write(b"".join(self.coding.values()))
            return struct.pack(">BH", 0x6E, request.dataIdentifier)
        if service == 0x2E:
            return struct.pack(">BH", 0x6E, request.dataIdentifier) if self.unlocked else refuse(0x33)
        if service == 0x31:
            routine = request.routineIdentifier
            good = 0
            if routine == 0xFF00:
                self.memory = bytearray()
            elif routine == 0x0202:
                good = int(raw[4:8] != struct.pack(">I", zlib.crc32(bytes(self.memory))))
            return struct.pack(">BBHB", 0x71, 1, routine, good)
        if service == 0x34:
            return bytes([0x74, 0x20, 0x00, 0x82])  # 130 bytes with service and counter
        if service == 0x36:
            self.memory += bytes(request.transferRequestParameterRecord)
            return bytes([0x76, request.blockSequenceCounter])
        if service == 0x37:
            return b"\x77"
        if service == 0x11:
            if self.memory:
                self.program = bytes(self.memory)
                self.coding = {did: b"?" * len(value) for did, value in self.coding.items()}
                with open(self.path, "wb") as file:
                    file.write(self.program)
            self.session, self.unlocked = 1, False
            return bytes([0x51, request.resetType])
        if service == 0x3E:
            return None if raw[1] & 0x80 else b"\x7E\x00"
        return refuse(0x11)


def main():
    tty, request, response, flash = sys.argv[1], int(sys.argv[2], 16), int(sys.argv[3], 16), sys.argv[4]
    unit = Unit(flash)
    with PythonCANSocket(bustype="slcan", channel=tty, bitrate=250000) as bus:
        with ISOTPSoftSocket(bus, tx_id=response, rx_id=request, basecls=UDS, padding=True) as socket:
            print("ready", flush=True)
            while True:
                for packet in socket.sniff(count=1, timeout=1):
                    reply = unit.answer(packet)
                    if reply is not None:
                        socket.send(UDS(reply))


main()
