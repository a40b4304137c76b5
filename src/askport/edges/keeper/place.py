"""A place beside the adapter: a network namespace without a name, with a child of the adapter made straight inside it.

Nothing of it is in the laptop's own namespace, at no moment: no address, no route, no neighbour, no rule of a firewall
and no manager sees it. It is held by descriptors of this process alone, and by sockets that were handed out, so the
kernel takes it away when they are gone, however that comes about (network_namespaces(7)).
"""

import errno
import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from ipaddress import IPv4Interface, IPv4Network
from pathlib import Path
from struct import pack

from askport.edges.keeper.messages import Refusal, address_message, pin_message, route_message
from askport.edges.kernel import namespaces, state
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel.rtnetlink import LINK, NEIGHBOUR, Kernel, attributes, with_attributes

_NAME = "cable0"
_LOOPBACK = _UP = 1  # its index; IFF_UP
_PRIVATE = 1  # MACVLAN_MODE_PRIVATE: it talks with nobody else on the laptop (linux/if_link.h)
_ADDRESS, _NAMED, _MTU, _LINK, _INFO, _NAMESPACE = 1, 3, 4, 5, 18, 28  # IFLA_
_KIND, _DATA, _MODE = 1, 2, 1  # IFLA_INFO_KIND, IFLA_INFO_DATA, IFLA_MACVLAN_MODE
_NO_SUCH_KIND = frozenset({errno.EOPNOTSUPP, errno.ENOSYS, errno.EAFNOSUPPORT})
_QUIET = {
    # Nothing may be said that was not asked for: no IPv6, no announcement, and ARP for what was borrowed only.
    "ipv6/conf/default/disable_ipv6": "1", "ipv6/conf/all/disable_ipv6": "1",
    "ipv4/ip_forward": "0", "ipv4/conf/default/arp_notify": "0", "ipv4/conf/all/arp_notify": "0",
    "ipv4/conf/default/arp_ignore": "1", "ipv4/conf/default/arp_announce": "2", "ipv4/conf/default/rp_filter": "0",
    "ipv4/conf/all/rp_filter": "0", "ipv4/ping_group_range": "0 2147483647",
}  # fmt: skip
"""Settings of the namespace (ip-sysctl of the kernel's documentation), some of which it takes from the laptop's own."""


class Place:
    """One namespace with one child of the adapter, which has a MAC address of its own."""

    def __init__(self, index: int, adapter: str, mac: str, mtu: int) -> None:
        """Make it.

        Args:
            index: the adapter's.
            adapter: its name, for sentences.
            mac: the child's MAC address.
            mtu: the adapter's longest packet, in bytes.

        Raises:
            Refusal: the kernel or the adapter would not.
        """
        self.mac, self._adapter, self._home = mac, adapter, namespaces.own()
        self.namespace = -1
        try:
            namespaces.make()
            try:
                self.namespace = namespaces.own()
                self._netlink = Kernel()
                _be_quiet()
            finally:
                namespaces.enter(self._home)
            self._add_child(index, bytes.fromhex(mac.replace(":", "")), mtu)
        except OSError as error:
            self.close()
            why = "this kernel has no macvlan" if error.errno in _NO_SUCH_KIND else error.strerror or str(error)
            raise Refusal(f"{adapter} takes no second MAC address: {why}.", "no-place") from None

    def _add_child(self, index: int, mac: bytes, mtu: int) -> None:
        """Have the kernel make the child inside the namespace, so that the laptop's own never has it."""
        mode = with_attributes(b"", **{f"_{_MODE}": pack("I", _PRIVATE)})
        info = with_attributes(b"", **{f"_{_KIND}": b"macvlan", f"_{_DATA}": mode})
        given = {_ADDRESS: mac, _NAMED: _NAME.encode() + b"\0", _MTU: pack("I", mtu), _LINK: pack("I", index),
                 _INFO: info, _NAMESPACE: pack("I", self.namespace)}  # fmt: skip
        message = with_attributes(pack(LINK, 0, 0, 0, 0, 0), **{f"_{key}": each for key, each in given.items()})
        with Kernel() as home:
            home.send(kernel.NEWLINK, message, kernel.CREATE | kernel.ONLY_NEW)
        found = (each for each in state.links(self._netlink) if each[3].get(_ADDRESS) == mac)
        self.index = next(found)[1]
        for index in (_LOOPBACK, self.index):
            self._netlink.send(kernel.NEWLINK, pack(LINK, 0, 0, index, _UP, _UP))

    @contextmanager
    def _inside(self) -> Iterator[None]:
        """Be in the namespace meanwhile; what cannot come back out of it must not go on."""
        namespaces.enter(self.namespace)
        try:
            yield
        finally:
            try:
                namespaces.enter(self._home)
            except OSError:
                os._exit(1)

    def open_socket(self, family: int, kind: int) -> socket.socket:
        """Return a socket of the namespace that is connected to nothing.

        Raises:
            Refusal: it is none for TCP or UDP.
        """
        if family not in (socket.AF_INET, socket.AF_INET6) or kind not in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
            raise Refusal("The keeper opens sockets for TCP and UDP only.")
        with self._inside():
            return socket.socket(family, kind)

    def addresses(self) -> list[str]:
        """Return the IPv4 addresses in it, with prefix."""
        return [state.written(each) for each in state.addresses(self._netlink, self.index)]

    def borrow(self, text: str) -> None:
        """Give it one address."""
        self._send(str(IPv4Interface(text)), kernel.NEWADDR, address_message(IPv4Interface(text), self.index))

    def route(self, text: str, gateway: str) -> None:
        """Send what is for a range through a device on the cable."""
        message = route_message(IPv4Network(text), gateway, self.index)
        self._send(f"the route to {text}", kernel.NEWROUTE, message)

    def pin(self, text: str, mac: str) -> None:
        """Have an address mean one MAC address."""
        message = pin_message(text, mac, self.index)
        self._send(f"the neighbour {text}", kernel.NEWNEIGH, message, kernel.REPLACE)
        told = [
            attributes(each, NEIGHBOUR) for each in state.neighbours_in(self._netlink, self.index, IPv4Network(text))
        ]
        if [each.get(2) for each in told] != [attributes(message, NEIGHBOUR)[2]]:
            raise Refusal(f"{text} does not lead to {mac} beside {self._adapter}.")

    def _send(self, what: str, kind: int, message: bytes, flags: int = kernel.ONLY_NEW) -> None:
        try:
            self._netlink.send(kind, message, kernel.CREATE | flags)
        except OSError as error:
            raise Refusal(f"The kernel would not put {what} beside {self._adapter}: {error.strerror}.") from None

    def close(self) -> list[str]:
        """Let go of it, and return in words what was borrowed there."""
        given: list[str] = []
        with suppress(OSError, AttributeError):
            given = self.addresses()
            # The child at once, because sockets that were handed out keep the namespace.
            self._netlink.take_away(kernel.DELLINK, pack(LINK, 0, 0, self.index, 0, 0))
            self._netlink.close()
        for each in (self.namespace, self._home):
            if each >= 0:
                os.close(each)
        self.namespace = self._home = -1
        return given


def _be_quiet() -> None:
    """Set what keeps a new namespace silent; a kernel without IPv6 has no files for that."""
    for name, value in _QUIET.items():
        path = Path("/proc/sys/net") / name
        if path.exists():
            path.write_text(value)
