"""BACnet/IP against an independent stack, whose network port is made to set the kernel's address."""

import json
import sys
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.formats import bacnet, unreadable
from askport.core.formats.bacnet import BacnetAnswer, Pdu, Property
from conftest import DEVICE

CONTROLLER = r"""
import asyncio, subprocess, sys
from ipaddress import IPv4Address
from bacpypes3.apdu import ErrorPDU, SimpleAckPDU
from bacpypes3.app import Application
from bacpypes3.errors import ExecutionError, OutOfResources
from bacpypes3.local.device import DeviceObject
from bacpypes3.local.analog import AnalogValueObject
from bacpypes3.local.networkport import NetworkPortObject
address, mode, full = sys.argv[1], "".join(sys.argv[2:]), []
class Port(NetworkPortObject):
    async def write_property(self, attr, value, *more, **named):
        full.append(str(attr))
        if mode == "full" or mode == "full at first" and full.count(str(attr)) == 1: raise OutOfResources()
        if mode == "refuses" or str(attr) == {"keeps dhcp": "ip-dhcp-enable", "half": "ip-address"}.get(mode):
            raise ExecutionError("property", "writeAccessDenied")
        await super().write_property(attr, value, *more, **named)
        self.changesPending = True
class Controller(Application):
    async def do_ReadPropertyRequest(self, request):
        if mode == "many" and request.objectIdentifier[1] == 4194303: raise ExecutionError("object", "unknownObject")
        await super().do_ReadPropertyRequest(request)
    async def do_ReinitializeDeviceRequest(self, request):
        if mode == "password": raise ExecutionError("security", "passwordFailure")
        await self.response(SimpleAckPDU(context=request))
        octets = lambda value: IPv4Address(bytes(value))
        at, mask, gateway = octets(port.ipAddress), octets(port.ipSubnetMask), octets(port.ipDefaultGateway)
        length = bin(int(mask)).count("1")
        run = f"sleep 0.3; ip addr flush dev zd0; ip addr add {at}/{length} dev zd0;"
        subprocess.Popen(run + f"ip route add default via {gateway} dev zd0", shell=True)
async def main():
    global port
    device = DeviceObject(objectIdentifier=("device", 1234), objectName="air", vendorIdentifier=999,
                          **({"segmentationSupported": "noSegmentation"} if mode == "many" else {}))
    port = Port(address, objectIdentifier=("network-port", 3), objectName="port", ipDHCPEnable=True,
                ipDefaultGateway=b"\0\0\0\0", ipDNSServer=[])
    more = [AnalogValueObject(objectIdentifier=("analog-value", n), objectName=f"v{n}", presentValue=1.0)
            for n in range(400 if mode == "many" else 0)]
    controller = Controller.from_object_list([device, *more, port, *[
        AnalogValueObject(objectIdentifier=("analog-value", 9000 + n), objectName=f"w{n}", presentValue=1.0)
        for n in range(30 if mode == "many" else 0)]])
    while True:
        controller.i_am()
        await asyncio.sleep(1)
asyncio.run(main())
"""
PLAN = ["--gateway", "10.84.19.254", "--mac", DEVICE, "--json"]
SET = ["assign", "zl0", "--to", "10.84.16.48/22", "--dns", "10.84.19.253", "--by", "bacnet", "--at", "192.168.61.7"]
READ = ["settings", "zl0", "--mac", DEVICE, "--by", "bacnet", "--json", "--at"]


@pytest.fixture
def controller(cable):
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")

    def start(*more, at="192.168.61.7/24"):
        program = cable.start("device", sys.executable, "-c", CONTROLLER, at, *more)
        for _ in range(100):
            if cable.start_in(cable.device, "grep", "-q", ":BAC0 ", "/proc/net/udp").wait() == 0:
                return program
            time.sleep(0.2)
        raise AssertionError("it does not listen")

    return start


@pytest.mark.by_day(1)
@pytest.mark.parametrize("mode", ["", "full at first"])
def test_a_device_is_read_set_and_followed(cable, controller, mode):
    """Also where it has no room for a write at first, and takes it later."""
    first = controller(mode)
    before = cable.adapter()
    run = cable.askport(*READ, "192.168.61.7")
    told = json.loads(run.stdout)
    assert (told["address"], told["prefix"], told["origin"]) == ("192.168.61.7", 24, "dhcp"), run.stdout + run.stderr
    run = cable.askport(*SET, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("taken", True, 0), run.stdout + run.stderr
    assert cable.askport("prove", "zl0", "--at", "10.84.16.48/22", *PLAN).returncode == 0
    first.kill()
    first.wait()
    controller(at="10.84.16.48/22")
    again = cable.askport(*READ, "10.84.16.48", "--kind", "managed switch")  # whose kind says nothing of BACnet
    assert json.loads(again.stdout)["prefix"] == 22, again.stderr
    assert cable.adapter() == before


def test_a_device_that_will_not_is_quoted_and_nothing_is_set(cable, controller):
    controller("refuses")
    run = cable.askport(*SET, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("refused", 1), run.stdout
    assert "that can only be read (“write dhcp enable false”)" in document["because"]
    assert document["permanent"] is None
    assert "192.168.61.7" in cable.ip("addr", "show", "zd0")


@pytest.mark.by_day(0, 2)
@pytest.mark.parametrize(
    ("mode", "said"),
    [("full", "it has no room for the request now"), ("keeps dhcp", "(“write dhcp enable false”)"),
     ("half", "It had taken by then: write dhcp enable false; write"),
     ("half", "It says that it has 192.168.61.7/22, gateway 10.84.19.254, DNS 10.84.19.253 now."),
     ("password", "another password")],
)  # fmt: skip
def test_what_is_refused_halfway_is_refused_and_said_with_what_it_has_now(cable, controller, mode, said):
    controller(mode)
    run = cable.askport(*SET, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("refused", None, 1), run.stdout
    assert said in document["because"]


def test_its_network_port_is_found_behind_any_number_of_objects(cable, controller):
    controller("many")
    told = json.loads(cable.askport(*READ, "192.168.61.7").stdout)
    assert (told["address"], told["prefix"]) == ("192.168.61.7", 24)


@pytest.mark.parametrize("instance", [1, 62, 63, 15_900, 16_191, 4_194_302])
def test_a_port_of_any_number_is_found_in_a_list(instance):
    """Numbers whose bytes look like tags are numbers all the same."""
    objects = [(8, 1234), (0, instance), (56, instance)]
    listed = b"".join(b"\xc4" + (kind << 22 | number).to_bytes(4, "big") for kind, number in objects)
    about = b"\x0c" + (8 << 22 | 0x3E3F).to_bytes(4, "big") + b"\x19\x4c"
    answer = bacnet.decode_answer(bytes((0x81, 0x0A, 0, 0, 1, 0, 0x30, 7, 12)) + about + b"\x3e" + listed + b"\x3f")
    assert bacnet.port_in(bacnet.values_of(answer.value)) == instance


@pytest.mark.night
def test_an_instance_that_is_taken_twice_is_a_hazard(cable):
    cable.bridge()
    macs = ["02:00:00:00:00:1a", "02:00:00:00:00:2b"]
    for number, mac in enumerate(macs):
        at = f"192.168.61.{7 + number}/24"
        room = cable.behind("br0", mac, at)
        cable.start_in(room, sys.executable, "-c", CONTROLLER, at)
        cable.listens(47808, "udp", at=room)
    run = cable.askport("find", "zl0", "--loudness", "greet", "--seconds", "12", "--json")
    hazards = {each["code"]: each["text"] for each in json.loads(run.stdout)["hazards"]}
    assert f"they are BACnet device 1234: {macs[0]} and {macs[1]}." in hazards["same-instance"]


@pytest.mark.parametrize(("kind", "table"), [
    (Pdu.ERROR, bacnet.ERRORS), (Pdu.REJECT, bacnet.REJECTS), (Pdu.ABORT, bacnet.ABORTS)])  # fmt: skip
def test_every_refusal_of_the_standard_has_its_sentence(kind, table):
    for code, sentence in table.items():
        told = bytes((0x0F, 0x91, 2, 0x91, code)) if kind is Pdu.ERROR else bytes((code,))
        message = bytes((0x81, 0x0A, 0, 0, 1, 0, kind << 4, 7)) + told
        answer = bacnet.decode_answer(message)
        assert (answer.invoke, answer.refusal) == (7, sentence)


@given(st.lists(st.binary(min_size=4, max_size=4), min_size=1, max_size=6), st.integers(0, 255))
def test_what_is_written_is_read(values, invoke):
    written = bacnet.write_property(invoke, 3, Property.DNS_SERVER, b"".join(map(bacnet.octets, values)))
    value = written[written.index(b"\x3e") + 1 : -1]
    assert bacnet.values_of(value) == values
    answer = written[:6] + bytes((0x30, invoke, 12)) + written[10:]
    assert bacnet.decode_answer(answer) == BacnetAnswer(Pdu.COMPLEX_ACK, invoke, 12, value=value)


@given(st.binary(max_size=120))
def test_whatever_comes_is_read_or_is_none(data):
    for each in (data, b"\x81\x0a\0\0\1\0" + data):
        answer = bacnet.decode_answer(each)
        assert isinstance(answer, BacnetAnswer | unreadable.Unreadable)
        if isinstance(answer, BacnetAnswer):
            bacnet.values_of(answer.value)
            assert isinstance(answer.refusal, str)
    bacnet.values_of(data)


def test_a_boolean_with_a_length_of_its_own_is_no_fault():
    """Its value stands in its tag, which a bent message may make longer than a byte holds (found by bending frames)."""
    assert bacnet.values_of(b"\x15\xfe\x01\x2c") == []
    assert bacnet.values_of(b"\x11\x10") == [b"\x01", b"\x00"]
