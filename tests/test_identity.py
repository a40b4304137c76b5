"""Who a device says that it is in its field protocols, told by other people's stacks at the other end of a cable."""

import json
import re
import shutil
import sys
import tempfile
from ipaddress import IPv4Address
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.channels import Opened, Received, SendOn
from askport.core.finding import asking_modbus, clues
from askport.core.formats import field_protocols, lldp, modbus, unreadable
from askport.core.formats.modbus import Identification, read_identification, take_identification
from conftest import DEVICE

HOME = "192.168.61.7"
KNX = """
[main]
addr = 1.1.250
client-addrs = 1.1.251:4
connections = server,bus
name = feed lane
[server]
server = ets_router
interface = zd0
discover = true
tunnel = tunnel
[tunnel]
[bus]
driver = dummy
"""
MODBUS = """
import asyncio
from pymodbus.pdu.device import ModbusDeviceIdentification
from pymodbus.server import StartAsyncTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice
basic = {0: "Calder Vale", 1: "PV-7", 2: "1.4"}
more = {4: "Pump valve", 5: "x" * 200} if MORE else {}
device = SimDevice(0, simdata=[SimData(0, values=0, count=10, datatype=DataType.REGISTERS)])
identity = ModbusDeviceIdentification(info=basic | more)
asyncio.run(StartAsyncTcpServer(device, identity=identity, address=("0.0.0.0", 502)))
"""
PUBLISHED = """
import time
from wsdiscovery import QName, Scope
from wsdiscovery.publishing import ThreadedWSPublishing
service = ThreadedWSPublishing()
service.start()
service.publishService(
    types=[QName("http://www.onvif.org/ver10/network/wsdl", "NetworkVideoTransmitter")],
    scopes=[Scope("onvif://www.onvif.org/name/pond")], xAddrs=["http://192.168.61.7/onvif/device_service"])
time.sleep(60)
"""


@pytest.fixture
def device(cable):
    cable.ip("addr", "add", f"{HOME}/24", "brd", "+", "dev", "zd0")
    cable.ip("link", "set", "lo", "up")
    laptop = re.search("link/ether (\\S+)", cable.adapter())[1]
    for each in ("route add default via 192.168.61.1 dev zd0", f"neigh add 192.168.61.1 lladdr {laptop} dev zd0"):
        cable.ip(*each.split())  # so that answers to an address that is not its neighbour come to the laptop
    return cable


def find(cable, seconds=5):
    run = cable.askport("find", "zl0", "--loudness", "greet", "--seconds", seconds, "--json")
    return next(each for each in json.loads(run.stdout)["devices"] if each["mac"] == DEVICE)


def identify(cable):
    run = cable.askport("identify", "zl0", "--mac", DEVICE, "--at", HOME, "--json")
    assert "Traceback" not in run.stderr
    return json.loads(run.stdout)["identities"], run.returncode


def test_a_knx_server_is_found_and_describes_itself(device, tmp_path):
    (tmp_path / "conf").write_text(KNX)
    device.partner("knxd", str(tmp_path / "conf"))
    device.listens(3671, "udp")
    found = find(device)
    assert {"name": "feed lane", "source": "knx"} in found["names"]
    assert any(each["protocol"] == "knx" and each["text"] == "at 1.1.250 on its bus" for each in found["identities"])
    described, status = identify(device)
    assert ([each["text"] for each in described if each["protocol"] == "knx"], status) == (["at 1.1.250 on its bus"], 0)


@pytest.mark.by_day(0)
@pytest.mark.parametrize(("more", "says"), [
    ("False", "Calder Vale PV-7 1.4"), ("True", ("Calder Vale Pump valve " + "x" * 200)[:120])])  # fmt: skip
def test_a_modbus_server_is_identified(device, more, says):
    before = device.adapter()
    device.start("device", sys.executable, "-c", MODBUS.replace("MORE", more))
    device.listens(502)
    known, status = identify(device)
    assert ([each["text"] for each in known if each["protocol"] == "modbus"], status) == ([says], 0)
    assert device.adapter() == before


def test_a_publisher_of_ws_discovery_is_found(device):
    device.start("device", sys.executable, "-c", PUBLISHED)
    device.listens(3702, "udp")
    found = find(device)
    assert {"name": "pond", "source": "ws-discovery"} in found["names"]
    assert [each["protocol"] for each in found["identities"]] == ["onvif"]


def test_a_computer_that_shows_itself_by_ws_discovery_is_found(device):
    device.partner("wsdd", "-i", "zd0", "-4", "-t")  # its page would ask for names first
    device.listens(3702, "udp")
    found = find(device)
    assert any("Device Computer" in each for each in found["tells"]), found


def test_a_node_of_art_net_answers_a_poll(device, tmp_path):
    (tmp_path / "ola-artnet.conf").write_text("enabled = true\nip = 192.168.61.7\nshort_name = lane\n")
    (tmp_path / "ola-server.conf").write_text("instance-name = lane\n")
    home = Path(shutil.copytree(tmp_path, tempfile.mkdtemp() + "/ola"))
    home.parent.chmod(0o755)
    device.partner("setpriv", "--reuid", "65534", "--clear-groups", "olad", "-c", str(home), "--no-http", "-l", "3")
    device.listens(6454, "udp")
    found = find(device)
    assert any(each["protocol"] == "artnet" for each in found["identities"])
    assert any(each["source"] == "art-net" for each in found["names"])


def test_who_says_nothing_is_said_to_say_nothing(device):
    assert identify(device) == ([], 1)


parts = st.lists(st.tuples(st.integers(0, 255), st.binary(max_size=40)), max_size=4).map(tuple)
answers = st.one_of(
    st.builds(Identification, st.integers(0, 65535), parts, st.none() | st.integers(0, 255), st.just(0),
              st.sampled_from([1, 2]), st.integers(1, 255), st.integers(0, 255)),
    st.integers(1, 255).map(lambda code: Identification(7, exception=code)),
)  # fmt: skip


@given(answers, st.integers(1, 9))
def test_an_identification_is_read_as_it_was_written_wherever_it_is_cut(answer, cut):
    stream = modbus.encode_identification(answer) * 2
    held, taken = b"", []
    for start in range(0, len(stream), cut):
        held += stream[start : start + cut]
        while (one := take_identification(held))[0] is not None:
            taken.append(one[0])
            held = one[1]
    assert taken == [answer, answer]


@given(st.binary(max_size=300))
def test_whatever_comes_is_read_or_unreadable(data):
    for each in (data, read_identification(1)[:6] + data, b"\0\1\0\0\0\x08\xff\x2b\x0e\1\1" + data):
        taken = take_identification(each)
        assert isinstance(taken, unreadable.Unreadable | tuple)
    assert isinstance(field_protocols.decode_knx(b"\x06\x10\x02\x04\0\x3c" + data), field_protocols.Knx)


@pytest.mark.parametrize("code", modbus.EXCEPTIONS)
def test_every_refusal_of_the_standard_has_its_sentence(code):
    answer, _ = take_identification(modbus.encode_identification(Identification(1, exception=code)))
    assert answer.refusal == modbus.EXCEPTIONS[code]


@pytest.mark.parametrize(
    "service", [field_protocols.KnxService.SEARCH_RESPONSE, field_protocols.KnxService.DESCRIPTION_RESPONSE]
)
@given(mac=st.binary(min_size=6, max_size=6), serial=st.binary(min_size=6, max_size=6), bus=st.integers(0, 65535))
def test_a_knx_description_is_read_as_it_was_written(service, mac, serial, bus):
    written = field_protocols.Knx(service, mac=mac, name=b"lane", individual_address=bus, serial=serial)
    assert field_protocols.decode_knx(field_protocols.encode_knx(written)) == written


def test_an_identity_is_said_with_what_it_has():
    assert clues.Identity("knx", 2, None, 7, "at 1.1.1 on its bus").sentence == (
        "KNXnet/IP: vendor 2, serial 7, at 1.1.1 on its bus"
    )


class Unit:
    """A Modbus server that answers as one unit only, over a channel that is a list."""

    def __init__(self, unit, exception):
        self.unit, self.exception, self.asked = unit, exception, []

    def answers(self, request):
        transaction, unit = int.from_bytes(request[:2], "big"), request[6]
        self.asked.append(unit)
        if unit != self.unit:
            refused = Identification(transaction, exception=self.exception, unit=unit)
            return modbus.encode_identification(refused) if self.exception else b""
        parts = ((0, b"Calder Vale"), (1, b"PV-7"))
        whole = modbus.encode_identification(Identification(transaction, parts, unit=unit))
        return whole[:-1] + b"!" if self.exception == 11 else whole


@pytest.mark.parametrize(("unit", "exception"), [(255, 0), (1, 10), (0, 11), (1, 0)])
def test_a_modbus_device_is_asked_as_the_units_that_devices_answer_as(unit, exception):
    server, now = Unit(unit, exception), 0.0
    asking = asking_modbus.AskingModbus(IPv4Address(HOME), now=now)
    channel = asking.poll()[0].channel
    asking.channel_event(Opened(channel), now)
    while not asking.done and now < 10.0:
        for effect in asking.poll():
            if isinstance(effect, SendOn) and (answer := server.answers(effect.data)):
                asking.channel_event(Received(channel, answer), now)
        now += 0.1
        asking.handle_timer(now)
    assert asking.identity.text.startswith("Calder Vale")
    assert server.asked[-1] == unit


def test_parts_that_stand_before_a_bad_one_stay():
    whole = modbus.encode_identification(Identification(7, ((0, b"Calder Vale"), (1, b"PV-7"))))
    cut = whole[:5] + bytes((whole[5] - 2,)) + whole[6:-2]
    answer, _ = take_identification(cut)
    assert answer.parts == ((0, b"Calder Vale"),)


def test_names_are_read_in_the_characters_of_their_standard_and_items_in_any_order():
    identity = field_protocols.encode_ethernet_ip(
        field_protocols.EtherNetIp(address=IPv4Address(HOME), product="Düse".encode("latin-1"))
    )
    assert field_protocols.decode_ethernet_ip(identity).product.decode("latin-1") == "Düse"
    body = identity[24:]
    more = b"\x02\0" + b"\x86\0\x02\0ab" + body[2:]
    moved = identity[:2] + len(more).to_bytes(2, "little") + identity[4:24] + more
    assert field_protocols.decode_ethernet_ip(moved) == field_protocols.decode_ethernet_ip(identity)
    poll = field_protocols.encode_art_net(field_protocols.ArtNet(op=0x2100, address=IPv4Address(HOME), name=b"lane 7"))
    assert field_protocols.decode_art_net(poll[:44] + bytes(64) + poll[108:]).name == b"lane 7", (
        "the short name, where it has no long one"
    )


def test_lldp_names_itself_by_its_address_and_says_that_it_takes_power():
    tlvs = ((1, bytes((5, 1)) + IPv4Address(HOME).packed), (2, b"\x07p"), (3, b"\0x"))
    assert (lldp.Lldp(tlvs).chassis_address, lldp.Lldp(tlvs).takes_power) == (IPv4Address(HOME), False)
    fed = (127, bytes.fromhex("00120f02 02 01 03 51 0019 0019".replace(" ", "")))
    feeds = (127, bytes.fromhex("00120f02 03 01 03 11".replace(" ", "")))
    assert [lldp.Lldp((*tlvs, each)).takes_power for each in (fed, feeds)] == [True, False]
