"""Writes what the fuzzers begin with: messages that scapy made, and small image files of every format.
usage: seeds.py FOLDER, where frames.py beside it has been run into FOLDER/frames.txt"""
import io
import os
import sqlite3
import sys
import tarfile
import zipfile

folder = sys.argv[1]
ports = {"dns": 1, "snmp": 2}
for kind in ("heard", "image", "streams", "manifest", "can", "usb", "files", "calls", "web"):
    os.makedirs(f"{folder}/{kind}", exist_ok=True)
with open(f"{folder}/frames.txt", encoding="ascii") as lines:
    for number, line in enumerate(lines):
        kind, digits = line.split("|")[:2]
        with open(f"{folder}/heard/{number}", "wb") as file:
            file.write(bytes([ports.get(kind, 0)]) + bytes.fromhex(digits))

HEX = ":020000040801F1\n:0400000001020304F2\n:02000002100 0EC\n:04FFFE0001020304F5\n:00000001FF\n".replace("100 0", "1000")
SREC = "S00600004844521B\nS107000001020304EE\nS5030001FB\nS9030000FC\n"
DFU = b"123456789\xff\xff\xff\xff\xff\xff\x00\x01UFD\x10\x16\x4b\x65\x0f"
elf32 = bytes.fromhex("7f454c46010101000000000000000000020028000100000000800000340000000000000000000000340020000100000000000000")
elf32 += bytes.fromhex("0100000054000000000000200080000004000000080000000500000004000000") + b"\1\2\3\4"
for name, content in (("hex", HEX.encode()), ("srec", SREC.encode()), ("dfu", DFU), ("elf", elf32), ("raw", b"raw"),
                      ("label", b"0123456xxaab2..5;xx1.3\0")):
    with open(f"{folder}/image/{name}", "wb") as file:
        file.write(content)

answers = ("123400000013ff2b0e0383000003000141010142020143", "1234000000 0bff03080001000200030004".replace(" ", ""),
           "6500040001000000" + "00" * 16 + "01000000" + "6f002400" + "01000000" + "00" * 16 +
           "000000000000020000000000b2001400" + "81000000" + "4d000c000500" + "0118" + "6400" + "78563412" + "01" + "42")
for number, digits in enumerate(answers):
    with open(f"{folder}/streams/{number}", "wb") as file:
        file.write(b"\x07\x00" + bytes.fromhex(digits))

MANIFEST = (b'{"einbau": "manifest/1", "maker": "M", "released": "2026-01-02", "notes": "n", "images": [{"file": "a", "component": "f", '
            b'"version": "1", "size": 3, "sha256": "' + b"0f" * 32 + b'", "order_codes": ["A*"], "hardware_revisions": ["2..5", "C"], '
            b'"least_running": "1", "least_loader": "2", "least_gateway": "3", "floor": "0", "format": "raw", '
            b'"companions": [{"role": "plc", "least": "4.2", "order": "dotted"}]}]}')
for name, content in (("all", MANIFEST), ("jws", b"eyJhbGciOiJFZERTQSJ9.." + b"A" * 86)):
    with open(f"{folder}/manifest/{name}", "wb") as file:
        file.write(content)

# Whole transfers: a text read in segments and in a block, an image written in blocks, an answer of UDS in several frames.
transfers = (("00", "00", ["00c608100010000000", "000101020304050607", "0083 0f10000000000000".replace(" ", ""), "00d5e56500000000 00".replace(" ", "")]),
             ("01", "00", ["004108100009000000", "000061626364656667", "001b68690000000000"]),
             ("02", "00", ["00a4501f017f000000", "00a27f7f0000000000", "00a27f7f0000000000", "00a100000000000000"]),
             ("03", "00", ["0060501f0100000000", "002000000000000000", "003000000000000000"]),
             ("04", "00", ["01300000 0000000000".replace(" ", ""), "01037f367800000000", "0110147601020304 05".replace(" ", ""),
                           "012107080910111213", "012214151617181920"]),
             ("05", "01", ["02 4f00000000000000".replace(" ", ""), "1f4f00000000000000"]))
for number, (what, addressing, frames) in enumerate(transfers):
    with open(f"{folder}/can/{number}", "wb") as file:
        file.write(bytes.fromhex(what + addressing + "".join(frames)))
with open(f"{folder}/can/lines", "wb") as file:
    file.write(b"\r\x07z\rt1232AABBEA5F\rT1FFFFFFF101\rsp130128\re2ab\rF80\rV0102\r")

# On USB: configurations with a DFU interface, a string, and a download with its reading back, whose answers begin with 00.
CONFIGURATIONS = ("09022400020100803209040000 00ff00000009040100 00fe0101080921 0de803000410 01", "0902220001010080320904000000fe010210"
                  "0904000100fe01021107210300004000", "0e03470033002d00e900370000 00")
STATUS = "00" + "00000000{:02x}00"
DOWNLOAD = "07" + STATUS.format(2) + ("00" + STATUS.format(5)) * 16 + "00" + STATUS.format(2)
for number, digits in enumerate(CONFIGURATIONS + (DOWNLOAD,)):
    with open(f"{folder}/usb/{number}", "wb") as file:
        file.write(bytes.fromhex(digits.replace(" ", "")))

# Files: the demo's own, an archive of each kind, and the index of a shelf.
demo = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "demo")
files = [(0, os.path.join(demo, "larchfell.site.yaml")), (2, os.path.join(demo, "larchfell.world.yaml"))]
files += [(1, os.path.join(demo, "profiles", name)) for name in sorted(os.listdir(os.path.join(demo, "profiles")))]
for number, (kind, path) in enumerate(files):
    with open(path, "rb") as source, open(f"{folder}/files/{number}", "wb") as file:
        file.write(bytes([kind]) + source.read())
with io.BytesIO() as memory:
    with zipfile.ZipFile(memory, "w") as archive:
        archive.writestr("manifest.json", MANIFEST)
        archive.writestr("a", b"abc")
    zipped = memory.getvalue()
with io.BytesIO() as memory:
    with tarfile.open(fileobj=memory, mode="w:gz") as archive:
        member = tarfile.TarInfo("inner.zip")
        member.size = len(zipped)
        archive.addfile(member, io.BytesIO(zipped))
    tarred = memory.getvalue()
index = sqlite3.connect(":memory:")
index.executescript("CREATE TABLE images (number INTEGER PRIMARY KEY, digest, size, content, maker, product, profile, codes, component, version, "
                    "released, format, origin, added, by, scheme, build_mark, manifest, place); CREATE TABLE manifests (id, digest, text, "
                    "signature); CREATE TABLE codes (pattern, image, component, wild); CREATE TABLE loose (digest); INSERT INTO images "
                    "VALUES (1, 'ab', 1, 1, 'm', 'p', 'p', 'P1', 'firmware', '1', '', 'raw', 'o', 't', 'b', 0, '', 1, 0); INSERT INTO "
                    "manifests VALUES (1, 'd', '{}', ''); INSERT INTO loose VALUES ('../x'); PRAGMA user_version = 1")
for name, content in (("zip", b"\4" + zipped), ("tar", b"\4" + tarred), ("index", b"\5" + index.serialize()),
                      ("state", b'\3{"einbau": "world-state/1", "world": "w", "devices": {"d": {"mode": "running", "components": '
                       b'{"firmware": {"active": 0, "pending": false, "banks": [1]}}}}}\nx')):
    with open(f"{folder}/files/{name}", "wb") as file:
        file.write(content)

# Calls: an image pushed in blocks of 8 with each acknowledged, one read back, registers written and read, a service asked for.
calls = ("00" + "0210" + "01" + "0501ff" + "0100" + "050101" * 1 + "010105010101010501010101" * 2, "01" + "0108" + "01" + "0501" + "01000501" * 3,
         "02" + "07" + "0202" + "01ff" + "0004" + "04000102" + "2f01" + "01ff" + "00050e030001", "03" + "00" + "03ff" + "0110" + "00" * 16)
for number, digits in enumerate(calls):
    with open(f"{folder}/calls/{number}", "wb") as file:
        file.write(bytes.fromhex(digits))

# What web servers and loaders send: documents in two slices, heads, a DHCP message, and a file that is asked for and acknowledged.
discover = (bytes.fromhex("0101060012345678") + bytes(20) + bytes.fromhex("02005e510401") + bytes(10 + 192) + bytes.fromhex("63825363") +
            bytes.fromhex("350101") + bytes.fromhex("3d0702005e510401") + b"\xff")
request = b"\0\1a.bin\0octet\0blksize\x00512\0windowsize\x004\0"
acknowledgements = b"".join(b"\4\0\4" + number.to_bytes(2, "big") for number in range(7))
web = (b"\x00\7<td>Firmware: 1.2.3</td>", b"\x01\3aaaab;x", b"\x03\5<form><input type=hidden name='token' value=\"a1\"></form>",
       b'\x04\4{"a": [1, -2.5e3, true, null, {"b~/": "x\\u00e9\\ud83d\\ude00"}]}',
       b'\5Digest realm="r", nonce="n", qop="auth,auth-int", algorithm=SHA-256, Basic realm="q"',
       b"\5a=1; Path=/update; Max-Age=3; Secure; HttpOnly", b"\5http://198.51.100.7/x/../y?z#f", b"\6" + discover,
       b"\7" + bytes([len(request)]) + request + acknowledgements)
for number, content in enumerate(web):
    with open(f"{folder}/web/{number}", "wb") as file:
        file.write(content)
