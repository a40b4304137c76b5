"""Boxes that mislead: whatever they do, nothing is certain that is wrong, and each is named as a hazard.

``make liars`` runs each kind twenty times.
"""

import json
import subprocess
import sys
import threading
import time
from random import Random

import pytest

from conftest import DEVICE, again

US, HOME, ROUTER = "10.84.16.9", "10.84.16.40", "10.84.19.254"

BOX = r"""
import random, socket, struct, sys, threading, time
mode, mac = sys.argv[1], bytes.fromhex("020000000099")
wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
wire.bind((sys.argv[2] if len(sys.argv) > 2 else "zd0", 3))
ip = socket.inet_aton
def arp(op, spa, tha, tpa, to=b"\xff" * 6, sha=mac):
    head = struct.pack("!HHHBBH", 0x0806, 1, 0x0800, 6, 4, op)
    wire.send(to + sha + head + sha + ip(spa) + tha + ip(tpa) + bytes(18))
def send_ip(src_ip, dst_ip, protocol, ttl, payload, src=mac):
    head = struct.pack("!BBHHHBBH4s4s", 69, 0, 20 + len(payload), 1, 0, ttl, protocol, 0, ip(src_ip), ip(dst_ip))
    total = sum(struct.unpack("!10H", head)); total = (total & 65535) + (total >> 16)
    head = head[:10] + struct.pack("!H", 65535 - (total & 65535) - (total >> 16)) + head[12:]
    wire.send(b"\x01\x00\x5e" + bytes((ip(dst_ip)[1] & 127, *ip(dst_ip)[2:])) + src + b"\x08\x00" + head + payload)
def looks(spa): arp(1, spa, bytes(6), "10.84.19.254")
began, said = time.time(), 0
wire.settimeout(0.1)
while time.time() < began + 40:
    now = time.time() - began
    if now > said:
        said += 0.7
        if mode == "bridge":
            looks(f"10.84.16.{random.choice((41, 42, 43))}")
        elif mode == "retreat" and now < 2: arp(1, "10.84.16.40", bytes(6), "10.84.16.40")
        elif mode == "retreat" and now < 4: arp(1, "0.0.0.0", bytes(6), "10.84.16.41")
        elif mode == "relay":
            body = bytes((2, 1, 6, 1)) + bytes(12) + ip("10.84.18.5") + ip("10.9.9.9") + ip("10.84.19.254")
            body = (body + bytes.fromhex("020000000021")).ljust(236, b"\0") + bytes((99, 130, 83, 99, 53, 1, 2, 54, 4))
            body += ip("10.9.9.9") + b"\xff" + bytes(60)
            udp = struct.pack("!HHHH", 67, 68, 8 + len(body), 0) + body
            head = struct.pack("!BBHHHBBH4s4s", 69, 0, 20 + len(udp), 1, 0, 64, 17, 0, ip("10.9.9.9"), b"\xff" * 4)
            total = sum(struct.unpack("!10H", head)); total = (total & 65535) + (total >> 16)
            head = head[:10] + struct.pack("!H", 65535 - (total & 65535) - (total >> 16)) + head[12:]
            wire.send(b"\xff" * 6 + mac + b"\x08\x00" + head + udp)
        elif mode == "relayed names":
            if said > 3: looks("10.84.16.50")
            body = bytes.fromhex("0000840000000001000000000474616e6b056c6f63616c0000010001000000780004")
            udp = struct.pack("!HHHH", 5353, 5353, 8 + len(body) + 4, 0) + body + ip("10.84.16.43")
            send_ip("10.84.16.43", "224.0.0.251", 17, 255, udp)
        elif mode == "announces" and now < 3:
            arp(1, "10.84.16.40", bytes(6), "10.84.16.40", sha=bytes.fromhex("020000000066"))
        elif mode == "two behind": looks(random.choice(("10.84.16.43", "10.84.18.43")))
        elif mode == "hsrp":
            shared = bytes.fromhex("00000c07ac05")
            hello = bytes((0, 0, 16, 3, 10, 100, 5, 0)) + bytes(8) + ip("10.84.19.254")
            udp = struct.pack("!HHHH", 1985, 1985, 8 + len(hello), 0) + hello
            send_ip("10.84.16.2", "224.0.0.2", 17, 1, udp, src=shared)
            arp(1, "10.84.16.2", bytes(6), "10.84.16.77")
        elif mode == "vrrp":
            send_ip("10.84.16.2", "224.0.0.18", 112, 255, bytes((0x31, 5, 100, 1, 0, 100, 0, 0)) + ip("10.84.19.254"),
                    src=bytes.fromhex("00005e000105"))
            arp(1, "10.84.16.2", bytes(6), "10.84.16.77")
        elif mode == "one neighbour": looks("10.84.16.50")
    try:
        frame = wire.recv(2000)
    except TimeoutError:
        continue
    kind = frame[12:14]
    if mode == "reflector":
        if frame[6:12] != mac: wire.send(frame[6:12] + mac + frame[12:])
        continue
    if kind != b"\x08\x06" or frame[21] != 1 or frame[6:12] == mac: continue
    asked, asker, sender = socket.inet_ntoa(frame[38:42]), frame[6:12], socket.inet_ntoa(frame[28:32])
    answers = {"for all": True, "for all but probes": sender != "0.0.0.0", "slow": True,
               "one by one": asked in ("10.84.16.3", "10.84.16.5"), "lossy": random.random() > 0.1,
               "later": now > 4 or asked == "10.84.16.3", "one neighbour": asked in ("10.84.16.50", "10.84.16.5"),
               "relayed names": asked == "10.84.16.50", "hsrp": asked == "10.84.16.2",
               "vrrp": asked == "10.84.16.2"}.get(mode, False)
    if answers:
        threading.Timer(2.0 if mode == "slow" else 0, arp, (2, asked, asker, sender, asker)).start()
"""


class Scene:
    """A cable with something misleading at its end, and what is true there."""

    def __init__(self, cable, dice):
        self.cable, self.dice = cable, dice
        self.true = {(DEVICE, ROUTER), (DEVICE, HOME)}
        cable.ip("addr", "add", f"{US}/22", "dev", "zl0", at="laptop")

    def box(self, mode, adapter="zd0"):
        self.cable.start("device", sys.executable, "-c", BOX, mode, adapter)

    def router(self, *proxied, prefix=22):
        """Make the device's end a Linux router with a network behind it."""
        cable = self.cable
        cable.ip("addr", "add", f"{ROUTER}/{prefix}", "dev", "zd0")
        cable.ip("link", "add", "far0", "type", "bridge")
        cable.ip("link", "set", "far0", "up")
        for each in proxied:
            cable.ip("route", "add", each, "dev", "far0")
        self.set("net.ipv4.ip_forward=1")

    def set(self, *values):
        self.cable.in_device("sysctl", "-qw", *values)

    def later(self, seconds, act):
        threading.Timer(seconds, act).start()

    def pings(self, *addresses):
        """Have the laptop's own kernel ask, again and again."""
        for each in addresses:
            again = f"for _ in $(seq 20); do ip neigh flush dev zl0; ping -c 1 -W 1 {each}; sleep 0.5; done"
            self.cable.start("laptop", "sh", "-c", again)


def proxy_for_all(scene):
    scene.router("10.84.16.0/22", prefix=32)
    scene.cable.ip("route", "add", f"{US}/32", "dev", "zd0")
    scene.set("net.ipv4.conf.zd0.proxy_arp=1")
    scene.pings("10.84.16.77", "10.84.17.78")
    return "answers-for-all"


def proxy_for_some_routes(scene):
    scene.router("10.84.17.0/28")
    scene.set("net.ipv4.conf.zd0.proxy_arp=1", "net.ipv4.neigh.zd0.proxy_delay=0")
    scene.pings("10.84.17.3", "10.84.17.5")
    return {"answers-for-all", "answers-for-others"}


def proxy_one_by_one(scene):
    scene.router("10.84.17.3/32", "10.84.17.5/32")
    for each in ("10.84.17.3", "10.84.17.5"):
        scene.cable.ip("neigh", "add", "proxy", each, "dev", "zd0")
    scene.pings("10.84.17.3", "10.84.17.5")
    return {"answers-for-all", "answers-for-others"}


def proxy_that_loses(scene):
    scene.router("10.84.17.0/24")
    scene.set("net.ipv4.conf.zd0.proxy_arp=1")
    subprocess.run([*scene.cable.inside("device"), "tc", "qdisc", "add", "dev", "zd0", "root", "netem", "loss", "10%"],
                   check=False, capture_output=True)  # fmt: skip
    scene.pings("10.84.17.3", "10.84.17.5")
    return {"answers-for-all", "answers-for-others"}


def proxy_that_begins_later(scene):
    scene.router("10.84.17.0/24")
    scene.pings("10.84.17.3", "10.84.17.5")
    scene.later(scene.dice.uniform(1, 4), lambda: scene.set("net.ipv4.conf.zd0.proxy_arp=1"))
    return {"answers-for-all", "answers-for-others"}


def forwarding_router(scene):
    """A host behind it speaks to the laptop, with any time to live from 30 to 255 left of what it sent with."""
    scene.router()
    cable = scene.cable
    host = f"{cable.device}-far"
    cable.add_namespace(host)
    cable.ip("link", "add", "far1", "type", "veth", "peer", "name", "e0", "netns", host)
    for line in (("addr", "add", "203.0.113.1/24", "dev", "far1"), ("link", "set", "far1", "up")):
        cable.ip(*line)
    for line in (("addr", "add", "203.0.113.9/24", "dev", "e0"), ("link", "set", "e0", "up"),
                 ("route", "add", "default", "via", "203.0.113.1")):  # fmt: skip
        subprocess.run(["ip", "-n", host, *line], check=True)
    ttl = scene.dice.randint(31, 255)
    cable.start_in(host, "ping", "-c", "20", "-i", "0.3", "-t", str(ttl), US)
    return "passes-on"


def moved_address(scene):
    scene.cable.bridge()
    first = scene.cable.behind("br0", "02:00:00:00:00:31", f"{HOME}/22")
    second = scene.cable.behind("br0", "02:00:00:00:00:32", None)
    scene.true |= {("02:00:00:00:00:32", HOME)}
    scene.cable.start_in(first, "ping", "-c", "60", "-i", "0.3", ROUTER)

    def move():
        subprocess.run(["ip", "-n", first, "addr", "flush", "dev", "e0"], check=True)
        subprocess.run(["ip", "-n", second, "addr", "add", f"{HOME}/22", "dev", "e0"], check=True)
        scene.cable.start_in(second, "ping", "-c", "20", "-i", "0.5", ROUTER)

    scene.later(scene.dice.uniform(3.5, 5.0), move)
    return "duplicate-address"


def second_server(scene):
    scene.cable.bridge()
    scene.cable.behind("br0", "02:00:00:00:00:53", "10.84.19.253/22")
    server = f"{scene.cable.device}-0"
    scene.true |= {("02:00:00:00:00:53", "10.84.19.253")}
    scene.cable.behind("br0", "02:00:00:00:00:21", None)
    serve = ["dnsmasq", "-k", "-C", "/dev/null", "-p", "0", "-i", "e0", "-u", "root", "-l", "/dev/null",
             "--dhcp-range", "10.84.18.1,10.84.18.99,1h"]  # fmt: skip
    scene.later(1.0, lambda: scene.cable.partner(*serve, at=server))
    return "address-server"


def another_ask_port(scene):
    """Somebody else on the switch measures: its sources and the answers that it gives for them are nobody's."""
    scene.cable.bridge()
    other = scene.cable.behind("br0", "02:00:00:00:00:02", "10.84.16.8/22")
    scene.cable.behind("br0", "02:00:00:00:00:31", f"{HOME}/22")
    scene.true |= {("02:00:00:00:00:02", "10.84.16.8"), ("02:00:00:00:00:31", HOME)}
    measure = ["measure", "e0", "--mac", "02:00:00:00:00:31", "--address", HOME]
    scene.later(1.0, lambda: scene.cable.start_in(other, *scene.cable.command(*measure)))
    return "several-devices"


def scripted(mode, *hazards):
    def arrange(scene):
        scene.cable.ip("link", "set", "zd0", "arp", "off")
        if mode in ("bridge", "retreat", "relay"):
            scene.true.clear()
        scene.true |= TRUE.get(mode, set())
        scene.box(mode)
        scene.pings("10.84.16.77")
        return set(hazards)

    return arrange


TRUE = {
    "relayed names": {(DEVICE, "10.84.16.50")},
    "one neighbour": {(DEVICE, "10.84.16.50")},
    "hsrp": {(DEVICE, "10.84.16.2")},
    "vrrp": {(DEVICE, "10.84.16.2")},
}


def announcer_beside_a_holder(scene):
    """Somebody announces the address of another again and again, and never answers for it."""
    scene.cable.bridge()
    scene.cable.behind("br0", "02:00:00:00:00:31", f"{HOME}/22")
    scene.true |= {("02:00:00:00:00:31", HOME)}
    scene.box("announces")
    scene.pings(HOME)
    return "duplicate-address"


LIARS = {
    "proxy ARP for all": proxy_for_all,
    "proxy ARP for its routes": proxy_for_some_routes,
    "proxy ARP for single addresses": proxy_one_by_one,
    "proxy ARP that loses a tenth": proxy_that_loses,
    "proxy ARP that begins later": proxy_that_begins_later,
    "a router that forwards": forwarding_router,
    "an address that moved": moved_address,
    "a server that begins later": second_server,
    "another Ask Port": another_ask_port,
    "a box that answers for all": scripted("for all", "answers-for-all"),
    "a box that answers for all but probes": scripted("for all but probes", "answers-for-all", "answers-for-others"),
    "a box that answers late": scripted("slow", "answers-for-all", "answers-for-others"),
    "a box that answers for two": scripted("one by one", "answers-for-others"),
    "a box that loses a tenth": scripted("lossy", "answers-for-all"),
    "a box that begins later": scripted("later", "answers-for-all"),
    "a reflector": scripted("reflector", "reflector"),
    "a bridge for three": scripted("bridge", "several-addresses"),
    "a relay": scripted("relay", "address-server"),
    "a relay of names": scripted("relayed names", None),
    "an announcer beside a holder": announcer_beside_a_holder,
    "two hosts behind one MAC": scripted("two behind", "several-addresses"),
    "a router with a shared MAC (HSRP)": scripted("hsrp", "virtual-mac"),
    "a router with a shared MAC (VRRP)": scripted("vrrp", "virtual-mac"),
    "a box that answers for one neighbour": scripted("one neighbour", None),
}


@pytest.mark.by_day(0, 2, 5, 6, 7, 8, 11, 15, 19)
@again
@pytest.mark.parametrize("name", LIARS)
def test_nothing_is_certain_and_wrong_and_the_liar_is_named(cable, name, run):
    scene = Scene(cable, Random(run))
    wanted = LIARS[name](scene)
    find = ["find", "zl0", "--loudness", "call", "--within", "10.84.16.0/28", "--within", "10.84.17.0/28", "--rate", 40,
            "--seconds", 9, "--json"]  # fmt: skip
    result = cable.askport(*find)
    time.sleep(0.1)
    document = json.loads(result.stdout)
    certain = {(device["mac"], each["address"]) for device in document["devices"] for each in device["addresses"]
               if each["belief"] == "certain"}  # fmt: skip
    assert certain <= scene.true, (certain - scene.true, result.stdout[-4000:])
    named = {each["code"] for each in document["hazards"]} | {None}
    assert named & ({wanted} if isinstance(wanted, str) else wanted), (named, result.stdout[-4000:])
