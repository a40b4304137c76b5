"""A field protocol that no device speaks: what a new one takes is this module and the line that declares it."""

from ipaddress import IPv4Address, IPv4Interface
from typing import NamedTuple

from askport.bench.stand_in import Settings, StandIn
from askport.core.addresses import BROADCAST_MAC
from askport.core.finding.clues import Clue, ClueKind, Identity, states
from askport.core.formats.arp import arp_question
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.machine import earliest
from askport.core.ways import way, way_entry

EXPERIMENT = 0x88B5
"""For experiments (IEEE 802, local experimental ethertype 1)."""


class Shouted(NamedTuple):
    """What was shouted."""

    text: bytes


def decode(data):
    return Shouted(data.rstrip(b"\0"))


def read(message, packet):
    mac = packet.get(Ethernet).src
    if message.text.startswith(b"here "):
        yield from states(mac, IPv4Address(message.text[5:].decode()), "Shouting")
        yield Clue(mac, ClueKind.IDENTIFIES, text="no numbers", source="shout", identity=Identity("shout"))


def who(laptop):
    return encode_ethernet(Ethernet(BROADCAST_MAC, laptop, EXPERIMENT, b"who"))


class Shout(way.Way):
    """Sends the planned values to the device's MAC address once a second until it shows the address."""

    name, gives, permanent = "shout", True, True

    def __init__(self, start):
        super().__init__(
            start.mac, start.target, laptop_mac=start.laptop_mac, ours=[start.laptop.ip] if start.laptop else [],
            now=start.now,
        )  # fmt: skip
        self._sender = start.laptop.ip if start.laptop else IPv4Address(0)
        self._next_at = start.now

    @property
    def waits_for(self):
        return "Shouting the values at it."

    def receive(self, heard):
        self._tracker.receive(heard)
        self._see(heard.at)

    def _see(self, now):
        if not self.done and self.target.interface.ip in self._tracker.seen:
            self._finish(way.Result.TAKEN, f"It has taken {self.target.interface}.", now)

    def handle_timer(self, now):
        self._tracker.handle_timer(now)
        self._see(now)
        if not self.done and now >= self._next_at:
            self._next_at = now + 1.0
            payload = " ".join(map(str, (self.target.interface, self.target.gateway, *self.target.dns))).encode()
            self._send(encode_ethernet(Ethernet(self.mac, self._laptop_mac, EXPERIMENT, payload)))
            self._send(arp_question(self._laptop_mac, self.target.interface.ip, sender=self._sender))

    def next_deadline(self):
        return None if self.done else earliest(self._next_at, self._tracker.next_deadline())


ENTRY = way_entry.WayEntry(
    name=Shout.name, title="shout at it", done="by shouting", says="shouts the values at the device",
    fits=lambda device, there, kind: "It has ears." if there else None, enter_does="shout {target} at it", begin=Shout,
)  # fmt: skip


def with_ears():
    """Return how a stand-in receives that answers who asks, and takes what is shouted at it."""
    others = StandIn.receive

    def receive(self, data, now):
        if int.from_bytes(data[12:14]) != EXPERIMENT or not self.up:
            return others(self, data, now)
        said = data[14:].rstrip(b"\0").decode()
        if said == "who":
            here = f"here {self.saved.interface.ip}".encode()
            return (
                [encode_ethernet(Ethernet(BROADCAST_MAC, self.mac, EXPERIMENT, here))] if self.saved.interface else []
            )
        interface, gateway, *dns = said.split()
        self.saved = Settings(IPv4Interface(interface), IPv4Address(gateway), tuple(map(IPv4Address, dns)))
        self.host.take(self.saved.interface, self.saved.gateway)
        return self.host.announce()

    return receive
