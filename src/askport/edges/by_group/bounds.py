"""What a member of the group may have done on an adapter: whatever concerns one cable, and not the laptop's network."""

import contextlib
import sys
from ipaddress import IPv4Interface, IPv4Network
from pathlib import Path
from typing import Any

from askport.edges.by_group import ASKS_FOR_A_WORD
from askport.edges.by_group.member import Member
from askport.edges.keeper.__main__ import Caller
from askport.edges.keeper.refusal import Refusal
from askport.edges.kernel import rtnetlink, state

ALSO = Path("/etc/askport/also-wired")
"""Names of adapters, a line each, that root lets be used though they are not wired: made ones, for tests."""
_CHANGES = frozenset({"borrow", "pin", "route", "claim", "enter", "switch-on"})
_USES = _CHANGES - {"claim"} | {"speak"}
"""What one user alone does on an adapter; any number may listen there."""
_MOST_CHANGES = 1000
"""Between two times of giving everything back; each takes room in the kernel or in the journal."""
_WARNING = "<4>"  # sd-daemon(3)
_SYS, _RESOLVERS = Path("/sys/class/net"), Path("/etc/resolv.conf")
_PRIVATE = tuple(map(IPv4Network, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16")))
"""RFC 1918 section 3, and link-local addresses (RFC 3927)."""


class Bounded(Caller):
    """A member of the group, who may use one wired adapter."""

    def __init__(self, member: Member) -> None:
        self._member, self._changes, self._has_adapter, self._has_it_alone = member, 0, False, False

    def permit(self, request: dict[str, Any]) -> None:
        """See that a member may have this done.

        Raises:
            Refusal: a member may not.
        """
        if not self._has_adapter:
            self._admit(str(request["adapter"]), str(request.get("word", "")))
            self._has_adapter = True
            return
        verb = request.get("verb")
        self._changes = 0 if verb == "give-back" else self._changes + (verb in _CHANGES)
        if self._changes > _MOST_CHANGES:
            raise Refusal("That is more than one run of Ask Port does: start it anew.", "too-many")
        if verb in _USES and not self._has_it_alone:
            self._member.have(self._name, self._index)
            self._has_it_alone = True
        if "place" not in request:
            self._on_the_adapter(request)

    def _admit(self, name: str, word: str) -> None:
        with rtnetlink.Kernel() as netlink:
            index = next((int(each["index"]) for each in state.adapters(netlink) if each["name"] == name), None)
            if index is None:
                raise Refusal(f"There is no adapter '{name}': 'askport adapters' lists them.")
            if why := _not_wired(name):
                raise Refusal(f"{name} is {why}: a member of the group may use wired adapters only.", "not-wired")
            if word != name and state.has_default_route(netlink, index):
                why = f"The laptop's way to other networks goes over {name}: it is used only if you type its name."
                raise Refusal(why, ASKS_FOR_A_WORD)
        self._name, self._index = name, index

    def _on_the_adapter(self, request: dict[str, Any]) -> None:
        """Let nothing be borrowed there, or routed, by which the laptop's own traffic could be had."""
        wanted: IPv4Network | None = None
        if request.get("verb") == "borrow":
            interface = IPv4Interface(str(request["address"]))
            wanted = interface.network
            ends = (wanted.network_address, wanted.broadcast_address)
            if wanted.prefixlen < 31 and interface.ip in ends:
                raise Refusal(f"{interface} is no address of a host: name another one.", "no-host")
        elif request.get("verb") == "route":
            wanted = IPv4Network(str(request["to"]))
        if wanted is None:
            return
        remedy = "leave --on-adapter out, or start Ask Port with sudo."
        if not any(wanted.subnet_of(each) for each in _PRIVATE):
            raise Refusal(f"{wanted} is not a private range: {remedy}", "not-private")
        with rtnetlink.Kernel() as netlink:
            own = [*state.networks_beside(netlink, self._index), *_name_servers()]
        if mine := next((each for each in own if each.overlaps(wanted)), None):
            raise Refusal(f"{wanted} reaches into {mine}, which is the laptop's own: {remedy}", "own-network")

    def refused(self, error: Exception) -> dict[str, Any]:
        """Return what it is told, which goes to the system's log too."""
        told = super().refused(error)
        note(self._member.name, told["error"])
        return told


def _name_servers() -> list[IPv4Network]:
    """Return whom the laptop asks for names (resolv.conf(5)); those that are no IPv4 address are none here."""
    found = []
    with contextlib.suppress(OSError):
        for line in _RESOLVERS.read_text(errors="replace").splitlines():
            with contextlib.suppress(ValueError, IndexError):
                found += [IPv4Network(line.split()[1])] if line.startswith("nameserver") else []
    return found


def note(who: str, why: str) -> None:
    """Write a refusal to the system's log; what somebody else wrote does not get a line of its own there."""
    sys.stderr.write(f"{_WARNING}refused to {who}: {ascii(why)[1:-1]}\n")
    sys.stderr.flush()


def _not_wired(name: str) -> str:
    """Say what an adapter is that no cable goes into, or nothing where one does."""
    if ALSO.exists() and name in ALSO.read_text().split():
        return ""
    if (_SYS / name / "wireless").exists() or (_SYS / name / "phy80211").exists():
        return "wireless"
    return "" if (_SYS / name / "device").exists() else "made by software"
