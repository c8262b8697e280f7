"""The Modbus side of a "device" made of general programs: pymodbus serves the identity, a TFTP server beside it receives the
image.  Writing 3 to register 0x1000 restarts it, as a process of its own: the version is then read from the file
that was received.

usage: modbus_device.py PORT FILE SERIAL [ADDRESS]"""
import asyncio
import os
import sys
import zlib

from pymodbus.datastore import ModbusServerContext, ModbusSlaveContext, ModbusSparseDataBlock
from pymodbus import file_message
from pymodbus.device import ModbusControlBlock, ModbusDeviceIdentification
from pymodbus.server import StartTcpServer

PRESETS = b"morning: valley -6"  # what it keeps in registers from 0x400 on and in file 4; an update erases both
PORT, FILE, SERIAL = int(sys.argv[1]), sys.argv[2], sys.argv[3]
ADDRESS = sys.argv[4] if len(sys.argv) > 4 else "127.0.0.1"


RECORDS = bytearray()


def start():
    """What a loader would do: take up the image and tell its version."""
    with open(FILE, "rb") as file:
        image = file.read()
    version = image[48:64].rstrip(b"\0").decode()
    identity = ModbusControlBlock().Identity
    identity[0x02] = version
    identity[0x90] = f"{zlib.crc32(image):08x}"


def read_file(request, _context):
    """Its bytes in the order of the standard (section 6.14); pymodbus 3.0 puts the reference type in front of the length, and
    reads it the other way round itself."""
    record, = request.records
    data = bytes(RECORDS[2 * record.record_number:2 * (record.record_number + record.record_length)])
    if record.file_number != 4 or len(data) != 2 * record.record_length:
        return request.doException(2)
    response = file_message.ReadFileRecordResponse([])
    response.encode = lambda: bytes([len(data) + 2, len(data) + 1, 6]) + data
    return response


def write_file(request, _context):
    record, = request.records
    at = 2 * record.record_number
    if record.file_number != 4 or at + len(record.record_data) > len(RECORDS):
        return request.doException(2)
    RECORDS[at:at + len(record.record_data)] = record.record_data
    return file_message.WriteFileRecordResponse(request.records)


class Registers(ModbusSparseDataBlock):
    """Register 0x1000 controls, 0x1001 tells the state."""

    def setValues(self, address, values, use_as_default=False):  # the name is pymodbus's
        super().setValues(address, values, use_as_default)
        if address == 0x1000 and values == [3]:
            asyncio.get_running_loop().call_later(0.2, os.execv, sys.executable, [sys.executable, *sys.argv])


def main():
    # A value that it loses by an update, and the first of its faults; the registers behind that are not there.
    with open(FILE, "rb") as file:
        old = file.read(64)[48:49] == b"1"
    ModbusControlBlock().Identity.update({0x00: "Tester", 0x01: "TP-1", 0x04: "made of general programs", 0x81: SERIAL, 0x82: "3"})
    start()
    words = PRESETS if old else b"-" * len(PRESETS)
    RECORDS[:] = words
    file_message.ReadFileRecordRequest.execute = read_file
    file_message.WriteFileRecordRequest.execute = write_file
    presets = {0x400 + i // 2: words[i] << 8 | words[i + 1] for i in range(0, len(words), 2)}
    registers = Registers({**presets, 0x1000: 0, 0x1001: 1, 0x200: 1480 if old else 0, 0x201: 5, 0x300: 7 if old else 9})
    context = ModbusServerContext(slaves=ModbusSlaveContext(hr=registers, zero_mode=True), single=True)
    print("ready", flush=True)
    StartTcpServer(context=context, address=(ADDRESS, PORT), allow_reuse_address=True)


os.environ.setdefault("PYTHONUNBUFFERED", "1")
main()
