#!/usr/bin/env python3
"""Makes the images of the demo, the same on every machine, with a manifest beside each.

usage: make_images.py FOLDER

The layout of an image is that of the simulated devices (host/sim/device.h); its program is pseudo-random bytes."""
import hashlib
import json
import os
import random
import struct
import sys
import zlib

# product, component, version, kilobytes, revisions, least running version, floor; None: an image a device leaves the factory with
IMAGES = [
    ("QM-RC4-24D", "firmware", "4.1.9", 180, None, None, None),
    ("QM-RC4-24D", "firmware", "4.2.1", 192, ["4..6"], "4.0.0", "4.0.0"),
    ("QM-RC4-24D", "display", "1.3", 40, None, None, None),
    ("QM-RC4-24D", "display", "1.4", 44, ["4..6"], None, None),
    ("QM-RC4-24K", "firmware", "4.1.9", 180, None, None, None),
    ("QM-RC4-24K", "firmware", "4.2.1", 192, ["4..6"], "4.0.0", "4.0.0"),
    ("BL-K8-E", "firmware", "1.24", 90, None, None, None),
    ("BL-K8-E", "firmware", "1.3", 96, ["2..5"], None, None),
    ("OR-H250", "firmware", "3.9", 60, None, None, None),
]


def image(product, component, version, kilobytes):
    """The bytes of one image; docs/world.md describes its head."""
    seed = f"larchfell {product} {component} {version}"
    program = random.Random(seed).randbytes(kilobytes * 1000 - 64)
    tail = struct.pack("<16s16s16s", product.encode(), component.encode(), version.encode()) + program
    size = 16 + len(tail)
    return b"EBIMAGE1" + struct.pack("<II", size, zlib.crc32(tail)) + tail


def manifest(name, data, component, version, product, revisions, least, floor):
    entry = {
        "file": name,
        "component": component,
        "version": version,
        "size": len(data),
        "sha256": hashlib.sha256(data).hexdigest(),
        "order_codes": [product],
        "hardware_revisions": revisions,
    }
    if least:
        entry["least_running"] = least
    if floor:
        entry["floor"] = floor
    return {"einbau": "manifest/1", "images": [entry]}


def main():
    folder = sys.argv[1]
    os.makedirs(folder, exist_ok=True)
    for product, component, version, kilobytes, revisions, least, floor in IMAGES:
        name = f"{product.lower()}-{component}-{version}.bin"
        data = image(product, component, version, kilobytes)
        with open(os.path.join(folder, name), "wb") as file:
            file.write(data)
        if revisions:
            with open(os.path.join(folder, name + ".json"), "w") as file:
                json.dump(manifest(name, data, component, version, product, revisions, least, floor), file, indent=2)
                file.write("\n")


if __name__ == "__main__":
    main()
