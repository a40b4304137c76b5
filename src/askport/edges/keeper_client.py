"""The program's side of the keeper: starts it, drops to the invoking user, and asks it for things."""

import contextlib
import json
import os
import pwd
import socket
import subprocess
import sys
from importlib import import_module
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any

from askport.core.addresses import MacAddress
from askport.core.errors import MachineRefused
from askport.edges.packet_filter import assemble
from askport.edges.packet_wire import PacketWire

_MAX_ANSWER = 65_536
_ANSWER_WAIT_S = 10.0
"""A keeper that takes longer is not working; changing an address takes milliseconds."""


class Keeper:
    """A keeper for the one adapter that it is told, as a context manager: on leaving, everything is given back."""

    def __init__(self) -> None:
        """Start a keeper that takes its adapter later, when the program may no longer start one.

        Raises:
            MachineRefused: no permission.
        """
        if os.geteuid() != 0:
            raise MachineRefused("No permission to use an adapter: start Ask Port with sudo.", code="no-permission")
        self.adapter = ""
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        ours.settimeout(_ANSWER_WAIT_S)
        self._control = ours
        # A session of its own keeps it out of the reach of the terminal's signals.
        self._process = subprocess.Popen(  # noqa: S603 - our own module, by our own interpreter
            [sys.executable, "-I", "-m", "askport.edges.keeper", str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            cwd="/",
        )
        theirs.close()

    def take(self, adapter: str) -> "Keeper":
        """Take an adapter, the only one from now on.

        Raises:
            MachineRefused: there is no such adapter, or another run has it.
        """
        self.adapter = adapter
        with contextlib.suppress(OSError):  # the answer, or its absence, tells
            self._control.send(json.dumps({"verb": "take", "adapter": adapter}).encode())
        # Loaded while the keeper starts on the other core; whoever opens a cable looks at the adapters next.
        import_module("askport.edges.adapters")
        try:
            self._answer()
        except MachineRefused:
            self.close()
            raise
        facts, descriptors = self._ask("open", filter=assemble().hex())
        self.mac = MacAddress.parse(facts["mac"])
        self.own = tuple(IPv4Interface(each) for each in facts["addresses"])
        """The adapter's addresses before anything was borrowed."""
        self.restored = tuple(str(each) for each in facts["restored"])
        """What an earlier run had left borrowed, and this start gave back."""
        self.switched_on = bool(facts["on"])
        self.wire = PacketWire(adapter, self.mac, socket.socket(fileno=descriptors[0]))
        return self

    def _answer(self) -> tuple[dict[str, Any], list[int]]:
        try:
            data, descriptors, _, _ = socket.recv_fds(self._control, _MAX_ANSWER, 1)
        except TimeoutError:
            raise MachineRefused("The keeper does not answer: end Ask Port and run 'askport restore'.") from None
        except OSError:
            data, descriptors = b"", []
        if not data:
            text = f"The keeper of {self.adapter} has ended: run 'askport restore' to give back what was borrowed."
            raise MachineRefused(text, code="keeper-gone")
        answer: dict[str, Any] = json.loads(data)
        if "error" in answer:
            raise MachineRefused(str(answer["error"]))
        return answer, descriptors

    def _ask(self, verb: str, **details: str | bool) -> tuple[dict[str, Any], list[int]]:
        with contextlib.suppress(OSError):  # the answer, or its absence, tells
            self._control.send(json.dumps({"verb": verb, **details}).encode())
        return self._answer()

    async def borrow(self, interface: IPv4Interface, *, instead: bool = False) -> None:
        """Put an address on the adapter, beside what is there or instead of it.

        Raises:
            MachineRefused: it has no link, or has the address already, or the kernel would not.
        """
        require_link(self)
        self._ask("borrow", address=str(interface), instead=instead)

    async def pin(self, address: IPv4Address, mac: MacAddress) -> None:
        """Have an address mean one MAC address on this adapter, until it is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        self._ask("pin", address=str(address), mac=str(mac))

    def route(self, network: IPv4Network, gateway: IPv4Address) -> None:
        """Send what is for a range through a device on the cable, until it is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        self._ask("route", to=str(network), via=str(gateway))

    def addresses(self) -> list[str]:
        """Return the addresses on the adapter as they are now.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        return [str(each) for each in self._ask("addresses")[0]["addresses"]]

    async def give_back(self) -> None:
        """Take away again exactly what was borrowed."""
        self._ask("give-back")

    @property
    def is_alive(self) -> bool:
        """Whether the keeper is still there to give things back."""
        return self._process.poll() is None

    def close(self) -> None:
        """Let go: the keeper gives everything back and ends."""
        self._control.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(_ANSWER_WAIT_S)
        if hasattr(self, "wire"):
            self.wire.close()

    def __enter__(self) -> "Keeper":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def require_link(keeper: Keeper) -> None:
    """Refuse to go on with an adapter that carries no signal.

    Raises:
        MachineRefused: it is switched off or has no link.
    """
    name = keeper.adapter
    if not keeper.switched_on:
        raise MachineRefused(f"{name} is switched off: switch it on with 'ip link set {name} up'.", code="link-down")
    if not keeper.wire.link().up:
        text = f"{name} has no link: plug the cable in at both ends and give the device power."
        raise MachineRefused(text, code="link-down")


def drop_to_invoker() -> None:
    """Go on as the user who called sudo, for good; as plain root there is nobody to drop to."""
    if os.geteuid() != 0 or "SUDO_UID" not in os.environ:
        return
    user, group = int(os.environ["SUDO_UID"]), int(os.environ.get("SUDO_GID", os.environ["SUDO_UID"]))
    with contextlib.suppress(KeyError):
        os.environ["HOME"] = pwd.getpwuid(user).pw_dir
    os.setgroups([])
    os.setresgid(group, group, group)
    os.setresuid(user, user, user)
