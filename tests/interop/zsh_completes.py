#!/usr/bin/python3
"""Types a line and a Tab into zsh on a terminal, and prints what stands there then.

usage: zsh_completes.py FOLDER LINE    (FOLDER has the completion _einbau)"""
import os
import pty
import re
import select
import sys
import time

folder, line = sys.argv[1:]
pid, terminal = pty.fork()
if pid == 0:
    os.environ["TERM"] = "dumb"
    os.execvp("zsh", ["zsh", "-f", "-i"])


def read_until(mark, seconds):
    said = b""
    until = time.time() + seconds
    while mark not in said and time.time() < until:
        if select.select([terminal], [], [], 0.1)[0]:
            said += os.read(terminal, 65536)
    return said


os.write(terminal, f"PS1=; fpath=({folder} $fpath); autoload -U compinit; compinit -D -u; stty -echo; echo re''ady\n".encode())
read_until(b"ready\r\n", 20)
os.write(terminal, line.encode() + b"\t")
said = read_until(b"\0", 1.5)
print(re.sub(rb"\x1b\[[0-9;?]*[A-Za-z]|[\x07\r]", b"", said).decode(errors="replace"))
os.kill(pid, 9)
os.waitpid(pid, 0)
