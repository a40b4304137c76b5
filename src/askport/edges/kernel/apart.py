"""A second end on an adapter's cable, apart from the laptop: a namespace with a child of the adapter in it.

The namespace has no name, and the kernel makes the macvlan child straight inside it (``IFLA_NET_NS_FD``), so that the
laptop's own namespace never has it. It is held by this process' descriptors and by sockets that were opened in it; when
all are gone, the kernel takes it away (network_namespaces(7), rtnetlink(7), linux/if_link.h).
"""

import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from struct import pack

from askport.edges.kernel import namespaces, state
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel.rtnetlink import ADDRESS, LINK, Kernel, with_attributes

_NAME = b"cable0\0"
_NO_DAD, _ON_LINK = 0x02, 253  # IFA_F_NODAD; RT_SCOPE_LINK
_QUIET_IPV6 = {"accept_ra": "0", "autoconf": "0", "router_solicitations": "0", "dad_transmits": "0", "accept_dad": "0",
               "addr_gen_mode": "1", "disable_ipv6": "0"}  # fmt: skip
_LOOPBACK = _UP = 1  # its index; IFF_UP
_PRIVATE = 1  # MACVLAN_MODE_PRIVATE: it talks with nobody else on the laptop
_ADDRESS, _NAMED, _MTU, _LINK, _INFO, _NAMESPACE = 1, 3, 4, 5, 18, 28  # IFLA_
_KIND, _DATA, _MODE = 1, 2, 1  # IFLA_INFO_KIND, IFLA_INFO_DATA, IFLA_MACVLAN_MODE
_QUIET = {
    # Nothing may be said that was not asked for: no IPv6, no announcement, and ARP for what was borrowed only.
    "ipv6/conf/default/disable_ipv6": "1", "ipv6/conf/all/disable_ipv6": "1",
    "ipv4/ip_forward": "0", "ipv4/conf/default/arp_notify": "0", "ipv4/conf/all/arp_notify": "0",
    "ipv4/conf/default/arp_ignore": "1", "ipv4/conf/default/arp_announce": "2", "ipv4/conf/default/rp_filter": "0",
    "ipv4/conf/all/rp_filter": "0", "ipv4/ping_group_range": "0 2147483647",
}  # fmt: skip
"""Settings of the namespace (ip-sysctl of the kernel's documentation), some of which it takes from the laptop's own."""


class Apart:
    """One namespace with one child of an adapter."""

    def __init__(self, adapter: int, mac: bytes, mtu: int) -> None:
        """Make it.

        Args:
            mtu: the adapter's longest packet, in bytes.

        Raises:
            OSError: the kernel or the adapter would not.
        """
        self._home, self.namespace, self._mac = namespaces.own(), -1, mac
        try:
            namespaces.make()
            try:
                self.namespace = namespaces.own()
                self.netlink = Kernel()
                for name, value in _QUIET.items():
                    path = Path("/proc/sys/net") / name
                    if path.exists():  # a kernel without IPv6 has none for that
                        path.write_text(value)
            finally:
                namespaces.enter(self._home)
            self.index = self._add_child(adapter, mac, mtu)
        except OSError:
            self.close()
            raise

    def _add_child(self, adapter: int, mac: bytes, mtu: int) -> int:
        mode = with_attributes(b"", **{f"_{_MODE}": pack("I", _PRIVATE)})
        info = with_attributes(b"", **{f"_{_KIND}": b"macvlan", f"_{_DATA}": mode})
        given = {_ADDRESS: mac, _NAMED: _NAME, _MTU: pack("I", mtu), _LINK: pack("I", adapter), _INFO: info,
                 _NAMESPACE: pack("I", self.namespace)}  # fmt: skip
        message = with_attributes(pack(LINK, 0, 0, 0, 0, 0), **{f"_{key}": each for key, each in given.items()})
        with Kernel() as home:
            home.send(kernel.NEWLINK, message, kernel.CREATE | kernel.ONLY_NEW)
        child = next(each[1] for each in state.links(self.netlink) if each[3].get(_ADDRESS) == mac)
        for index in (_LOOPBACK, child):
            self.netlink.send(kernel.NEWLINK, pack(LINK, 0, 0, index, _UP, _UP))
        return child

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
        """Return a socket of the namespace, connected to nothing.

        Raises:
            OSError: the kernel would not.
        """
        with self._inside():
            return socket.socket(family, kind)

    def speak_ipv6(self) -> int:
        """Give the child the link-local address that its MAC address gives; return its index, which is its scope.

        Without duplicate address detection, routers and addresses of its own making: nothing is said that was not
        asked for but the report that it listens to its own group (RFC 3810).

        Raises:
            OSError: the kernel has no IPv6.
        """
        with self._inside():
            own = Path("/proc/sys/net/ipv6/conf") / _NAME.decode().rstrip("\0")
            for name, value in _QUIET_IPV6.items():
                (own / name).write_text(value)
        mac = self._mac
        address = b"\xfe\x80" + bytes(6) + bytes((mac[0] ^ 2,)) + mac[1:3] + b"\xff\xfe" + mac[3:]
        head = pack(ADDRESS, socket.AF_INET6, 64, _NO_DAD, _ON_LINK, self.index)
        with suppress(FileExistsError):
            self.netlink.send(kernel.NEWADDR, with_attributes(head, _1=address), kernel.CREATE | kernel.ONLY_NEW)
        return self.index

    def close(self) -> None:
        """Let go of it; the child at once, because sockets that were handed out keep the namespace."""
        with suppress(OSError, AttributeError):
            self.netlink.take_away(kernel.DELLINK, pack(LINK, 0, 0, self.index, 0, 0))
        with suppress(AttributeError):
            self.netlink.close()
        for each in (self.namespace, self._home):
            if each >= 0:
                os.close(each)
        self.namespace = self._home = -1
