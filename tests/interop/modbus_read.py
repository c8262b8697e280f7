"""Reads a device's identity with pymodbus and writes registers: a client that nobody here wrote.

usage: modbus_read.py HOST PORT [write ADDRESS VALUE]
Prints "OBJECT TEXT" lines, the objects of the extended stream, number by number as asked for by more-follows."""
import sys

from pymodbus.client import ModbusTcpClient
from pymodbus.mei_message import ReadDeviceInformationRequest


def main():
    host, port = sys.argv[1], int(sys.argv[2])
    client = ModbusTcpClient(host, port=port)
    if not client.connect():
        sys.exit("no connection")
    if len(sys.argv) > 3:
        answer = client.write_register(int(sys.argv[4], 0), int(sys.argv[5], 0), slave=0xFF)
        print(answer)
        sys.exit(1 if answer.isError() else 0)
    objects, at = {}, 0
    while True:
        answer = client.execute(ReadDeviceInformationRequest(read_code=3, object_id=at, unit=0xFF))
        if answer.isError():
            sys.exit(str(answer))
        objects.update(answer.information)
        if answer.more_follows != 0xFF:
            break
        at = answer.next_object_id
    for number, text in sorted(objects.items()):
        print(f"{number:02x} {text.decode()}")
    client.close()


main()
