"""Each measurement and proof has a control: on real kernels, beside whatever the device does anyway."""

import json
import subprocess
import sys

import pytest

from conftest import DEVICE

pytestmark = pytest.mark.kernel
HOME, ROUTER = "10.84.16.40", "10.84.19.254"

LOOKS = r"""
import socket, struct, sys, time
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
wire.bind(("zd0", 0))
mac, ip = bytes.fromhex("020000000099"), socket.inet_aton
began = time.time()
while time.time() < began + 40:
    for server in sys.argv[2:]:
        head = struct.pack("!HHHBBH", 0x0806, 1, 0x0800, 6, 4, 1)
        wire.send(b"\xff" * 6 + mac + head + mac + ip(sys.argv[1]) + bytes(6) + ip(server) + bytes(18))
    time.sleep(0.11)
"""


def device(cable, interface=f"{HOME}/22", gateway=None, looks_for=()):
    """Set the device's kernel, and have it look for servers of its own that are not there."""
    cable.ip("addr", "flush", "dev", "zd0")
    cable.ip("addr", "add", interface, "dev", "zd0")
    if gateway:
        cable.ip("route", "replace", "default", "via", gateway, "onlink", "dev", "zd0")
    if looks_for:
        cable.start("device", sys.executable, "-c", LOOKS, interface.split("/")[0], *looks_for)


def measured(cable, address=HOME):
    result = cable.askport("measure", "zl0", "--mac", DEVICE, "--address", address, "--json")
    document = json.loads(result.stdout)
    return document["prefix"], document["gateway"], document["because"]


@pytest.mark.parametrize("gateway", [None, ROUTER, "10.84.16.77"])
def test_a_server_that_it_looks_for_anyway_is_no_gateway_and_moves_no_mask(cable, gateway):
    device(cable, gateway=gateway, looks_for=["10.84.16.5", "10.84.18.77"])
    prefix, found, because = measured(cable)
    assert (prefix, found) == (22, gateway), because


def test_measured_five_times_within_a_minute_each_time_as_it_is_then(cable):
    """What the device remembers of a run before is no answer to this one."""
    for interface, gateway in [(f"{HOME}/22", ROUTER), (f"{HOME}/24", "10.84.16.1"), (f"{HOME}/22", "10.84.19.1"),
                               (f"{HOME}/22", ROUTER), (f"{HOME}/22", None)]:  # fmt: skip
        device(cable, interface, gateway)
        prefix, found, because = measured(cable)
        assert (prefix, found) == (int(interface[-2:]), gateway), because


@pytest.mark.parametrize(("own", "other"), [(24, 22), (22, 24), (22, 16)])
def test_a_second_address_hides_no_mask(cable, own, other):
    """The wider subnet holds all that the narrower does: which address has which mask cannot be told from outside."""
    device(cable, f"{HOME}/{own}", ROUTER)
    cable.ip("addr", "add", f"10.84.17.5/{other}", "dev", "zd0")
    prefix, _, because = measured(cable)
    assert prefix == (22 if other == 24 else None), because
    assert prefix or "another address beside this one" in because


def test_a_gateway_that_it_remembers_from_its_network_is_named_once_it_checks_on_it(cable):
    device(cable, gateway=ROUTER)
    subprocess.run(["ip", "-n", cable.device, "neigh", "replace", ROUTER, "lladdr", "02:00:00:00:00:fe", "dev", "zd0",
                    "nud", "stale"], check=True)  # fmt: skip
    prefix, found, because = measured(cable)
    assert (prefix, found) == (22, ROUTER), because
