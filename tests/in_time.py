#!/usr/bin/python3
"""Runs a test that depends on real time.  Where it fails on a machine that did not run everything in time, what was measured
says nothing of what is tested: then it runs once more, at most twice.  Late is a machine on which some process waited for a
processor in more than a third of the time (/proc/pressure/cpu), others took more than a tenth of the processors (virtual
machines on one computer), or a thread that slept was woken more than 50 ms late.

usage: in_time.py PROGRAM [ARGUMENT ...]"""
import subprocess
import sys
import threading
import time

TRIES = 3


def stolen():
    """What others took and the whole, in ticks."""
    with open("/proc/stat", encoding="ascii") as file:
        ticks = [int(word) for word in file.readline().split()[1:9]]
    return ticks[7], sum(ticks)


def waited_us():
    try:
        with open("/proc/pressure/cpu", encoding="ascii") as file:
            return int(file.readline().rsplit("total=", 1)[1])
    except (OSError, IndexError):
        return 0


class Watch(threading.Thread):
    def __init__(self):
        super().__init__(daemon=True)
        self.ends = False
        self.late_s = 0.0

    def run(self):
        while not self.ends:
            began = time.monotonic()
            time.sleep(0.005)
            self.late_s = max(self.late_s, time.monotonic() - began - 0.005)


def once(command):
    """Exit status, and how late the machine was, or None."""
    watch = Watch()
    watch.start()
    began, waited, (took, whole) = time.monotonic(), waited_us(), stolen()
    status = subprocess.run(command, check=False).returncode
    watch.ends = True
    pressure = (waited_us() - waited) / 1e6 / max(time.monotonic() - began, 0.001)
    took, whole = (now - then for now, then in zip(stolen(), (took, whole)))
    share = took / max(whole, 1)
    late = pressure > 1 / 3 or share > 0.1 or watch.late_s > 0.05
    said = f"processes waited in {pressure:.0%} of the time, others took {share:.0%}, woken {1000 * watch.late_s:.0f} ms late"
    return status, said if late else None


def main():
    for attempt in range(1, TRIES + 1):
        status, late = once(sys.argv[1:])
        if status == 0 or late is None or attempt == TRIES:
            return status if status >= 0 else 128 - status
        print(f"in_time: failed on a machine that was late ({late}): once more", flush=True)
    return 1


sys.exit(main())
