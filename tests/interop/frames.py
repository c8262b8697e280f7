"""Messages made by scapy, one per line: what it is, the bytes in hexadecimal, and what a reader must find in them.
usage: frames.py"""
from scapy.contrib.pnio_dcp import DCPDeviceIDBlock, DCPIPBlock, DCPNameOfStationBlock
from scapy.contrib.lldp import (LLDPDU, LLDPDUChassisID, LLDPDUEndOfLLDPDU, LLDPDUGenericOrganisationSpecific,
                                LLDPDUManagementAddress, LLDPDUPortID, LLDPDUSystemDescription, LLDPDUSystemName,
                                LLDPDUTimeToLive)
from scapy.layers.dhcp import BOOTP, DHCP
from scapy.layers.dns import DNS, DNSRR, DNSRRSRV
from scapy.layers.inet import IP, UDP
from scapy.layers.l2 import ARP, Dot1Q, Ether
from scapy.layers.snmp import SNMP, SNMPresponse, SNMPvarbind
from scapy.asn1.asn1 import ASN1_INTEGER, ASN1_OID, ASN1_STRING

MAC = "02:00:5e:aa:00:01"
LAPTOP = "02:00:5e:bb:00:01"


def show(kind, message, *found):
    print(kind, bytes(message).hex(), *found, sep="|")


def main():
    show("arp", Ether(dst=LAPTOP, src=MAC) / ARP(op=2, hwsrc=MAC, psrc="192.0.2.10", hwdst=LAPTOP, pdst="192.0.2.100"),
         MAC, "192.0.2.10", "192.0.2.100", 1)
    show("arp", Ether(dst="ff:ff:ff:ff:ff:ff", src=MAC) / Dot1Q(vlan=5) / ARP(op=1, hwsrc=MAC, psrc="0.0.0.0", pdst="192.0.2.7"),
         MAC, "0.0.0.0", "192.0.2.7", 0)

    head = Ether(dst="ff:ff:ff:ff:ff:ff", src=MAC) / IP(src="0.0.0.0", dst="255.255.255.255") / UDP(sport=68, dport=67)
    chaddr = bytes.fromhex(MAC.replace(":", ""))
    show("dhcp", head / BOOTP(chaddr=chaddr, xid=7) / DHCP(options=[
        ("message-type", "discover"), ("requested_addr", "192.0.2.44"), ("hostname", "pump"), ("vendor_class_id", "Seg 7"), "end"]),
         MAC, 0, "192.0.2.44", "pump", "Seg 7")
    show("dhcp", head / BOOTP(chaddr=chaddr, xid=7, ciaddr="192.0.2.45"), MAC, 1, "192.0.2.45", "", "")

    med = [LLDPDUGenericOrganisationSpecific(org_code=0x0012BB, subtype=s, data=t) for s, t in
           ((5, b"C"), (6, b"2.18"), (7, b"sw"), (8, b"S-77"), (9, b"Hestrand"), (10, b"Tafel 7"))]
    frame = Ether(dst="01:80:c2:00:00:0e", src=MAC, type=0x88CC) / LLDPDUChassisID(subtype=4, id=MAC) / LLDPDUPortID(
        subtype=7, id=b"1") / LLDPDUTimeToLive(ttl=120) / LLDPDUSystemName(system_name=b"panel") / LLDPDUSystemDescription(
        description=b"a panel") / LLDPDUManagementAddress(management_address_subtype=1, management_address=bytes([192, 0, 2, 21]),
                                                         interface_numbering_subtype=2, interface_number=1)
    for tlv in med:
        frame = frame / tlv
    show("lldp", frame / LLDPDUEndOfLLDPDU(), MAC, "192.0.2.21", "panel", "a panel", "C", "2.18", "S-77", "Hestrand", "Tafel 7", 0)
    show("lldp", Ether(dst="01:80:c2:00:00:0e", src=MAC, type=0x88CC) / LLDPDUChassisID(subtype=7, id=b"x") / LLDPDUPortID(
        subtype=7, id=b"1") / LLDPDUTimeToLive(ttl=0) / LLDPDUEndOfLLDPDU(), "", "", "", "", "", "", "", "", "", 1)

    # Blocks are built by scapy and joined here: its own layer takes one block per frame when it builds.
    def block(made):
        size = int.from_bytes(bytes(made)[2:4], "big")
        return bytes(made)[:4 + size] + bytes(size & 1)  # its padding is not always that of the standard

    blocks = block(DCPNameOfStationBlock(name_of_station=b"drive-plc")) + block(DCPDeviceIDBlock(
        dcp_block_length=6, vendor_id=0x0E01, device_id=4)) + block(
            DCPIPBlock(dcp_block_length=14, ip="192.0.2.10", netmask="255.255.255.0", gateway="192.0.2.1", block_info=1))
    for vlan in (False, True):
        eth = Ether(dst=LAPTOP, src=MAC)
        eth = eth / Dot1Q(vlan=0, prio=6) if vlan else eth
        eth[len(eth.layers()) - 1].type = 0x8892
        body = bytes.fromhex("feff05010000123400000000")[:10] + len(blocks).to_bytes(2, "big") + blocks
        show("dcp", eth / body, MAC, "drive-plc", 0x0E01, 4, "192.0.2.10", "255.255.255.0", "192.0.2.1")

    texts = [b"firmware=3.9", b"flag", b"empty="]
    dns = DNS(id=0, qr=1, aa=1, qd=None, an=DNSRR(rrname="_pa._tcp.local.", type="PTR", ttl=4500, rdata="pa-valley._pa._tcp.local."),
              ar=DNSRRSRV(rrname="pa-valley._pa._tcp.local.", ttl=120, port=80, target="pa.local.") /
              DNSRR(rrname="pa-valley._pa._tcp.local.", type="TXT", ttl=4500, rdata=texts) /
              DNSRR(rrname="pa.local.", type="A", ttl=120, rdata="192.0.2.41"))
    show("dns", dns, "_pa._tcp.local", "pa-valley._pa._tcp.local", "pa.local", "firmware=3.9,flag,empty=")
    show("dns", dns.compress(), "_pa._tcp.local", "pa-valley._pa._tcp.local", "pa.local", "firmware=3.9,flag,empty=")

    show("snmp", SNMP(version=1, community="public", PDU=SNMPresponse(id=0x12345678, varbindlist=[
        SNMPvarbind(oid=ASN1_OID("1.3.6.1.2.1.1.1.0"), value=ASN1_STRING("Seg 7 " + "x" * 150)),
        SNMPvarbind(oid=ASN1_OID("1.3.6.1.2.1.47.1.1.1.1.11.300"), value=ASN1_STRING("S-77")),
        SNMPvarbind(oid=ASN1_OID("1.3.6.1.2.1.47.1.1.1.1.5.1"), value=ASN1_INTEGER(200))])),
         0x12345678, "1.3.6.1.2.1.1.1.0", "Seg 7 " + "x" * 150, "1.3.6.1.2.1.47.1.1.1.1.11.300", "S-77",
         "1.3.6.1.2.1.47.1.1.1.1.5.1", "200")


if __name__ == "__main__":
    main()
