"""What is said in field protocols, byte by byte as the standards' tables have it, where no partner judges it.

EtherNet/IP is judged by cpppo, BACnet by bacpypes3, SNMP by snmpd, Modbus by pymodbus, KNX by knxd, WS-Discovery by
its publishers, ONVIF by the schema of the standard: each of them takes or makes these messages in its own tests.
"""

from ipaddress import IPv4Address

import pytest

from askport.core.addresses import MacAddress
from askport.core.formats import bacnet, cip, dcp, ipprog, modbus
from askport.core.formats import field_protocols as fp
from conftest import DEVICE

AT, MASK, GATEWAY = IPv4Address("10.84.16.45"), IPv4Address("255.255.252.0"), IPv4Address("10.84.19.254")
VALUES = "0a54102d fffffc00 0a5413fe"
MAC = MacAddress.parse(DEVICE)

MESSAGES = {
    # Frame id, service, type, transaction, reserved, length; option, suboption, length, qualifier, value.
    "dcp set": (dcp.encode_dcp(dcp.set_ip(7, AT, MASK, GATEWAY, permanent=True)),
                f"fefd 04 00 00000007 0000 0012  01 02 000e 0001 {VALUES}"),
    "dcp set for now": (dcp.encode_dcp(dcp.set_ip(7, AT, MASK, GATEWAY, permanent=False)),
                        f"fefd 04 00 00000007 0000 0012  01 02 000e 0000 {VALUES}"),
    # The byte that makes an odd block even is outside its length, and inside that of the message.
    "dcp name": (dcp.encode_dcp(dcp.set_name(8, b"feed-lane", permanent=True)),
                 "fefd 04 00 00000008 0000 0010  02 02 000b 0001 666565642d6c616e65 00"),
    "dcp blink": (dcp.encode_dcp(dcp.blink(9)), "fefd 04 00 00000009 0000 0008  05 03 0004 0000 0100"),
    "dcp get": (dcp.encode_dcp(dcp.get(10, dcp.Block.IP, dcp.Block.NAME_OF_STATION)),
                "fefd 03 00 0000000a 0000 0004  01 02 02 02"),
    # Identifier, operation (low byte first), version 14, two of filler, command, filler, values, port, gateway, spare.
    "art-net program": (ipprog.encode_ip_prog(ipprog.IpProg(False, AT, MASK, GATEWAY, ipprog.SET_WITH_GATEWAY)),
                        "4172742d4e657400 00f8 000e 0000 96 00 0a54102d fffffc00 0000 0a5413fe 00000000"),
    "art-net poll": (fp.encode_art_net(fp.ArtNet(fp.ArtNetOp.POLL)), "4172742d4e657400 0020 000e 00 00"),
    # Header of six bytes with service and whole length; the host's address of eight bytes.
    "knx describe": (fp.encode_knx(fp.Knx(fp.KnxService.DESCRIPTION_REQUEST, AT)),
                     "06 10 0203 000e  08 01 0a54102d 0e57"),
    "modbus identify": (modbus.read_identification(1), "0001 0000 0005 ff 2b 0e 01 00"),
    # Values of the interface are little-endian here, and the domain's odd length is padded.
    "cip configuration": (
        cip.encode_configuration(cip.Configuration(AT, MASK, GATEWAY, (GATEWAY, IPv4Address(0)), b"pond.sallowbeck")),
        "2d10540a 00fcffff fe13540a fe13540a 00000000 0f00 706f6e642e73616c6c6f776265636b 00"),
    # To one: original unicast, no network address, reply wanted; property 400 of object 56, number 3; an octet string.
    "bacnet write": (bacnet.write_property(1, 3, bacnet.Property.IP_ADDRESS, bacnet.octets(AT.packed)),
                     "81 0a 0019 01 04 00 05 01 0f  0c 0e000003 1a 0190 3e 64 0a54102d 3f"),
    "bacnet who": (fp.encode_bacnet(fp.Bacnet(fp.BacnetService.WHO_IS), to_one=True), "81 0a 0008 01 00 10 08"),
    "identity": (fp.encode_ethernet_ip(fp.EtherNetIp()), "6300 0000 00000000 00000000 0000000000000000 00000000"),
}  # fmt: skip


@pytest.mark.parametrize("name", MESSAGES)
def test_a_message_is_as_its_standard_writes_it(name):
    ours, standard = MESSAGES[name]
    assert ours.hex() == standard.replace(" ", "")


def test_a_description_of_knx_is_as_its_standard_writes_it():
    """A device's part of 54 bytes, and the families that it speaks, which have to follow."""
    told = fp.encode_knx(fp.Knx(fp.KnxService.DESCRIPTION_RESPONSE, mac=MAC, name=b"lane", individual_address=0x11FA,
                                serial=b"\0\1\2\3\4\5"))  # fmt: skip
    about = f"36 01 02 00 11fa 0000 000102030405 e000170c {MAC.hex()} {b'lane'.ljust(30, bytes(1)).hex()}"
    assert told.hex() == f"061002040042{about}060202010301".replace(" ", "")
