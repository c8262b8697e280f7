"""A web server that means no good: each path answers in a way of its own.

usage: hostile_web.py PORT"""
import socket
import sys
import threading
import time

HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"


def endless_body(c):
    c.sendall(HEAD + b"\r\n")
    while True:
        c.sendall(b'{"order": ' + b" " * 65536)


def endless_head(c):
    c.sendall(HEAD)
    while True:
        c.sendall(b"X-Fill: " + b"x" * 8000 + b"\r\n")


def long_line(c):
    c.sendall(HEAD + b"X-Fill: ")
    while True:
        c.sendall(b"x" * 65536)


def deep(c):
    body = b"[" * 100000
    c.sendall(HEAD + b"Content-Length: %d\r\n\r\n" % len(body) + body)


def slow(c):
    for byte in HEAD:
        c.sendall(bytes([byte]))
        time.sleep(0.5)
    time.sleep(60)


def silent(c):
    time.sleep(60)


def short(c):
    c.sendall(HEAD + b"Content-Length: 1000\r\n\r\n{}")


def garbage(c):
    c.sendall(b"\x00\x01\x02SSH-2.0-what\r\n\r\n")


def escapes(c):
    body = b'{"order": "TS-1\\u001b[2J\\u202e", "serial": "\x1b]0;x\x07"}'
    c.sendall(HEAD + b"Content-Length: %d\r\n\r\n" % len(body) + body)


def elsewhere(c):
    c.sendall(b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.2:%d/stolen\r\nContent-Length: 0\r\n\r\n" % PORT)


def asks(c):
    c.sendall(b"HTTP/1.1 401 No\r\nWWW-Authenticate: Basic realm=\"x\"\r\nContent-Length: 0\r\n\r\n")


WAYS = {f"/{way.__name__}": way for way in (endless_body, endless_head, long_line, deep, slow, silent, short, garbage, escapes,
                                            elsewhere, asks)}


def serve(c):
    try:
        head = b""
        while b"\r\n\r\n" not in head:
            more = c.recv(4096)
            if not more:
                return
            head += more
        print(head.split(b"\r\n")[0].decode(), "with a password" if b"Authorization" in head else "", flush=True)
        WAYS.get(head.split()[1].decode(), silent)(c)
    except OSError:
        pass
    finally:
        c.close()


PORT = int(sys.argv[1])
listening = socket.socket()
listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
listening.bind(("127.0.0.1", PORT))
listening.listen(50)
print("ready", flush=True)
while True:
    threading.Thread(target=serve, args=(listening.accept()[0],), daemon=True).start()
