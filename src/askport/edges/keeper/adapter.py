"""The one adapter that a keeper owns: its packet socket, addresses, routes and neighbours."""

import ctypes
import errno
import os
import socket
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from struct import pack
from typing import Any

from pyroute2 import IPRoute
from pyroute2.netlink.exceptions import NetlinkError

from askport.edges.keeper import journal, manager, state

_ETH_P_ALL = 3
_SOL_PACKET = 263
_PACKET_ADD_MEMBERSHIP, _PACKET_AUXDATA, _PACKET_IGNORE_OUTGOING = 1, 8, 23
_PACKET_MR_PROMISC = 1
_SO_ATTACH_FILTER, _SO_RCVBUFFORCE, _SO_TIMESTAMPNS = 26, 33, 35
_RECEIVE_BUFFER = 8 << 20  # bytes: half a second of minimum frames at 100 Mb/s with the kernel's overhead for each
_ETHERNET = 1  # hardware type (linux/if_arp.h) of what this program can talk to
_PERMANENT, _STALE = 0x80, 0x04  # of a neighbour entry (linux/neighbour.h)
_GONE = (errno.EADDRNOTAVAIL, errno.ENODEV, errno.ENXIO, errno.ENOENT, errno.ESRCH, errno.EEXIST, errno.EINVAL)
"""What the kernel says where there is nothing left to undo, or the adapter itself was pulled out."""


class Refusal(Exception):
    """The keeper will not, or the kernel would not; the message is for the technician."""


class Adapter:
    """Changes one adapter and knows what to undo; what it will not do, it refuses."""

    def __init__(self, name: str) -> None:
        """Take the adapter, unless another run has it, and undo first what an interrupted run left on it."""
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
            self._journal = journal.Journal(name, self.index, self.mac)
        except OSError as error:
            if error.errno == errno.EADDRINUSE:
                raise Refusal(f"{name} is in use by another run of Ask Port: end that one first.") from None
            raise Refusal(f"{journal.DIRECTORY} cannot be used: {error.strerror or error}.") from None
        self.restored = self.give_back()

    def addresses(self) -> list[str]:
        """Return the IPv4 addresses on it, with prefix."""
        return [state.written(each) for each in state.addresses(self._netlink, self.index)]

    def _saved(self) -> dict[str, Any]:
        addresses, routes = state.addresses(self._netlink, self.index), state.routes(self._netlink, self.index)
        return {"addresses": addresses, "routes": routes, "neighbours": self._neighbours()}

    def open(self, program: bytes) -> socket.socket:
        """Return a packet socket on it: filtered before its first frame, with the kernel's time on every frame."""
        wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
        buffer = ctypes.create_string_buffer(program)
        wire.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, pack("HP", len(program) // 8, ctypes.addressof(buffer)))
        wire.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _RECEIVE_BUFFER)
        wire.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
        wire.setsockopt(_SOL_PACKET, _PACKET_AUXDATA, 1)
        wire.setsockopt(_SOL_PACKET, _PACKET_IGNORE_OUTGOING, 1)
        membership = pack("iHH8s", self.index, _PACKET_MR_PROMISC, 0, b"")
        wire.setsockopt(_SOL_PACKET, _PACKET_ADD_MEMBERSHIP, membership)
        wire.bind((self.name, _ETH_P_ALL))
        return wire

    def _do(self, undo: dict[str, Any], change: Callable[[], object], what: str) -> None:
        """Write down how to undo a change, and make it; where the kernel would not, forget it again."""
        self._journal.undo.append(undo)
        self._journal.write()
        try:
            change()
        except NetlinkError as error:
            if undo["kind"] == "replaced":
                self._put_back(undo)  # some may be off already
            self._journal.undo.remove(undo)
            self._journal.write()
            raise Refusal(f"The kernel would not {what} on {self.name}: {os.strerror(error.code)}.") from None

    def _take_from_manager(self, *, instead: bool) -> None:
        """Take the adapter out of a network manager's hands, and keep what it had put on it."""
        taken = any(each["kind"] == "manager" for each in self._journal.undo)
        who = None if taken else manager.of(self.name)
        if who == manager.DHCPCD and instead:
            raise Refusal(f"dhcpcd would put the addresses of {self.name} back: borrow beside them, not instead.")
        if who is None or who == manager.DHCPCD:
            return
        before = self._saved()
        self._do({"kind": "manager", "name": who}, lambda: manager.take_out(who, self.name), "be let go")
        self._put_back(before)

    def _put_back(self, saved: dict[str, Any]) -> None:
        present = self.addresses()
        for each in saved["addresses"]:
            if state.written(each) not in present:
                state.put_address(self._netlink, self.index, each)
        state.put_routes(self._netlink, self.index, saved["routes"])
        self._put_neighbours(saved["neighbours"])

    def _put_neighbours(self, saved: list[dict[str, Any]]) -> None:
        for each in saved:
            kept = {**each, "state": _PERMANENT if each["state"] == _PERMANENT else _STALE}
            self._netlink.neigh("replace", ifindex=self.index, family=socket.AF_INET, **kept)

    def borrow(self, text: str, *, instead: bool = False) -> None:
        """Put one address on it, beside what is there or instead of it."""
        interface = IPv4Interface(text)
        if any(each.split("/")[0] == str(interface.ip) for each in self.addresses()):
            raise Refusal(f"{self.name} already has {interface.ip}: there is nothing to borrow.")
        self._take_from_manager(instead=instead)
        if instead:
            flush = lambda: self._netlink.flush_addr(index=self.index, family=socket.AF_INET)  # noqa: E731
            self._do({"kind": "replaced", **self._saved()}, flush, "take the addresses off")
        entry = {"index": self.index, "address": str(interface.ip), "prefixlen": interface.network.prefixlen}
        self._add("addr", entry, str(interface))
        self._forget(interface.network)

    def route(self, text: str, gateway: str) -> None:
        """Send what is for a range through a device on the cable."""
        network = IPv4Network(text)
        entry = {"dst": str(network), "gateway": str(IPv4Address(gateway)), "oif": self.index}
        self._add("route", entry, f"the route to {network}")

    def _add(self, kind: str, entry: dict[str, Any], what: str) -> None:
        undo = {"kind": kind, "entry": entry, "what": what}
        self._do(undo, lambda: getattr(self._netlink, kind)("add", **entry), f"put {what}")

    def pin(self, text: str, mac: str) -> None:
        """Have an address mean one MAC address, whoever else answers for it."""
        address = str(IPv4Address(text))
        bytes.fromhex(mac.replace(":", ""))  # anything but digits is refused here, a wrong number by the kernel
        before = [each for each in self._neighbours() if each["dst"] == address]
        undo = {"kind": "pin", "address": address, "before": before}
        change = lambda: self._netlink.neigh(  # noqa: E731
            "replace", dst=address, lladdr=mac, ifindex=self.index, family=socket.AF_INET, state=_PERMANENT
        )
        self._do(undo, change, f"pin {address}")

    def _neighbours(self) -> list[dict[str, Any]]:
        dump: Any = self._netlink.get_neighbours(family=socket.AF_INET, ifindex=self.index)
        known = [(each.get_attr("NDA_DST"), each.get_attr("NDA_LLADDR"), each["state"]) for each in dump]
        return [{"dst": dst, "lladdr": lladdr, "state": state_} for dst, lladdr, state_ in known if lladdr]

    def _forget(self, network: IPv4Network) -> None:
        """Drop what the kernel remembers of neighbours there: the next unit has the same address and another MAC."""
        for each in self._neighbours():
            if IPv4Address(each["dst"]) in network and each["state"] != _PERMANENT:
                self._netlink.neigh("del", dst=each["dst"], ifindex=self.index, family=socket.AF_INET)

    def give_back(self) -> list[str]:
        """Undo everything, the last first, and return it in words; what is gone already is well."""
        given = []
        while self._journal.undo:
            undo = self._journal.undo[-1]
            try:
                given.append(self._undo(undo))
            except NetlinkError as error:
                if error.code not in _GONE:
                    raise
                given.append(str(undo.get("what") or undo["kind"]))
            self._journal.undo.pop()
            self._journal.write()
        return given

    def _undo(self, undo: dict[str, Any]) -> str:
        match undo["kind"]:
            case "addr" | "route" as kind:
                getattr(self._netlink, kind)("del", **undo["entry"])
                return str(undo["what"])
            case "pin":
                self._netlink.neigh("del", dst=undo["address"], ifindex=self.index, family=socket.AF_INET)
                self._put_neighbours(undo["before"])
                return f"the neighbour {undo['address']}"
            case "replaced":
                self._put_back(undo)
                return "its own addresses"
        manager.give_back(undo["name"], self.name)
        return "its network manager"
