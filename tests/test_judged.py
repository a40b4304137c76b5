"""What is said in field protocols, as an independent analyser reads it from a file."""

import os
import shutil
import subprocess
from ipaddress import IPv4Address

import pytest

from askport.core.addresses import MacAddress
from askport.core.formats import bacnet, cip, dcp, ipprog, modbus
from askport.core.formats import field_protocols as fp
from askport.core.formats.capture import pcapng_frame, pcapng_start
from askport.core.formats.packet import Ends, frame_between
from askport.core.formats.tcp import Tcp
from askport.core.formats.udp import Udp
from askport.core.ways.snmp_engine import Access, AgentTalk, Asks
from conftest import DEVICE, LAPTOP, PARTNERS

LAPTOP_MAC, DEVICE_MAC = MacAddress.parse(LAPTOP), MacAddress.parse(DEVICE)
ENDS = Ends(src_mac=LAPTOP_MAC, src=IPv4Address("192.168.61.9"), dst_mac=DEVICE_MAC, dst=IPv4Address("192.168.61.7"))
AT, MASK, GATEWAY = IPv4Address("10.84.16.45"), IPv4Address("255.255.252.0"), IPv4Address("10.84.19.254")
CONFIGURATION = cip.encode_configuration(cip.Configuration(AT, MASK, GATEWAY, (GATEWAY, IPv4Address(0)), b"hatchery"))


def _dcp(message):
    return dcp.dcp_frame(LAPTOP_MAC, DEVICE_MAC, message)


def _udp(port, data):
    return frame_between(ENDS, Udp(src_port=port, dst_port=port, payload=data))


def _tcp(port, data):
    segment = Tcp(src_port=41_000 + len(data), dst_port=port, seq=1, ack=1, flags=0x18, window=1000, payload=data)
    return frame_between(ENDS, segment)


def _cip(service, attribute, data=b""):
    return _tcp(44818, cip.unconnected(5, cip.interface_request(service, attribute, data)))


def _snmp():
    talk = AgentTalk(Access("1", "", "hatchery"))
    talk.ask(Asks.SET, [((1, 3, 6, 1, 2, 1, 4, 34, 1, 3, 1, 4, 10, 84, 16, 45), 2)])
    return _udp(161, talk.message)


MESSAGES = [
    ("dcp set", _dcp(dcp.set_ip(7, AT, MASK, GATEWAY, permanent=True)),
     ["Save the value permanent (1)", f"IPaddress: {AT}", f"Subnetmask: {MASK}", f"StandardGateway: {GATEWAY}"]),
    ("dcp set for now", _dcp(dcp.set_ip(7, AT, MASK, GATEWAY, permanent=False)),
     ["Use the value temporary (0)", f"IPaddress: {AT}"]),
    ("dcp name", _dcp(dcp.set_name(8, b"feed-lane", permanent=True)),
     ["NameOfStation: feed-lane", "Save the value permanent (1)", "DCPBlockLength: 11"]),
    ("dcp blink", _dcp(dcp.blink(9)), ["Suboption: Signal (3)", "SignalValue: Flash Once (0x0100)"]),
    ("dcp reset", _dcp(dcp.reset(9)), ["Suboption: Reset to Factory (6)", "Reset communication parameter"]),
    ("dcp get", _dcp(dcp.get(10, dcp.Block.IP, dcp.Block.NAME_OF_STATION)),
     ["ServiceID: Get (3)", "Suboption: IP parameter (2)", "Suboption: Name of Station (2)"]),
    ("cip session", _tcp(44818, cip.register_session()), ["Command: Register Session (0x0065)", "Protocol Version: 1"]),
    ("cip get", _cip(cip.Service.GET, cip.Attribute.CAPABILITY), ["Get Attribute Single", "Attribute: 2"]),
    ("cip set", _cip(cip.Service.SET, cip.Attribute.CONFIGURATION, CONFIGURATION),
     ["Class: TCP/IP Interface (0xf5)", "Set Attribute Single", f"IP Address: {AT}", f"Subnet Mask: {MASK}",
      f"Gateway: {GATEWAY}", f"Name Server: {GATEWAY}", "Domain Name: hatchery"]),
    ("cip name", _cip(cip.Service.SET, cip.Attribute.HOST_NAME, cip.encode_host_name("valves-3")),
     ["Set Attribute Single", "Attribute: 6", "Hostname: valves-3"]),
    ("bacnet write", _udp(47808, bacnet.write_property(1, 3, bacnet.Property.IP_ADDRESS, bacnet.octets(AT.packed))),
     ["writeProperty (15)", "network-port, 3", "ip-address (400)", "0a54102d"]),
    ("bacnet read", _udp(47808, bacnet.read_property(1, 3, bacnet.Property.SUBNET_MASK)),
     ["readProperty (12)", "ip-subnet-mask (411)"]),
    ("bacnet activate", _udp(47808, bacnet.activate_changes(2, "pond")),
     ["reinitializeDevice (20)", "activate-changes", "pond"]),
    ("bacnet who", _udp(47808, fp.encode_bacnet(fp.Bacnet(fp.BacnetService.WHO_IS))), ["who-Is (8)"]),
    ("art-net program", _udp(6454, ipprog.encode_ip_prog(ipprog.IpProg(False, AT, MASK, GATEWAY, ipprog.SET))),
     ["ArtIpProg (0xf800)", f"IP Address: {AT}", f"Subnet Mask: {MASK}", "Program IP: True", "Enable Programming"]),
    ("art-net poll", _udp(6454, fp.encode_art_net(fp.ArtNet(fp.ArtNetOp.POLL))), ["ArtPoll (0x2000)"]),
    ("knx description", _udp(3671, fp.encode_knx(fp.Knx(fp.KnxService.DESCRIPTION_REQUEST, ENDS.src))),
     ["Description Request (0x0203)", "192.168.61.9:3671"]),
    ("knx described", _udp(3671, fp.encode_knx(fp.Knx(fp.KnxService.DESCRIPTION_RESPONSE, mac=DEVICE_MAC, name=b"lane",
                                                      individual_address=0x11FA, serial=b"\0\x01\2\3\4\5"))),
     ["Description Response (0x0204)", "1.1.250", "Friendly Name: lane", DEVICE]),
    ("modbus", _tcp(502, modbus.read_identification(1)),
     ["Encapsulated Interface Transport (43)", "Read Device Identification (14)", "Basic Device Identification (1)"]),
    ("cip identity", _udp(44818, fp.encode_ethernet_ip(fp.EtherNetIp())), ["List Identity (0x0063)"]),
    ("snmp", _snmp(), ["version: version-1 (0)", "set-request (3)", "1.3.6.1.2.1.4.34.1.3.1.4.10.84.16.45"]),
]  # fmt: skip


@pytest.fixture(scope="session")
def read_by_others(tmp_path_factory):
    """What the analyser says of each message; it runs without rights, because it loads no reader of DCP with them."""
    root = PARTNERS / "root"
    program = next((str(each) for each in [root / "usr/bin/tshark"] if each.exists()), None) or shutil.which("tshark")
    if not program:
        pytest.skip("no tshark: our messages were not judged by it")
    libraries = next(iter(root.glob("usr/lib/*-linux-gnu")), root)
    environment = {"PATH": os.environ["PATH"], "HOME": "/nonexistent", "LD_LIBRARY_PATH": str(libraries),
                   "WIRESHARK_PLUGIN_DIR": str(libraries / "wireshark/plugins")}  # fmt: skip
    others = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"] if os.geteuid() == 0 else []
    if subprocess.run([*others, "test", "-x", program], check=False).returncode:
        pytest.skip("tshark cannot be run without rights from here: our messages were not judged by it")
    file = pcapng_start() + b"".join(pcapng_frame(float(at), frame) for at, (_, frame, _) in enumerate(MESSAGES))
    run = subprocess.run([*others, program, "-r", "-", "-V"], input=file, capture_output=True, env=environment,
                         check=False)  # fmt: skip
    told = run.stdout.decode("utf-8", "replace").split("\n\nFrame ")
    assert len(told) == len(MESSAGES), run.stderr.decode()
    return told


@pytest.mark.parametrize("number", range(len(MESSAGES)), ids=[name for name, _, _ in MESSAGES])
def test_a_message_is_read_by_others_as_it_was_meant(read_by_others, number):
    _, _, says = MESSAGES[number]
    told = read_by_others[number]
    assert [each for each in says if each not in told] == [], told
    assert "Malformed" not in told, told
    assert "Expert Info (Error" not in told, told
