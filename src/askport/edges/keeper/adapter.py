"""The one adapter that a keeper owns: its packet socket and its addresses."""

import errno
import os
import socket
from ipaddress import IPv4Interface
from struct import pack
from typing import Any

from pyroute2 import IPRoute
from pyroute2.netlink.exceptions import NetlinkError

from askport.edges.keeper import filter as kernel_filter
from askport.edges.keeper import journal

_ETH_P_ALL = 3
_SOL_PACKET = 263
_PACKET_ADD_MEMBERSHIP, _PACKET_AUXDATA, _PACKET_IGNORE_OUTGOING = 1, 8, 23
_PACKET_MR_PROMISC = 1
_SO_RCVBUFFORCE, _SO_TIMESTAMPNS = 33, 35
_RECEIVE_BUFFER = 8 << 20
"""Bytes: half a second of minimum frames at 100 Mb/s with the kernel's overhead for each."""
_ETHERNET = 1
"""Hardware type (linux/if_arp.h) of what this program can talk to."""


class Refusal(Exception):
    """The keeper will not, or the kernel would not; the message is for the technician."""


class Adapter:
    """Changes one adapter and knows what to undo."""

    def __init__(self, name: str) -> None:
        """Take the adapter, and undo first what an interrupted run left on it.

        Raises:
            Refusal: there is no such adapter, it is no Ethernet, or another run has it.
        """
        self._netlink = IPRoute()
        found = self._netlink.link_lookup(ifname=name)
        if not found:
            raise Refusal(f"There is no adapter '{name}': 'askport adapters' lists them.")
        self.name, self.index = name, int(found[0])
        link = self._netlink.get_links(self.index)[0]
        if link["ifi_type"] != _ETHERNET:
            raise Refusal(f"{name} is not an Ethernet adapter: choose the one that the cable is in.")
        self.mac = str(link.get_attr("IFLA_ADDRESS"))
        self.switched_on = bool(link["flags"] & 1)
        try:
            self._lock = journal.lock(name)
        except journal.InUse:
            raise Refusal(f"{name} is in use by another run of Ask Port: end that one first.") from None
        except OSError as error:
            raise Refusal(f"{journal.DIRECTORY} cannot be used: {error.strerror or error}.") from None
        left = journal.read(journal.path_of(name))
        self.restored: list[str] = []
        self._journal = journal.Journal(
            adapter=name,
            index=self.index,
            mac=self.mac,
            namespace=journal.this_namespace(),
            boot=journal.this_boot(),
            keeper=os.getpid(),
        )
        if left and left.index == self.index and left.mac == self.mac:
            self._journal.borrowed = left.borrowed
            self.restored = self.give_back()
        journal.write(self._journal)

    def addresses(self) -> list[str]:
        """Return the IPv4 addresses on it, with prefix."""
        dump: Any = self._netlink.get_addr(family=socket.AF_INET, index=self.index)
        return [f"{each.get_attr('IFA_LOCAL') or each.get_attr('IFA_ADDRESS')}/{each['prefixlen']}" for each in dump]

    def open(self) -> socket.socket:
        """Return a packet socket on it: filtered before its first frame, with the kernel's time on every frame."""
        wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        kernel_filter.attach(wire)
        wire.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _RECEIVE_BUFFER)
        wire.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
        wire.setsockopt(_SOL_PACKET, _PACKET_AUXDATA, 1)
        wire.setsockopt(_SOL_PACKET, _PACKET_IGNORE_OUTGOING, 1)
        membership = pack("iHH8s", self.index, _PACKET_MR_PROMISC, 0, b"")
        wire.setsockopt(_SOL_PACKET, _PACKET_ADD_MEMBERSHIP, membership)
        wire.bind((self.name, _ETH_P_ALL))
        return wire

    def borrow(self, text: str) -> None:
        """Put one address on it, beside what is there.

        Raises:
            Refusal: it is no address, the adapter has it already, or the kernel would not.
        """
        try:
            interface = IPv4Interface(text)
        except ValueError:
            raise Refusal(f"'{text[:40]}' is not an address with a prefix.") from None
        if any(each.split("/")[0] == str(interface.ip) for each in self.addresses()):
            raise Refusal(f"{self.name} already has {interface.ip}: there is nothing to borrow.")
        self._journal.borrowed.append(str(interface))
        journal.write(self._journal)
        try:
            prefix = interface.network.prefixlen
            self._netlink.addr("add", index=self.index, address=str(interface.ip), prefixlen=prefix)
        except NetlinkError as error:
            self._journal.borrowed.remove(str(interface))
            journal.write(self._journal)
            raise Refusal(f"The kernel would not put {interface} on {self.name}: {os.strerror(error.code)}.") from None

    def give_back(self) -> list[str]:
        """Take away exactly what was borrowed, the last first; what is gone already is well."""
        given = []
        for text in reversed(self._journal.borrowed[:]):
            interface = IPv4Interface(text)
            try:
                prefix = interface.network.prefixlen
                self._netlink.addr("del", index=self.index, address=str(interface.ip), prefixlen=prefix)
            except NetlinkError as error:
                if error.code not in (errno.EADDRNOTAVAIL, errno.ENODEV, errno.ENXIO):
                    raise
            self._journal.borrowed.remove(text)
            journal.write(self._journal)
            given.append(text)
        return given


def give_back_all(only: str | None = None) -> dict[str, list[str]]:
    """Give back what interrupted runs left borrowed in this namespace: adapter to addresses.

    Raises:
        Refusal: another run is using an adapter, or nothing may be changed.
    """
    given: dict[str, list[str]] = {}
    for name in journal.left_behind():
        if only in (None, name):
            if not IPRoute().link_lookup(ifname=name):
                journal.path_of(name).unlink(missing_ok=True)
                given[name] = []
                continue
            given[name] = Adapter(name).restored
    return given
