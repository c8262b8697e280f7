"""A device that means harm to who reads it: every text that it tells, by Modbus identification and in the errors of its TFTP
server, holds control characters of 7 and 8 bits, in UTF-8 and bare, and such as turn or hide what is shown.

usage: hostile_device.py MODBUS_PORT TFTP_PORT"""
import socket
import socketserver
import struct
import sys
import threading

BAD = b"x\x1b[2J\x1b]0;t\x07\x9b31m\xc2\x9b31m\xe2\x80\xae1.2\xe2\x80\x8b\xe2\x81\xa6\r\n\x08\x7f\xff"
OBJECTS = {0: BAD, 1: b"TC-1", 2: BAD, 4: BAD, 0x81: BAD, 0x82: b"3", 0x90: b"0badc0de"}  # no more than fits one answer


def answer(pdu):
    if pdu[0] == 0x2B:
        objects = b"".join(bytes([number, len(text)]) + text for number, text in OBJECTS.items())
        return bytes([0x2B, 0x0E, pdu[2], 0x83, 0, 0, len(OBJECTS)]) + objects
    if pdu[0] == 3:
        count = struct.unpack(">H", pdu[3:5])[0]
        return bytes([3, 2 * count]) + BAD.ljust(2 * count, b"\x1b")[:2 * count]
    return pdu  # written


class Modbus(socketserver.BaseRequestHandler):
    def handle(self):
        while True:
            head = self.request.recv(7, socket.MSG_WAITALL)
            if len(head) < 7:
                return
            pdu = answer(self.request.recv(struct.unpack(">H", head[4:6])[0] - 1, socket.MSG_WAITALL))
            self.request.sendall(head[:4] + struct.pack(">H", len(pdu) + 1) + head[6:7] + pdu)


class Server(socketserver.ThreadingTCPServer):
    allow_reuse_address = True
    daemon_threads = True


tftp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
tftp.bind(("127.0.0.1", int(sys.argv[2])))
threading.Thread(target=Server(("127.0.0.1", int(sys.argv[1])), Modbus).serve_forever, daemon=True).start()
while True:
    _, peer = tftp.recvfrom(2000)
    tftp.sendto(b"\0\5\0\0" + BAD + b"\0", peer)
