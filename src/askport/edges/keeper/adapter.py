"""The one adapter that a keeper owns: its packet socket, addresses, routes and neighbours."""

import errno
import os
import signal
import socket
from contextlib import suppress
from ipaddress import IPv4Interface, IPv4Network
from typing import Any

from askport.edges.keeper import journal, manager, relay
from askport.edges.keeper.place import Place, Seat
from askport.edges.keeper.refusal import Refusal
from askport.edges.kernel import locks, packet_socket, state
from askport.edges.kernel import rtnetlink as kernel
from askport.edges.kernel.messages import address_message, pin_message, route_message, switch_message
from askport.edges.kernel.namespaces import number
from askport.edges.kernel.rtnetlink import ADDRESS, NEIGHBOUR, Kernel, attributes

_ETHERNET = 1  # hardware type (linux/if_arp.h) of what this program can talk to
_MOST_PLACES = 64
_TAKE_AWAY = (kernel.DELADDR, kernel.DELROUTE, kernel.DELNEIGH, kernel.NEWLINK)
_NO_ADAPTER = (os.strerror(errno.ENODEV), os.strerror(errno.ENXIO))


class Adapter:
    """Changes one adapter and knows what to undo; what it will not do, it refuses."""

    def __init__(self, name: str) -> None:
        """Take the adapter, and undo first what an interrupted run left on it, unless another run is at work on it."""
        self._netlink, self.name = Kernel(), name
        link = next((each for each in state.adapters(self._netlink) if each["name"] == name), None)
        if link is None:
            raise Refusal(f"There is no adapter '{name}': 'askport adapters' lists them.")
        if link["hardware"] != _ETHERNET:
            raise Refusal(f"{name} is not an Ethernet adapter: choose the one that the cable is in.")
        self.index, self.mac, self.switched_on = int(link["index"]), str(link["mac"]), bool(link["on"])
        self._mtu = int(link["mtu"])
        self._relay = 0
        """The process that passes frames on, which ends with this one."""
        self.places: dict[int, Place] = {}
        """Those beside it, by their numbers."""
        self._seats: dict[int, Seat] = {}
        self._whose = {each: link[each] for each in ("name", "index", "mac", "permanent")}
        self._journal: journal.Journal | None = None
        try:
            journal.require_directory()
            self._among_runs = locks.AmongRuns(journal.DIRECTORY / f"{number()}-{self.index}.runs")
        except OSError as error:
            raise Refusal(f"{journal.DIRECTORY} cannot be used: {error.strerror or error}.") from None
        self.is_shared = False
        """Whether another run has borrowed on it: this one can do so beside it only."""
        try:
            opened = self._opened_journal()
        except Refusal as error:
            if error.code != "in-use":
                raise
            self.is_shared = True
        self._known_before = state.passing_ipv6(self._netlink, self.index)
        self.restored, self.left = self.give_back()
        if self._journal and opened.is_cut:
            self.left.append("what stood in a part of its journal that cannot be read")
        if self._journal and not self._journal.undo:
            self._let_go_of_journal()  # others may borrow on it, while this run does so beside it

    def _opened_journal(self) -> journal.Journal:
        """Return the journal, taken for this run from now on."""
        if self._journal is None:
            try:
                self._journal = journal.Journal(journal.left_for(self._whose), self._whose)
            except BlockingIOError:
                text = f"Another run of Ask Port has borrowed on {self.name}: end that one first."
                raise Refusal(text, "in-use") from None
            except OSError as error:
                raise Refusal(f"{journal.DIRECTORY} cannot be used: {error.strerror or error}.") from None
        return self._journal

    def addresses(self) -> list[str]:
        """Return the IPv4 addresses on it, with prefix."""
        return [state.written(each) for each in state.addresses(self._netlink, self.index)]

    def open(self, program: bytes) -> socket.socket:
        """Return the program's end of what relays its frames, of which a filter lets through what ``program`` does.

        Raises:
            Refusal: there is one already.
        """
        if self._relay:
            raise Refusal(f"Frames of {self.name} are relayed already.")
        with packet_socket.open_packet_socket(self.name, self.index, program) as wire:
            near, self._relay = relay.start(wire)
        return near

    def let_send(self) -> None:
        """Have frames of the program's sent from now on."""
        if self._relay:
            os.kill(self._relay, relay.LET_SEND)

    def _note(self, undo: dict[str, Any]) -> None:
        try:
            self._opened_journal().add(undo)
        except OSError as error:
            raise Refusal(f"{journal.DIRECTORY} has no room for what is to be undone: {error.strerror}.") from None

    def _do(self, what: str, undo: list[state.Message], *changes: tuple[int, bytes, int]) -> None:
        """Write down how to undo a change, and make it; where the kernel would not, undo what of it was made."""
        self._note({"messages": undo, "since": state.boot_s(), "what": what})
        try:
            for kind, message, flags in changes:
                # With an address those go that hang on it.
                (self._netlink.send if flags else self._netlink.take_away)(kind, message, flags)
        except OSError as error:
            self._undo(len(self._opened_journal().undo) - 1)
            raise Refusal(f"The kernel would not put {what} on {self.name}: {error.strerror}.") from None

    def _take_from_manager(self, *, instead: bool) -> None:
        """Take the adapter out of a network manager's hands, and keep what it had put on it."""
        taken = any("manager" in each for each in self._opened_journal().undo)
        who = None if taken else manager.of(self.name)
        if who == manager.DHCPCD and instead:
            raise Refusal(f"dhcpcd would put the addresses of {self.name} back: borrow beside them, not instead.")
        if who is None or who == manager.DHCPCD:
            return
        before, since = state.saved(self._netlink, self.index), state.boot_s()
        self._note({"manager": who, "what": "its network manager"})
        if not manager.take_out(who, self.name):
            self._undo(len(self._opened_journal().undo) - 1)
            raise Refusal(f"{who} does not let {self.name} go: take it out of its hands, and try again.")
        state.put_back(self._netlink, before, since)

    def switch_on(self) -> None:
        """Switch it on where it is off, until everything is given back."""
        link = next((each for each in state.adapters(self._netlink) if each["index"] == self.index), None)
        if link is None or link["on"]:
            return
        off, on = (switch_message(self.index, on=each) for each in (False, True))
        self._do("the switched-off state", [(kernel.NEWLINK, off.hex())], (kernel.NEWLINK, on, kernel.CREATE))

    def borrow(self, text: str, *, instead: bool = False) -> None:
        """Put one address on it, beside what is there or instead of it."""
        interface = IPv4Interface(text)
        if any(each.split("/")[0] == str(interface.ip) for each in self.addresses()):
            raise Refusal(f"{self.name} already has {interface.ip}: there is nothing to borrow.")
        self._take_from_manager(instead=instead)
        if instead:
            self._replace()
        message = address_message(interface, self.index)
        # The next unit has the same address and another MAC: what is remembered of neighbours there is dropped.
        known = state.neighbours_in(self._netlink, self.index, interface.network)
        passing = [each for each in known if not state.is_kept(each)]
        undo = [(kernel.DELADDR, message.hex()), *((kernel.NEWNEIGH, each.hex()) for each in passing)]
        dropped = ((kernel.DELNEIGH, each, 0) for each in passing)
        self._do(str(interface), undo, (kernel.NEWADDR, message, kernel.CREATE), *dropped)

    def _replace(self) -> None:
        """Take all addresses off, once it is sure that they, and all that goes with them, can be put back."""
        kept = state.saved(self._netlink, self.index)
        for kind, text in kept:
            # Said once more now: the kernel answers that it has this one already, or what speaks against it.
            if kind == kernel.NEWROUTE and (why := self._netlink.refusal(kind, bytes.fromhex(text))):
                raise Refusal(
                    f"{self.name} has a route that could not be put back ({why}): borrow beside, not instead."
                )
        self._do("its own addresses", kept, *((kernel.DELADDR, bytes.fromhex(text), 0) for text in _addresses(kept)))

    def route(self, text: str, gateway: str) -> None:
        """Send what is for a range through a device on the cable."""
        network = IPv4Network(text)
        message = route_message(network, gateway, self.index)
        undo = [(kernel.DELROUTE, message.hex())]
        self._do(f"the route to {network}", undo, (kernel.NEWROUTE, message, kernel.CREATE | kernel.ONLY_NEW))

    def pin(self, text: str, mac: str) -> None:
        """Have an address mean one MAC address, whoever else answers for it."""
        message, one = pin_message(text, mac, self.index), IPv4Network(text)
        before = state.neighbours_in(self._netlink, self.index, one)
        undo = [(kernel.DELNEIGH, message.hex()), *((kernel.NEWNEIGH, each.hex()) for each in before)]
        self._do(f"the neighbour {text}", undo, (kernel.NEWNEIGH, message, kernel.CREATE | kernel.REPLACE))
        after = state.neighbours_in(self._netlink, self.index, one)
        if [attributes(each, NEIGHBOUR).get(2) for each in after] != [attributes(message, NEIGHBOUR)[2]]:
            raise Refusal(f"{text} does not lead to {mac} on {self.name}: another program changes its neighbours.")

    def claim(self, number: int, macs: list[str]) -> str:
        """Have a seat for a place beside it; return its MAC address, the first of these that no other run has."""
        if number in self._seats or not macs or len(self._seats) >= _MOST_PLACES:
            raise Refusal(f"There is a place {number} beside {self.name} already, or there are too many.")
        self._seats[number] = seat = Seat(self.index, self.name, macs)
        return seat.mac.hex(":")

    def enter(self, number: int) -> None:
        """Make the place that was claimed."""
        if number not in self.places:
            self.places[number] = Place(self.index, self.name, self._seats[number], self._mtu)

    def leave(self, number: int) -> list[str]:
        """Let go of a place, and keep its seat; return in words what was borrowed there."""
        return self.places.pop(number).close() if number in self.places else []

    def give_back(self, *, places: bool = True) -> tuple[list[str], list[str]]:
        """Undo everything, or what is on the adapter; return in words what was undone, and what is kept."""
        given: list[str] = [each for number in reversed(tuple(self.places)) if places for each in self.leave(number)]
        left, undo = list[str](), self._journal.undo if self._journal else []
        for place in reversed(range(len(undo))):
            what = str(undo[place]["what"])
            switches_off = any(kind == kernel.NEWLINK for kind, _ in undo[place].get("messages", ()))
            if switches_off and not self._among_runs.is_alone():
                continue  # another run needs it on: whichever ends last switches it off
            why = self._undo(place)
            (left if why else given).append(f"{what} ({why})" if why else what)
        return given, left

    def _undo(self, place: int) -> str | None:
        """Undo one change; say why it could not be, and keep its record then."""
        kept = self._opened_journal()
        undo = kept.undo[place]
        why = manager.give_back(undo["manager"], self.name) if "manager" in undo else self._sent_back(undo)
        if why is None:
            kept.done(place)
        return why

    def _sent_back(self, undo: dict[str, Any]) -> str | None:
        away = [(kind, bytes.fromhex(text)) for kind, text in undo["messages"] if kind in _TAKE_AWAY]
        again = [(kind, text) for kind, text in undo["messages"] if kind not in _TAKE_AWAY]
        addresses = [message for kind, message in away if kind == kernel.DELADDR]
        # Whoever was met there, the device above all, is not remembered.
        met = [
            each for network in {IPv4Interface(state.written(each)).network for each in addresses}
            for each in state.neighbours_in(self._netlink, self.index, network) if not state.is_kept(each)
        ]  # fmt: skip
        try:
            for each in met:
                self._netlink.take_away(kernel.DELNEIGH, each)
            # With an address the kernel takes those that were added beside it meanwhile, and what hangs on them.
            beside, since = state.saved(self._netlink, self.index) if addresses else [], state.boot_s()
            for kind, message in away:
                self._netlink.take_away(kind, message)
        except OSError as error:
            return error.strerror
        mine = [attributes(message, ADDRESS).get(2) for message in addresses]
        others = [each for each in beside if each[0] != kernel.NEWADDR or state.local(each) not in mine]
        state.put_back(self._netlink, others, since)
        why = [each for each in state.put_back(self._netlink, again, undo["since"]) if each not in _NO_ADAPTER]
        return why[0] if why else None

    def close(self) -> None:
        """Let go of it, and forget whom it has met meanwhile."""
        with suppress(OSError):  # it may be gone
            for address, each in state.passing_ipv6(self._netlink, self.index).items():
                if address not in self._known_before:
                    self._netlink.take_away(kernel.DELNEIGH, each)
        if self._relay:
            os.kill(self._relay, signal.SIGKILL)
            os.waitpid(self._relay, 0)
        self._let_go_of_journal()
        if self._among_runs.leaves_last():
            with suppress(Refusal):
                self._opened_journal()
                self.give_back()
            self._let_go_of_journal()
        for seat in self._seats.values():
            seat.close()

    def _let_go_of_journal(self) -> None:
        if self._journal:
            self._journal.close()
            self._journal = None


def _addresses(messages: list[state.Message]) -> list[str]:
    return [text for kind, text in messages if kind == kernel.NEWADDR]
