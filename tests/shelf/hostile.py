#!/usr/bin/python3
"""Makes files that must not get onto a shelf, with Python's own archive modules, zip and tar.

usage: hostile.py FOLDER"""
import hashlib
import io
import json
import os
import random
import stat
import subprocess
import sys
import tarfile
import zipfile

MIB = 1 << 20
IMAGE = random.Random(1).randbytes(5000)


def manifest(name="fw.bin", data=IMAGE, **changes):
    entry = {"file": name, "component": "firmware", "version": "1.3", "size": len(data), "sha256": hashlib.sha256(data).hexdigest(),
             "order_codes": ["BL-K8-E"], "hardware_revisions": ["2..5"], **changes}
    return {"einbau": "manifest/1", "images": [entry]}


def make_zip(path, members, compression=zipfile.ZIP_DEFLATED):
    with zipfile.ZipFile(path, "w", compression) as archive:
        for name, data in members:
            info = zipfile.ZipInfo("x")
            info.filename = name  # as it is, whatever this system thinks of it
            info.compress_type = compression
            if isinstance(name, str) and name.startswith("link"):
                info.create_system = 3
                info.external_attr = (stat.S_IFLNK | 0o777) << 16
            archive.writestr(info, data)


def packed(members):
    file = io.BytesIO()
    make_zip(file, members)
    return file.getvalue()


def make_package(path, text, members):
    make_zip(path, [("manifest.json", text if isinstance(text, (str, bytes)) else json.dumps(text)), *members])


def make_tar(path, infos, mode="w"):
    with tarfile.open(path, mode) as archive:
        for info, data in infos:
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))


def tar_entry(name, kind=tarfile.REGTYPE, link=""):
    info = tarfile.TarInfo(name)
    info.type = kind
    info.linkname = link
    return info


def write(path, data):
    with open(path, "wb") as file:
        file.write(data)


def bombs():
    make_zip("bomb.zip", [("fw.bin", bytes(128 * MIB))])
    inner = packed([("fw.bin", bytes(12 * MIB))])
    make_zip("nested-bomb.zip", [(f"{i}.zip", inner) for i in range(20)])
    data = IMAGE
    for level in range(8):
        data = packed([(f"level{level}.zip", data)])
    write("deep.zip", data)
    make_zip("many.zip", [(f"{i}.bin", b"") for i in range(10001)], zipfile.ZIP_STORED)


def names():
    for name, member in (("dotdot.zip", "../fw.bin"), ("dotdot-inside.zip", "a/../../fw.bin"), ("absolute.zip", "/tmp/fw.bin"),
                         ("backslash.zip", "..\\fw.bin"), ("drive.zip", "C:fw.bin"), ("escape.zip", "\x1b]0;x\x07fw.bin")):
        make_zip(name, [(member, IMAGE)])
    make_zip("twice.zip", [("fw.bin", IMAGE), ("fw.bin", IMAGE[:100])])
    make_zip("case.zip", [("fw.bin", IMAGE), ("FW.BIN", IMAGE[:100])])
    make_tar("dotdot.tar", [(tar_entry("../fw.bin"), IMAGE)])
    make_tar("absolute.tar", [(tar_entry("/tmp/fw.bin"), IMAGE)])


def links():
    make_zip("link.zip", [("link.bin", "/etc/passwd")])
    make_tar("symlink.tar", [(tar_entry("fw.bin", tarfile.SYMTYPE, "/etc/passwd"), b"")])
    make_tar("hardlink.tar", [(tar_entry("fw.bin"), IMAGE), (tar_entry("other.bin", tarfile.LNKTYPE, "fw.bin"), b"")])
    make_tar("device.tar", [(tar_entry("fw.bin", tarfile.CHRTYPE), b"")])
    make_tar("fifo.tar", [(tar_entry("fw.bin", tarfile.FIFOTYPE), b"")])


def damaged():
    whole = packed([("fw.bin", IMAGE), ("other.bin", IMAGE)])
    write("cut.zip", whole[:-60])
    write("cut-inside.zip", whole[:2000])
    flipped = bytearray(whole)
    flipped[1000] ^= 1
    write("flipped.zip", flipped)
    make_tar("whole.tar", [(tar_entry("fw.bin"), IMAGE), (tar_entry("other.bin"), IMAGE)])
    with open("whole.tar", "rb") as file:
        tar = file.read()
    os.remove("whole.tar")
    write("cut.tar", tar[:512 + 5120])  # after the first file, where nothing tells that there was another
    write("cut-inside.tar", tar[:3000])
    make_tar("whole.tar.gz", [(tar_entry("fw.bin"), IMAGE)], "w:gz")
    with open("whole.tar.gz", "rb") as file:
        gz = file.read()
    os.remove("whole.tar.gz")
    write("cut.tar.gz", gz[:-200])
    write("empty.bin", b"")
    write("plain", IMAGE)
    subprocess.run(["zip", "-q", "-P", "secret", "encrypted.zip", "plain"], check=True)
    os.remove("plain")


def packages():
    good = [("fw.bin", IMAGE)]
    make_package("wrong-digest.einbau", manifest(sha256="00" * 32), good)
    make_package("wrong-size.einbau", manifest(size=4999), good)
    make_package("missing.einbau", manifest(name="other.bin"), good)
    make_package("renamed.einbau", manifest(), [("firmware.bin", IMAGE)])
    make_package("huge-manifest.einbau", json.dumps(manifest()) + " " * (10 * MIB), good)
    make_package("no-json.einbau", "{", good)
    make_package("no-manifest.einbau", "{}", good)
    make_package("unknown-key.einbau", manifest(colour="red"), good)
    make_package("folder.einbau", manifest(name="../fw.bin"), good)
    make_package("revision.einbau", manifest(hardware_revisions=["5..2"]), good)
    make_package("companion.einbau", manifest(companions=[{"role": "plc", "least": "x"}]), good)
    make_package("deep-json.einbau", "[" * 100000, good)
    make_package("format.einbau", manifest(format="hex"), good)
    twice = manifest()
    twice["images"].append(twice["images"][0])
    make_package("twice.einbau", twice, good)
    hexes = b":0400000001020304F2\r\n:00000001FF\r\n"
    make_package("bad-hex.einbau", manifest("fw.hex", hexes.replace(b"F2", b"F3")), [("fw.hex", hexes.replace(b"F2", b"F3"))])
    # Two hundred lines of sixteen bytes; from line 151 on they lie where line 31 has begun already.
    lines = []
    for n in range(200):
        address = 16 * (n if n < 150 else n - 120)
        record = bytes([16, address >> 8, address & 0xFF, 0]) + bytes(16)
        lines.append(":" + (record + bytes([-sum(record) & 0xFF])).hex().upper())
    overlap = ("\n".join(lines) + "\n:00000001FF\n").encode()
    make_package("overlap.einbau", manifest("fw.hex", overlap), [("fw.hex", overlap)])


os.chdir(sys.argv[1])
bombs()
names()
links()
damaged()
packages()
