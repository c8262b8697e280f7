"""Archives at a bound and one beyond it, in the current folder: NAME-at.* and NAME-beyond.*
usage: bounds.py [bytes]"""
import io
import os
import subprocess
import sys
import tarfile
import zipfile

DEPTH, ENTRIES, RATIO, RATIO_FROM, BYTES = 4, 10000, 200, 64 << 20, 4 << 30
SIZE = RATIO_FROM // RATIO + 10000


def archive(name, method=zipfile.ZIP_DEFLATED):
    return zipfile.ZipFile(name, "w", method)


class Zeros:
    """That many bytes, and then the end."""

    def __init__(self, size):
        self.left = size

    def read(self, size):
        size = min(size, self.left)
        self.left -= size
        return bytes(size)


def deep(name, depth):
    inner = b"x"
    for level in range(depth):
        with archive("level.zip") as to:
            to.writestr("level.zip" if level else "x.bin", inner)
        with open("level.zip", "rb") as file:
            inner = file.read()
    os.rename("level.zip", name)


def many(name, count):
    with archive(name, zipfile.ZIP_STORED) as to:
        for i in range(count):
            to.writestr(f"{i}.bin", b"x")


def tight(name, size):
    """A file of that many bytes with RATIO times as many in it, and some more than RATIO_FROM."""
    total = size * RATIO
    stored = size - (80 << 10)
    with archive(name) as to:
        to.writestr(zipfile.ZipInfo("stored.bin"), os.urandom(stored))
        with to.open("zeros.bin", "w") as member:
            member.write(bytes(total - stored))
    with zipfile.ZipFile(name, "a") as to:
        to.comment = bytes(size - os.path.getsize(name))


def large(name, total):
    stored = 28 << 20
    with open(name, "wb") as file, subprocess.Popen(["zstd", "-q", "-1", "-c"], stdin=subprocess.PIPE, stdout=file) as packer:
        with tarfile.open(fileobj=packer.stdin, mode="w|") as to:
            for i, size in enumerate([stored, (total - stored) // 2, (total - stored + 1) // 2]):
                member = tarfile.TarInfo(f"{i}.bin")
                member.size = size
                to.addfile(member, io.BytesIO(os.urandom(size)) if i == 0 else Zeros(size))


if sys.argv[1:] == ["bytes"]:
    large("bytes-at.tar.zst", BYTES)
    large("bytes-beyond.tar.zst", BYTES + 1)
else:
    deep("deep-at.zip", DEPTH)
    deep("deep-beyond.zip", DEPTH + 1)
    many("many-at.zip", ENTRIES)
    many("many-beyond.zip", ENTRIES + 1)
    tight("tight-at.zip", SIZE)
    tight("tight-beyond.zip", SIZE)
    with zipfile.ZipFile("tight-beyond.zip", "a") as to:
        to.comment = to.comment[1:]
