"""Who a device says that it is in its field protocols, told by other people's stacks at the other end of a cable."""

import json
import re
import sys
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.finding.clues import Identity
from askport.core.formats import modbus
from askport.core.formats.field_protocols import Knx, KnxService, decode_knx, encode_knx
from askport.core.formats.modbus import Identification, read_identification, take_identification
from askport.core.formats.unreadable import Unreadable
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

    def listens(port, over="udp"):
        for _ in range(100):
            if cable.start_in(cable.device, "sh", "-c", f"grep -q ':{port:04X} ' /proc/net/{over}*").wait() == 0:
                return
            time.sleep(0.1)
        raise AssertionError("it does not listen")

    cable.listens = listens
    return cable


def find(cable, seconds=5):
    run = cable.askport("find", "zl0", "--loudness", "greet", "--seconds", seconds, "--json")
    return next(each for each in json.loads(run.stdout)["devices"] if each["mac"] == DEVICE)


def identify(cable):
    run = cable.askport("identify", "zl0", "--mac", DEVICE, "--at", HOME, "--json")
    assert "Traceback" not in run.stderr
    return json.loads(run.stdout)["identities"], run.returncode


@pytest.mark.kernel
def test_a_knx_server_is_found_and_describes_itself(device, tmp_path):
    (tmp_path / "conf").write_text(KNX)
    device.partner("knxd", "knxd", str(tmp_path / "conf"))
    device.listens(3671)
    found = find(device)
    assert {"name": "feed lane", "source": "knx"} in found["names"]
    assert any(each["protocol"] == "knx" and each["text"] == "at 1.1.250 on its bus" for each in found["identities"])
    described, status = identify(device)
    assert ([each["text"] for each in described if each["protocol"] == "knx"], status) == (["at 1.1.250 on its bus"], 0)


@pytest.mark.kernel
@pytest.mark.parametrize(("more", "says"), [
    ("False", "Calder Vale PV-7 1.4"), ("True", ("Calder Vale Pump valve " + "x" * 200)[:120])])  # fmt: skip
def test_a_modbus_server_is_identified(device, more, says):
    pytest.importorskip("pymodbus")
    before = device.adapter()
    device.start("device", sys.executable, "-c", MODBUS.replace("MORE", more))
    device.listens(502, "tcp")
    known, status = identify(device)
    assert ([each["text"] for each in known if each["protocol"] == "modbus"], status) == ([says], 0)
    assert device.adapter() == before


@pytest.mark.kernel
def test_a_publisher_of_ws_discovery_is_found(device):
    pytest.importorskip("wsdiscovery")
    device.start("device", sys.executable, "-c", PUBLISHED)
    device.listens(3702)
    found = find(device)
    assert {"name": "pond", "source": "ws-discovery"} in found["names"]
    assert [each["protocol"] for each in found["identities"]] == ["onvif"]


@pytest.mark.kernel
def test_a_computer_that_shows_itself_by_ws_discovery_is_found(device):
    device.partner("wsdd", "wsdd", "-i", "zd0", "-4", "-t")  # its page would ask for names first
    device.listens(3702)
    found = find(device)
    assert any("Device Computer" in each for each in found["tells"]), found


@pytest.mark.kernel
def test_a_node_of_art_net_answers_a_poll(device, tmp_path):
    (tmp_path / "ola-artnet.conf").write_text("enabled = true\nip = 192.168.61.7\nshort_name = lane\n")
    (tmp_path / "ola-server.conf").write_text("instance-name = lane\n")
    tmp_path.chmod(0o755)
    for each in (tmp_path.parent, tmp_path.parent.parent):
        each.chmod(0o755)
    device.partner("ola", "setpriv", "--reuid", "65534", "--clear-groups", str(device.partners / "usr/bin/olad"),
                   "-c", str(tmp_path), "--no-http", "-l", "3")  # fmt: skip
    device.listens(6454)
    found = find(device)
    assert any(each["protocol"] == "artnet" for each in found["identities"])
    assert any(each["source"] == "art-net" for each in found["names"])


@pytest.mark.kernel
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
        assert isinstance(taken, Unreadable | tuple)
    assert isinstance(decode_knx(b"\x06\x10\x02\x04\0\x3c" + data), Knx)


@pytest.mark.parametrize("code", modbus.EXCEPTIONS)
def test_every_refusal_of_the_standard_has_its_sentence(code):
    answer, _ = take_identification(modbus.encode_identification(Identification(1, exception=code)))
    assert answer.refusal == modbus.EXCEPTIONS[code]


@pytest.mark.parametrize("service", [KnxService.SEARCH_RESPONSE, KnxService.DESCRIPTION_RESPONSE])
@given(mac=st.binary(min_size=6, max_size=6), serial=st.binary(min_size=6, max_size=6), bus=st.integers(0, 65535))
def test_a_knx_description_is_read_as_it_was_written(service, mac, serial, bus):
    written = Knx(service, mac=mac, name=b"lane", individual_address=bus, serial=serial)
    assert decode_knx(encode_knx(written)) == written


def test_an_identity_is_said_with_what_it_has():
    assert Identity("knx", 2, None, 7, "at 1.1.1 on its bus").sentence == (
        "KNXnet/IP: vendor 2, serial 7, at 1.1.1 on its bus"
    )
