"""Announces a service by DNS-SD until it is ended.
usage: announce.py ADDRESS"""
import signal
import socket
import sys

from zeroconf import ServiceInfo, Zeroconf

zeroconf = Zeroconf(interfaces=[sys.argv[1]])
zeroconf.register_service(ServiceInfo(
    "_announce._tcp.local.", "pa one._announce._tcp.local.", addresses=[socket.inet_aton(sys.argv[1])], port=80,
    properties={"firmware": "3.10", "serial": "H250-9"}, server="pa-one.local."))
print("announced", flush=True)
signal.sigwait([signal.SIGTERM, signal.SIGINT])
zeroconf.close()
