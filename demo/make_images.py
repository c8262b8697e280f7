#!/usr/bin/env python3
"""Makes the images of the demo, the same on every machine.

usage: make_images.py FOLDER

FOLDER/images has what the simulated devices run when the work begins; FOLDER/downloads has what the technician was sent, as it
came: raw, Intel HEX, S-records, ELF, a DFU file, a pair in a zip in a zip, a tar archive, and the parts of a package.

The layout of an image is that of the simulated devices (docs/world.md); its program is a line that says for which hardware
revisions it is, and pseudo-random bytes."""
import hashlib
import json
import os
import random
import shutil
import struct
import subprocess
import sys
import zlib

FACTORY = [
    ("QM-RC4-24D", "firmware", "4.1.9", 180),
    ("QM-RC4-24D", "display", "1.3", 40),
    ("QM-RC4-24K", "firmware", "4.1.9", 180),
    ("QM-DI16", "firmware", "1.1", 20),
    ("BL-K8-E", "firmware", "1.24", 90),
    ("OR-H250", "firmware", "3.9", 60),
    ("OR-H250", "web-pages", "3.9", 24),
    ("HS-T07-W", "firmware", "2.18", 90),
    ("VH-L1", "firmware", "2.0.3", 40),
    ("VH-D2", "firmware", "1.6.0", 44),
    ("SK-GA2", "firmware", "20260310", 40),
    ("SK-G3", "firmware", "5.0", 30),
    ("FH-M2", "firmware", "3.1", 90),
    ("FH-W1", "firmware", "1.0", 20),
    ("VH-L3", "firmware", "1.2", 30),
    ("SK-T4", "firmware", "0.9.4", 20),
]


def image(product, component, version, kilobytes, revisions=""):
    seed = f"larchfell {product} {component} {version}"
    line = f"revisions={revisions};".encode() if revisions else b""
    program = line + random.Random(seed).randbytes(kilobytes * 1000 - 64 - len(line))
    tail = struct.pack("<16s16s16s", product.encode(), component.encode(), version.encode()) + program
    size = 16 + len(tail)
    return b"EBIMAGE1" + struct.pack("<II", size, zlib.crc32(tail)) + tail


def write(path, data):
    with open(path, "wb") as file:
        file.write(data)


def run(*command, folder):
    subprocess.run(command, cwd=folder, check=True)


def pack(*names, folder):
    """A zip archive, the first name, of files: with one time for all, so that the same files make the same bytes."""
    for name in names[1:]:
        os.utime(os.path.join(folder, name), (1767225600, 1767225600))
    run("zip", "-q", "-X", *names, folder=folder)


def entry(name, product, component, version, revisions, **more):
    return {"file": name, "component": component, "version": version, "order_codes": [product], "hardware_revisions": revisions,
            **more}


def write_manifest(path, images, notes, released):
    with open(path, "w", encoding="utf-8") as file:
        json.dump({"einbau": "manifest/1", "released": released, "notes": notes, "images": images}, file, indent=2)
        file.write("\n")


def regent_package(folder):
    """Firmware of the drive's PLC in two steps, raw and Intel HEX: 'einbau pack' makes a package of these."""
    write(f"{folder}/regent-4.2.0.bin", image("QM-RC4-24D", "firmware", "4.2.0", 188, "4..6"))
    write(f"{folder}/new.bin", image("QM-RC4-24D", "firmware", "4.2.1", 192, "4..6"))
    run("objcopy", "-I", "binary", "-O", "ihex", "--change-addresses", "0x08004000", "new.bin", "regent-4.2.1.hex", folder=folder)
    os.remove(f"{folder}/new.bin")
    write_manifest(
        f"{folder}/regent.json",
        [entry("regent-4.2.0.bin", "QM-RC4-24D", "firmware", "4.2.0", ["4..6"], least_running="4.0.0", floor="4.0.0"),
         entry("regent-4.2.1.hex", "QM-RC4-24D", "firmware", "4.2.1", ["4..6"], least_running="4.2.0", floor="4.0.0")],
        "4.2.1 keeps the run-time counters in the new form that 4.2.0 brings:\ncontrollers below 4.2.0 take 4.2.0 first.", "2026-09-30")


def display_pair(folder):
    """The front display: a header file and its payload in a zip, with a note in another zip."""
    payload = image("QM-RC4-24D", "display", "1.4", 44, "4..6")
    write(f"{folder}/DISP14.DAT", payload)
    write(f"{folder}/DISP14.HDR",
          f"[front display]\nproduct=QM-RC4-24D\ncomponent=display\nversion=1.4\nrevisions=4..6\nbytes={len(payload)}\n"
          f"crc32={zlib.crc32(payload):08x}\n".encode())
    write(f"{folder}/README.TXT", b"Front display 1.4 for Regent C4, the 24 V DC variant.\n")
    pack("display.zip", "DISP14.HDR", "DISP14.DAT", folder=folder)
    pack("regent-display-1.4.zip", "README.TXT", "display.zip", folder=folder)
    for name in ("DISP14.DAT", "DISP14.HDR", "README.TXT", "display.zip"):
        os.remove(f"{folder}/{name}")


def module_image(folder):
    """The modules' firmware, raw: it says itself what it is, and that it is for revisions from 2 on."""
    write(f"{folder}/di16-1.2.bin", image("QM-DI16", "firmware", "1.2", 22, "2..4"))


def rescue_records(folder):
    """The variant's firmware as S-records: it says itself what it is."""
    write(f"{folder}/raw", image("QM-RC4-24K", "firmware", "4.2.1", 192, "4..6"))
    run("objcopy", "-I", "binary", "-O", "srec", "--srec-forceS3", "raw", "rc4-24k-4.2.1.s37", folder=folder)
    os.remove(f"{folder}/raw")


def coupler_elf(folder):
    """The couplers' firmware as an ELF file with its manifest beside it, in a tar archive."""
    write(f"{folder}/raw", image("BL-K8-E", "firmware", "1.3", 96, "2..5"))
    run("ld", "-b", "binary", "-N", "-Tdata=0x08000000", "-e", "0", "-o", "k8.elf", "raw", folder=folder)
    run("strip", "k8.elf", folder=folder)
    with open(f"{folder}/k8.elf", "rb") as file:
        elf = file.read()
    write_manifest(
        f"{folder}/k8.elf.json",
        [entry("k8.elf", "BL-K8-E", "firmware", "1.3", ["2..5"], size=len(elf), sha256=hashlib.sha256(elf).hexdigest(),
               companions=[{"role": "plc", "least": "4.2", "order": "dotted"}])],
        "Talks to controllers from 4.2 on.", "2026-10-12")
    run("tar", "--sort=name", "--mtime=2026-10-12", "--owner=0", "--group=0", "-czf", "k8-1.3.tar.gz", "k8.elf", "k8.elf.json",
        folder=folder)
    for name in ("raw", "k8.elf", "k8.elf.json"):
        os.remove(f"{folder}/{name}")


def dfu_file(path, data, vendor, product, release):
    """With its suffix (DFU 1.1, appendix B)."""
    body = data + struct.pack("<HHHH3sB", release, product, vendor, 0x0100, b"UFD", 16)
    write(path, body + struct.pack("<I", zlib.crc32(body) ^ 0xFFFFFFFF))


def usb_files(folder):
    """DFU files: for the lead node and for the rope gauge; the last one is for any release."""
    dfu_file(f"{folder}/l1-2.1.0.dfu", image("VH-L1", "firmware", "2.1.0", 44, "1..3"), 0x1209, 0x0001, 0x0210)
    dfu_file(f"{folder}/g3-5.2.dfu", image("SK-G3", "firmware", "5.2", 34, "1"), 0x1209, 0x0003, 0xFFFF)


def amplifier_files(folder):
    """The amplifiers' firmware and their web pages, in one zip: both say themselves what they are."""
    write(f"{folder}/firmware.bin", image("OR-H250", "firmware", "3.10", 64, "1"))
    write(f"{folder}/pages.bin", image("OR-H250", "web-pages", "3.10", 28, "1"))
    pack("herald-3.10.zip", "firmware.bin", "pages.bin", folder=folder)
    os.remove(f"{folder}/firmware.bin")
    os.remove(f"{folder}/pages.bin")


def panel_package(folder):
    """The operator panel's firmware, which talks to controllers from 4.2 on: a zip with its manifest."""
    data = image("HS-T07-W", "firmware", "2.20", 96, "A..D")
    write(f"{folder}/tafel-2.20.bin", data)
    write_manifest(
        f"{folder}/tafel-2.20.bin.json",
        [entry("tafel-2.20.bin", "HS-T07-W", "firmware", "2.20", ["A..D"], size=len(data), sha256=hashlib.sha256(data).hexdigest(),
               companions=[{"role": "plc", "least": "4.2", "order": "dotted"}])],
        "Shows the wind of the summit station.", "2026-09-21")
    pack("tafel-2.20.zip", "tafel-2.20.bin", "tafel-2.20.bin.json", folder=folder)
    os.remove(f"{folder}/tafel-2.20.bin")
    os.remove(f"{folder}/tafel-2.20.bin.json")


def door_package(folder):
    """The cabin doors' firmware, for revisions from B1 on and behind a lead node from 2.1 on: a zip with its manifest."""
    data = image("VH-D2", "firmware", "1.7.2", 48, "B1..B9")
    write(f"{folder}/d2-1.7.2.bin", data)
    write_manifest(
        f"{folder}/d2-1.7.2.bin.json",
        [entry("d2-1.7.2.bin", "VH-D2", "firmware", "1.7.2", ["B1..B9"], size=len(data), sha256=hashlib.sha256(data).hexdigest(),
               least_gateway="2.1.0")],
        "Reopens once where a cabin leaves with a door ajar.", "2026-09-04")
    pack("door-d2-1.7.2.zip", "d2-1.7.2.bin", "d2-1.7.2.bin.json", folder=folder)
    for name in ("d2-1.7.2.bin", "d2-1.7.2.bin.json"):
        os.remove(f"{folder}/{name}")


def grip_records(folder):
    """The grip amplifiers' firmware as Intel HEX at its place in flash."""
    write(f"{folder}/raw", image("SK-GA2", "firmware", "20260918", 42, "7"))
    run("objcopy", "-I", "binary", "-O", "ihex", "--change-addresses", "0x08000000", "raw", "ga2-20260918.hex", folder=folder)
    os.remove(f"{folder}/raw")


def mast_files(folder):
    """For the weather mast: the gateway's image and the wind sensors', in one zip; both say themselves what they are."""
    write(f"{folder}/m2-3.2.bin", image("FH-M2", "firmware", "3.2", 96, "1..2"))
    write(f"{folder}/w1-1.1.bin", image("FH-W1", "firmware", "1.1", 22, "1"))
    pack("mast-3.2.zip", "m2-3.2.bin", "w1-1.1.bin", folder=folder)
    os.remove(f"{folder}/m2-3.2.bin")
    os.remove(f"{folder}/w1-1.1.bin")


def gate_image(folder):
    """The ticket gates' firmware, raw: it says itself what it is."""
    write(f"{folder}/t4-0.10.0.bin", image("SK-T4", "firmware", "0.10.0", 22, "2..3"))


def main():
    folder = sys.argv[1]
    downloads = os.path.join(folder, "downloads")
    shutil.rmtree(downloads, ignore_errors=True)
    os.makedirs(downloads)
    os.makedirs(os.path.join(folder, "images"), exist_ok=True)
    for product, component, version, kilobytes in FACTORY:
        write(os.path.join(folder, "images", f"{product.lower()}-{component}-{version}.bin"),
              image(product, component, version, kilobytes))
    regent_package(downloads)
    display_pair(downloads)
    module_image(downloads)
    rescue_records(downloads)
    coupler_elf(downloads)
    usb_files(downloads)
    mast_files(downloads)
    gate_image(downloads)
    amplifier_files(downloads)
    panel_package(downloads)
    door_package(downloads)
    grip_records(downloads)


if __name__ == "__main__":
    main()
