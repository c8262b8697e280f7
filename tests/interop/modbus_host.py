"""A Modbus/TCP server made with pymodbus that tells who it is.
usage: modbus_host.py ADDRESS"""
import sys

from pymodbus.datastore import ModbusServerContext, ModbusSlaveContext
from pymodbus.device import ModbusControlBlock
from pymodbus.server import StartTcpServer

ModbusControlBlock().Identity.update({0x00: "Quellmar", 0x01: "QM-RC4-24D", 0x02: "4.1.9", 0x04: "Regent C4"})
print("listening", flush=True)
StartTcpServer(context=ModbusServerContext(slaves=ModbusSlaveContext(), single=True), address=(sys.argv[1], 502))
