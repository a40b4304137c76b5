"""What other people's stacks and daemons do at the other end of a virtual cable: address, origin, names, hazards."""

import json
import subprocess

import pytest

from conftest import ASKPORT, DEVICE

HOME = "192.168.61.7"


def find(cable, *arguments, status=0):
    run = cable.askport("find", "zl0", *arguments, "--json")
    assert run.returncode == status, run.stderr
    return json.loads(run.stdout)


def test_a_fallback_to_link_local_is_certain_once_announced(cable):
    cable.partner("avahi-autoipd", "--no-chroot", "--no-drop-root", "zd0")
    device = find(cable, "--seconds", 15, "--until-found")["devices"][0]
    best = device["addresses"][0]
    assert best["address"].startswith("169.254.")
    assert (best["belief"], best["origin"]) == ("certain", "link-local")


def test_a_dhcp_client_asks_and_names_itself(cable, tmp_path):
    config = tmp_path / "dhclient.conf"
    config.write_text('send host-name "feedhopper";\nretry 1;\ninitial-interval 1;\n')
    cable.partner("dhclient", "-d", "-4", "-sf", "/bin/true", "-cf", str(config),
                  "-lf", str(tmp_path / "leases"), "-pf", str(tmp_path / "pid"), "zd0")  # fmt: skip
    device = find(cable, "--seconds", 15, "--until-found")["devices"][0]
    assert device["asks_for_address"]["protocol"] == "dhcp"
    assert device["names"] == [{"name": "feedhopper", "source": "dhcp"}]
    assert device["addresses"] == []


def test_a_small_client_asks_again_for_the_address_it_had(cable):
    cable.start("device", "udhcpc", "-i", "zd0", "-f", "-s", "/bin/true", "-x", "hostname:hopper", "-r", "10.84.16.50")
    device = find(cable, "--seconds", 4)["devices"][0]
    assert (device["asks_for_address"]["protocol"], device["names"][0]["name"]) == ("dhcp", "hopper")
    best = device["addresses"][0]
    assert (best["address"], best["belief"], best["origin"]) == ("10.84.16.50", "possible", "dhcp")


def test_a_responder_shows_address_and_name_when_greeted(cable, tmp_path):
    cable.ip("addr", "add", f"{HOME}/24", "dev", "zd0")
    config = tmp_path / "avahi.conf"
    config.write_text("[server]\nenable-dbus=no\nhost-name=tanklevel\nallow-interfaces=zd0\n")
    cable.partner("avahi-daemon", "-f", str(config), "--no-drop-root", "--no-chroot", "--no-rlimits")
    device = find(cable, "--loudness", "greet", "--seconds", 8)["devices"][0]
    assert (device["addresses"][0]["address"], device["addresses"][0]["belief"]) == (HOME, "certain")
    assert {"name": "tanklevel", "source": "mdns"} in device["names"]


def test_a_neighbour_that_speaks_below_ip_states_name_and_address(cable, tmp_path):
    cable.ip("addr", "add", f"{HOME}/24", "dev", "zd0")
    config = tmp_path / "lldpd.conf"
    config.write_text('configure lldp tx-interval 1\nconfigure system hostname "pump-room"\n')
    cable.partner("lldpd", "-d", "-I", "zd0", "-O", str(config))
    device = find(cable, "--seconds", 4)["devices"][0]
    assert {"name": "pump-room", "source": "lldp"} in device["names"]
    assert (device["addresses"][0]["address"], device["addresses"][0]["belief"]) == (HOME, "likely")
    assert "It says that its address is 192.168.61.7 (LLDP" in device["addresses"][0]["because"][0]


@pytest.mark.by_day(0, 3, 4, 6)
@pytest.mark.parametrize(
    ("interface", "gateway"),
    [("10.84.16.40/22", None), ("10.84.16.40/16", None), ("192.168.61.7/24", "192.168.61.254"),
     ("10.0.0.1/8", "10.9.9.9"), ("192.168.61.9/30", "192.168.61.10"),
         ("192.168.61.2/24", "192.168.61.1"), ("172.16.5.253/29", "172.16.5.254")],
)  # fmt: skip
def test_mask_and_gateway_of_a_kernel_are_measured_exactly(cable, interface, gateway):
    address, prefix = interface.split("/")
    cable.ip("addr", "add", interface, "dev", "zd0")
    if gateway:
        cable.ip("route", "add", "default", "via", gateway)
    run = cable.askport("measure", "zl0", "--mac", DEVICE, "--address", address, "--json")
    assert run.returncode == 0, run.stdout + run.stderr
    document = json.loads(run.stdout)
    assert (document["prefix"], document["gateway"]) == (int(prefix), gateway)
    assert document["questions"] <= (30 if gateway else 60)


def test_where_nothing_reacts_nothing_is_measured(cable):
    run = cable.askport("measure", "zl0", "--mac", DEVICE, "--address", "10.84.16.40", "--json")
    document = json.loads(run.stdout)
    assert (run.returncode, document["prefix"], document["gateway"]) == (1, None, None)
    assert "reacted to neither ping, TCP nor UDP" in document["because"]


def test_a_silent_device_is_swept_for_at_the_rate_asked_for(cable):
    """One address in 4,096 at 20,000 a second, and then its mask."""
    cable.ip("addr", "add", "172.27.201.77/21", "dev", "zd0")
    document = find(cable, "--loudness", "sweep", "--within", "172.27.192.0/20", "--rate", 20000)
    best = document["devices"][0]["addresses"][0]
    assert (best["address"], best["belief"]) == ("172.27.201.77", "certain")
    assert (best["prefix"], best["prefix_basis"], best["gateway"]) == (21, "measured", None)
    assert document["swept"]["questions"] == 4096


def test_what_was_saved_reads_the_same(cable, tmp_path):
    cable.ip("addr", "add", f"{HOME}/24", "dev", "zd0")
    saved = tmp_path / "wire.pcapng"
    live = find(cable, "--loudness", "call", "--within", "192.168.61.0/28", "--seconds", 2, "--save", saved)
    run = subprocess.run([*ASKPORT, "read", saved, "--laptop", "02:00:00:00:00:01", "--json"],
                         capture_output=True, text=True)  # fmt: skip
    again = json.loads(run.stdout)
    assert run.returncode == 0
    assert [each["mac"] for each in again["devices"]] == [each["mac"] for each in live["devices"]] == [DEVICE]
    assert again["devices"][0]["addresses"][0]["address"] == HOME
    assert again["frames"]["seen"] > live["frames"]["seen"]
