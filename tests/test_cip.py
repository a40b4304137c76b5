"""EtherNet/IP against an independent stack, whose interface object is made to set the kernel's address."""

import json
import re
import struct
import sys
import time
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.errors import BadInput
from askport.core.formats import cip, unreadable
from askport.core.formats.cip import Configuration, Encapsulated, Reply
from conftest import DEVICE

ADAPTER = r"""
import logging, struct, subprocess, sys, threading
from ipaddress import IPv4Address
from cpppo.server.enip import device
from cpppo.server.enip.device import Attribute
from cpppo.server.enip.main import main
from cpppo.server.enip.parser import DWORD, IFACEADDRS
capability, status, refuses = int(sys.argv[1], 0), int(sys.argv[2]), int(sys.argv[3], 0)
class Interface(device.TCPIP):
    def __init__(self, *args, **more):
        super().__init__(*args, **more)
        if self.instance_id:
            self.attribute["1"] = Attribute("Interface Status", DWORD, default=status)
            self.attribute["2"] = Attribute("Capability", DWORD, default=capability)
            self.attribute["3"] = Attribute("Control", DWORD, default=2)
            self.attribute["5"] = Attribute("Configuration", IFACEADDRS, default=[
                {"ip_address": "192.168.61.7", "network_mask": "255.255.255.0", "gateway_address": "192.168.61.1"}])
    def request(self, data, addr=None):
        if data.get("service") == 0x10 and data.path["segment"][-1].get("attribute") == 5:
            raw = bytes(data.set_attribute_single.data)
            at, mask, gateway, *dns = map(IPv4Address, struct.unpack_from("<5I", raw))
            data.service = 0x90
            data.status = refuses or (0x0C if self.attribute["3"].value & 15 else 0)
            data.pop("status_ext", None)
            data.input = bytearray(self.produce(data))
            if data.status == 0:
                length = bin(int(mask)).count("1")
                run = f"sleep 0.3; ip addr flush dev zd0; ip addr add {at}/{length} dev zd0;"
                subprocess.Popen(run + f"ip route add default via {gateway} dev zd0", shell=True)
                self.attribute["5"].value[0] = {"ip_address": str(at), "network_mask": str(mask),
                    "gateway_address": str(gateway), "dns_primary": str(dns[0]), "dns_secondary": str(dns[1])}
            return True
        if data.path["segment"][-1].get("attribute") == 6:
            data.service |= 0x80
            data.status, name = 0, getattr(Interface, "called", b"")
            if data.service == 0x90:
                raw = bytes(data.set_attribute_single.data)
                data.status = 0x0E if b"refused" in raw else 0
                Interface.called = raw[2:2 + int.from_bytes(raw[:2], "little")]
            else:
                told = len(name).to_bytes(2, "little") + name + bytes(len(name) % 2)
                data.get_attribute_single = {"data": list(told)}
            data.pop("status_ext", None)
            data.input = bytearray(self.produce(data))
            return True
        return super().request(data, addr)
logging.disable(logging.CRITICAL)
main(argv=["-a", "0.0.0.0:44818", "--no-print"], tcpip_class=Interface)
"""
PLAN = ["--gateway", "10.84.19.254", "--mac", DEVICE, "--json"]
SET = ["assign", "zl0", "--to", "10.84.16.46/22", "--dns", "10.84.19.253", "--by", "cip", "--at", "192.168.61.7"]


@pytest.fixture
def adapter(cable):
    """Gives what starts a device with its capability, its status, and a general status by which it refuses."""

    def start(capability="0x14", status="1", refuses="0"):
        cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
        cable.ip("link", "set", "lo", "up")
        cable.start("device", sys.executable, "-c", ADAPTER, capability, status, refuses)
        for _ in range(100):
            run = cable.start_in(cable.device, "sh", "-c", "grep -q ':AF12 ' /proc/net/tcp /proc/net/tcp6")
            if run.wait() == 0:
                return
            time.sleep(0.2)
        raise AssertionError("it does not listen")

    return start


def test_a_device_is_found_read_set_and_followed(cable, adapter, tmp_path):
    adapter()
    laptop = re.search("link/ether (\\S+)", cable.adapter())[1]
    for each in ("route add default via 192.168.61.1 dev zd0", f"neigh add 192.168.61.1 lladdr {laptop} dev zd0"):
        cable.ip(*each.split())
    before = cable.adapter()
    found = json.loads(cable.askport("find", "zl0", "--loudness", "greet", "--seconds", "5", "--json").stdout)
    (device,) = found["devices"]
    assert any(each["protocol"] == "cip" and each["vendor"] for each in device["identities"]), device
    run = cable.askport("settings", "zl0", "--mac", DEVICE, "--by", "cip", "--at", "192.168.61.7", "--json")
    read = json.loads(run.stdout)
    assert (read["address"], read["prefix"], read["gateway"], read["origin"]) == (
        "192.168.61.7", 24, "192.168.61.1", "dhcp",
    ), run.stdout + run.stderr  # fmt: skip
    (tmp_path / "plan.csv").write_text("Tag;Address;Host name\nVI-1;10.84.16.46;valves-3\n")
    job = ["--job", tmp_path / "site.askport"]
    assert cable.askport("plan", "import", tmp_path / "plan.csv", *job).returncode == 0
    run = cable.askport(*SET, *PLAN, *job, "--tag", "VI-1")
    document = json.loads(run.stdout)
    assert (document["result"], document["permanent"], run.returncode) == ("taken", True, 0), run.stdout + run.stderr
    row = json.loads(cable.askport("register", "list", job[1], "--json").stdout)["devices"][0]
    assert row["as_found"]["address"] == "192.168.61.7", "where it was said to be, and answered"
    assert "“set host name valves-3”: acknowledged." in [step["text"] for step in document["steps"]]
    assert cable.askport("prove", "zl0", "--at", "10.84.16.46/22", *PLAN).returncode == 0
    again = ["settings", "zl0", "--mac", DEVICE, "--by", "cip", "--at", "10.84.16.46", "--json"]
    read = json.loads(cable.askport(*again).stdout)
    assert (read["prefix"], read["dns"], read["origin"]) == (22, ["10.84.19.253"], "static")
    assert "name: valves-3" in cable.askport(*again[:-1]).stdout
    assert cable.adapter() == before


def test_a_name_that_it_does_not_take_keeps_no_address_back(cable, adapter, tmp_path):
    adapter()
    (tmp_path / "plan.csv").write_text("Tag;Address;Host name\nVI-1;10.84.16.46;refused\n")
    job = ["--job", tmp_path / "site.askport"]
    assert cable.askport("plan", "import", tmp_path / "plan.csv", *job).returncode == 0
    document = json.loads(cable.askport(*SET, *PLAN, *job, "--tag", "VI-1").stdout)
    assert document["result"] == "taken"
    assert f"“set host name refused”: {cip.STATUS[0x0E]}." in [step["text"] for step in document["steps"]]


@pytest.mark.parametrize(
    ("device", "why"),
    [
        (["0x14", "2"], "its address comes from switches on the device: set them instead"),
        (["0x04", "1"], "its address cannot be set by CIP"),
        (["0x14", "1", "0x0f"], "it does not permit that"),
    ],
)
def test_a_device_that_will_not_is_quoted_and_nothing_is_set(cable, adapter, device, why):
    adapter(*device)
    run = cable.askport(*SET, *PLAN)
    document = json.loads(run.stdout)
    assert (document["result"], run.returncode) == ("refused", 1)
    assert why in document["because"]
    assert document["permanent"] is None
    if device[2:]:  # it took one thing before it refused the next
        taken = "It had taken by then: set configuration control static."
        assert f"{taken} It says that it has 192.168.61.7/24, gateway 192.168.61.1" in document["because"]
    assert "192.168.61.7" in cable.ip("addr", "show", "zd0")


def test_servers_that_nobody_planned_stay(cable, adapter):
    adapter()
    assert cable.askport(*SET, *PLAN).returncode == 0
    again = ["assign", "zl0", "--to", "10.84.16.47/22", "--by", "cip", "--at", "10.84.16.46", *PLAN]
    assert cable.askport(*again).returncode == 0
    read = ["settings", "zl0", "--mac", DEVICE, "--by", "cip", "--at", "10.84.16.47", "--json"]
    assert json.loads(cable.askport(*read).stdout)["dns"] == ["10.84.19.253"]


@pytest.mark.parametrize("laptop", ["192.168.61.9/24", None])
def test_a_device_without_a_gateway_is_asked_from_where_it_can_answer(cable, adapter, laptop):
    """From the laptop's own address in its subnet, or from beside it once its address is known."""
    adapter()
    if laptop:
        cable.ip("addr", "add", laptop, "dev", "zl0", at="laptop")
    else:
        cable.start("device", "ping", "-c", "5", "192.168.61.99")
    found = json.loads(cable.askport("find", "zl0", "--loudness", "greet", "--seconds", "6", "--json").stdout)
    (device,) = found["devices"]
    assert "cip" in [each["protocol"] for each in device["identities"]], device


@pytest.mark.parametrize("status", [*cip.STATUS, *cip.ENCAPSULATION_STATUS])
def test_every_refusal_of_the_standard_has_its_sentence(status):
    for sentence in filter(None, (cip.STATUS.get(status), cip.ENCAPSULATION_STATUS.get(status))):
        assert sentence[0].islower()
        assert not sentence.endswith(".")


words = st.integers(0, 0xFFFFFFFF).map(IPv4Address)


@given(st.builds(Configuration, words, words, words, st.tuples(words, words), st.binary(max_size=48)))
def test_a_configuration_is_read_as_it_was_written(value):
    assert cip.decode_configuration(cip.encode_configuration(value)) == value
    assert isinstance(cip.decode_configuration(cip.encode_configuration(value)[:21]), unreadable.Unreadable)


@pytest.mark.parametrize("text", ["", "-a", "a b", "a..b", "x" * 65, "ä"])
def test_what_is_no_host_name_is_said_to_be_none(text):
    with pytest.raises(BadInput, match="is no host name"):
        cip.encode_host_name(text)
    assert cip.encode_host_name("valve") == b"\5\0valve\0"


@given(st.binary(max_size=200), st.integers(1, 30), st.binary(max_size=80))
def test_a_stream_is_taken_apart_wherever_it_is_cut(answer, cut, noise):
    body = struct.pack("<BBBB", 0x8E, 0, 0, 0) + answer
    stream = cip.register_session() + cip.unconnected(7, body)
    held, messages = b"", []
    for start in range(0, len(stream), cut):
        held += stream[start : start + cut]
        while (taken := cip.take_message(held))[0] is not None:
            messages.append(taken[0])
            held = taken[1]
    assert [each.command for each in messages] == [0x65, 0x6F]
    assert (held, messages[1].reply) == (b"", Reply(0x0E, 0, answer))
    Encapsulated(0x6F, 7, 0, noise).reply  # noqa: B018 - whatever it is, it is no exception
    cip.take_message(noise)
    cip.decode_configuration(noise)
