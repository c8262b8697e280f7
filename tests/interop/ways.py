"""Which way leads to a device, worked out with Python's ipaddress: the oracle for the advice on addresses.

usage: ways.py make SEED COUNT      prints cases, a line each:  DEVICE/PREFIX EXPECTED [NAME FLAGS ADDRESS/PREFIX,...]...
       ways.py check < RESULTS      checks lines: DEVICE/PREFIX ADDED/PREFIX TAKEN,...  (an advised address)
FLAGS: w wired or r radio, u up, c carrier, d default route."""
import ipaddress
import random
import sys


def net(text):
    return ipaddress.ip_interface(text)


def expected(device, links):
    best = None
    for index, (_, flags, addresses) in enumerate(links):
        for address in addresses:
            inside = device.ip in net(address).network
            if "u" in flags and inside and (best is None or net(address).network.prefixlen > best[1]):
                best = (index, net(address).network.prefixlen)
    if best is not None:
        return f"direct{best[0]}"
    if any("w" in flags and "u" in flags for _, flags, _ in links) and device.network.num_addresses > 2:
        return "add"
    routed = [i for i, (_, flags, _) in enumerate(links) if all(f in flags for f in "ucd")]
    return f"routed{routed[-1]}" if routed else "none"


def make(seed, count):
    rng = random.Random(seed)
    nets = ["192.0.2.", "198.51.100.", "203.0.113."]
    for _ in range(count):
        device = net(f"{rng.choice(nets)}{rng.randrange(256)}/{rng.choice([16, 22, 24, 24, 24, 25, 28, 29, 30, 32])}")
        links = []
        for index in range(rng.randrange(4)):
            flags = rng.choice("wwr") + "".join(f for f in "ucd" if rng.random() < (0.2 if f == "d" else 0.8))
            addresses = [f"{rng.choice(nets)}{rng.randrange(1, 255)}/{rng.choice([16, 24, 24, 28, 30])}"
                         for _ in range(rng.randrange(3))]
            links.append((f"l{index}", flags, addresses))
        words = [f"{name} {flags} {','.join(addresses) or '-'}" for name, flags, addresses in links]
        print(" ".join([str(device), expected(device, links)] + words))


def check():
    count = 0
    for line in sys.stdin:
        device, added, taken = line.split()
        device, added = net(device), net(added)
        hosts = device.network.prefixlen >= 31 or added.ip not in (device.network.network_address, device.network.broadcast_address)
        if added.network != device.network or added.ip == device.ip or not hosts or str(added.ip) in taken.split(","):
            sys.exit(f"wrong advice: {line}")
        count += 1
    print(f"{count} advised addresses are right")


if sys.argv[1] == "make":
    make(int(sys.argv[2]), int(sys.argv[3]))
else:
    check()
