"""A place beside the adapter: what is borrowed there, in a namespace of its own (``kernel/apart.py``)."""

import errno
import os
import socket
from contextlib import suppress
from ipaddress import IPv4Interface, IPv4Network

from askport.edges.keeper.journal import DIRECTORY
from askport.edges.keeper.refusal import Refusal
from askport.edges.kernel import apart, locks, namespaces, state
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel.messages import address_message, pin_message, route_message
from askport.edges.kernel.rtnetlink import NEIGHBOUR, attributes

_MADE_UP = 2  # the first two bits of a MAC address' first byte: of its own making, and for one only
_NO_SUCH_KIND = frozenset({errno.EOPNOTSUPP, errno.ENOSYS, errno.EAFNOSUPPORT})


class Seat:
    """The right to one MAC address beside an adapter, and what is borrowed under it, among all runs of Ask Port.

    Those beside one adapter do not hear each other: no question on the wire would tell that an address is taken.
    """

    def __init__(self, index: int, adapter: str, macs: list[str]) -> None:
        """Take the first MAC address that nobody has.

        Raises:
            Refusal: all are taken, or one is none for that.
        """
        self.taken: list[str] = []
        for place, mac in enumerate(macs):
            self.mac = bytes.fromhex(mac.replace(":", ""))
            if len(self.mac) != 6 or self.mac[0] & 3 != _MADE_UP:
                raise Refusal(f"{mac} is no MAC address for a place of its own.")
            self._path = DIRECTORY / f"{namespaces.number()}-{index}-{place}.seat"
            if (file := locks.locked(self._path)) is not None:
                self._file = file
                self.write()
                return
        raise Refusal(f"There are too many runs of Ask Port beside {adapter}: end one first.")

    def write(self) -> None:
        """Tell other runs what is borrowed here."""
        with suppress(OSError):  # where the disk is full, two runs at once may choose one address; else all goes on
            os.ftruncate(self._file, 0)
            os.pwrite(self._file, " ".join(self.taken).encode(), 0)

    def elsewhere(self) -> list[str]:
        """Return what is borrowed under the other seats beside this adapter."""
        others = DIRECTORY.glob(f"{self._path.name.rpartition('-')[0]}-*.seat")
        return [each for path in others if path != self._path for each in locks.told_by_owner(path).split()]

    def close(self) -> None:
        """Let another run have it."""
        self._path.unlink(missing_ok=True)
        os.close(self._file)


class Place:
    """Where one MAC address and what is borrowed under it are."""

    def __init__(self, index: int, adapter: str, seat: Seat, mtu: int) -> None:
        """Make it beside the adapter with this index and name, under a seat, for packets of at most ``mtu`` bytes.

        Raises:
            Refusal: the kernel or the adapter would not.
        """
        self._seat, self._adapter = seat, adapter
        try:
            self.apart = apart.Apart(index, seat.mac, mtu)
        except OSError as error:
            if error.errno == errno.EADDRINUSE:
                text = f"What another run has left beside {adapter} is still there: end it, or start the laptop anew."
                raise Refusal(text, "in-use") from None
            why = "this kernel has no macvlan" if error.errno in _NO_SUCH_KIND else error.strerror or str(error)
            raise Refusal(f"{adapter} takes no second MAC address: {why}.", "no-place") from None
        self._netlink, self._index = self.apart.netlink, self.apart.index

    def open_socket(self, family: int, kind: int) -> socket.socket:
        """Return a socket that is there and connected to nothing.

        Raises:
            Refusal: it is none for TCP or UDP.
        """
        if family not in (socket.AF_INET, socket.AF_INET6) or kind not in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
            raise Refusal("The keeper opens sockets for TCP and UDP only.")
        return self.apart.open_socket(family, kind)

    def addresses(self) -> list[str]:
        """Return the IPv4 addresses there, with prefix."""
        return [state.written(each) for each in state.addresses(self._netlink, self._index)]

    def borrow(self, text: str) -> None:
        """Have one address there, which nobody else has beside this adapter."""
        interface = IPv4Interface(text)
        if str(interface.ip) in self._seat.elsewhere():
            why = f"{interface.ip} is borrowed beside {self._adapter} already: name another address."
            raise Refusal(why, "taken-elsewhere")
        self._send(str(interface), kernel.NEWADDR, address_message(interface, self._index))
        self._seat.taken.append(str(interface.ip))
        self._seat.write()

    def route(self, text: str, gateway: str) -> None:
        """Send what is for a range through a device on the cable."""
        self._send(f"the route to {text}", kernel.NEWROUTE, route_message(IPv4Network(text), gateway, self._index))

    def pin(self, text: str, mac: str) -> None:
        """Have an address mean one MAC address."""
        message = pin_message(text, mac, self._index)
        self._send(f"the neighbour {text}", kernel.NEWNEIGH, message, kernel.REPLACE)
        known = state.neighbours_in(self._netlink, self._index, IPv4Network(text))
        if [attributes(each, NEIGHBOUR).get(2) for each in known] != [attributes(message, NEIGHBOUR)[2]]:
            raise Refusal(f"{text} does not lead to {mac} beside {self._adapter}.")

    def _send(self, what: str, kind: int, message: bytes, flags: int = kernel.ONLY_NEW) -> None:
        try:
            self._netlink.send(kind, message, kernel.CREATE | flags)
        except OSError as error:
            raise Refusal(f"The kernel would not put {what} beside {self._adapter}: {error.strerror}.") from None

    def close(self) -> list[str]:
        """Let go of it, and return in words what was borrowed there."""
        given = self.addresses()
        self._seat.taken.clear()
        self._seat.write()
        self.apart.close()
        return given
