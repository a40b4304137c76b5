"""Art-Net: a node written from the standard's tables, at the other end of a virtual cable."""

import json
import sys
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core.formats import ipprog, unreadable
from conftest import DEVICE

NODE = r"""
import socket, subprocess, sys
refuses = sys.argv[1:] == ["refuses"]
now = {"ip": "192.168.61.7", "mask": "255.255.255.0", "gateway": "0.0.0.0"}
line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); line.bind(("", 6454))
while True:
    data, sender = line.recvfrom(2000)
    if data[:10] != b"Art-Net\0\x00\xf8": continue
    command = data[14]
    if command & 0x80 and not refuses:
        if command & 0x04: now["ip"] = socket.inet_ntoa(data[16:20])
        if command & 0x02: now["mask"] = socket.inet_ntoa(data[20:24])
        if command & 0x10: now["gateway"] = socket.inet_ntoa(data[26:30])
        length = bin(int.from_bytes(socket.inet_aton(now["mask"]), "big")).count("1")
        run = f"sleep 0.3; ip addr flush dev zd0; ip addr add {now['ip']}/{length} dev zd0;"
        subprocess.Popen(run + f"ip route add default via {now['gateway']} dev zd0", shell=True)
    told = b"".join(socket.inet_aton(now[each]) for each in ("ip", "mask"))
    reply = b"Art-Net\0\x00\xf9\0\x0e" + bytes(4) + told + bytes(4) + socket.inet_aton(now["gateway"]) + bytes(4)
    line.sendto(reply, sender)
"""
PLAN = ["--gateway", "10.84.19.254", "--mac", DEVICE, "--json"]
SET = ["assign", "zl0", "--to", "10.84.16.49/22", "--by", "artnet", "--at", "192.168.61.7"]
READ = ["settings", "zl0", "--mac", DEVICE, "--by", "artnet", "--json", "--at"]


@pytest.mark.parametrize("refuses", [False, True])
def test_a_node_is_asked_programmed_and_followed_or_quoted(cable, refuses):
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.start("device", sys.executable, "-c", NODE, *(["refuses"] if refuses else []))
    cable.listens(6454, "udp")
    before = cable.adapter()
    told = json.loads(cable.askport(*READ, "192.168.61.7").stdout)
    assert (told["address"], told["prefix"], told["gateway"], told["origin"]) == ("192.168.61.7", 24, None, "static")
    run = cable.askport(*SET, *PLAN)
    document = json.loads(run.stdout)
    if refuses:
        assert (document["result"], run.returncode) == ("refused", 1), run.stdout
        assert "it replied that its address is 192.168.61.7" in document["because"]
        return
    assert (document["result"], document["permanent"], run.returncode) == ("taken", True, 0), run.stdout + run.stderr
    assert cable.askport("prove", "zl0", "--at", "10.84.16.49/22", *PLAN).returncode == 0
    told = json.loads(cable.askport(*READ, "10.84.16.49").stdout)
    assert (told["prefix"], told["gateway"]) == (22, "10.84.19.254")
    assert cable.adapter() == before


addresses = st.integers(0, 0xFFFFFFFF).map(IPv4Address)


@given(st.booleans(), addresses, addresses, addresses, st.integers(0, 255), st.booleans(), st.binary(max_size=60))
def test_a_packet_is_read_as_it_was_written(is_reply, address, mask, gateway, command, by_dhcp, noise):
    packet = ipprog.IpProg(is_reply, address, mask, gateway, 0 if is_reply else command, is_reply and by_dhcp)
    assert ipprog.decode_ip_prog(ipprog.encode_ip_prog(packet)) == packet
    assert isinstance(ipprog.decode_ip_prog(ipprog.encode_ip_prog(packet)[:31]), unreadable.Unreadable)
    for each in (noise, ipprog.encode_ip_prog(packet)[:10] + noise):
        assert isinstance(ipprog.decode_ip_prog(each), ipprog.IpProg | unreadable.Unreadable)
