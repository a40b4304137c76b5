"""The program's side of the keeper: starts it, drops to the invoking user, and asks it for things."""

import asyncio
import contextlib
import json
import os
import select
import socket
import subprocess
import time
from importlib import import_module
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any

from askport.bell import Bell
from askport.core.addresses import MacAddress
from askport.core.errors import MachineRefused
from askport.core.phrases import listed
from askport.core.reach.beside import own_macs
from askport.edges import keeper_start, log, packet_filter, packet_wire

Detail = str | bool | int | list[str] | None
Details = dict[str, Detail]
_MAX_ANSWER = 65_536
_ANSWER_WAIT_S = 30.0
"""A keeper that takes longer is not working; one that has ended is seen at once. Changing an address takes
milliseconds, but a network manager may be asked several times, 5 s each, and a namespace takes its time to end."""


_EARLY_S = 0.5
"""How soon an answer is seen that was taken in for somebody else."""


class Keeper:
    """A keeper for the one adapter that it is told, as a context manager: on leaving, everything is given back."""

    def __init__(self) -> None:
        """Start a keeper that takes its adapter later, when the program may no longer start one.

        Raises:
            MachineRefused: no permission.
        """
        self.adapter = ""
        self._number = 0
        self._turn = asyncio.Lock()
        self._awaited: set[int] = set()
        self._early: dict[int, tuple[dict[str, Any], list[int]]] = {}
        """Answers that were taken in while another one was waited for."""
        self._control, self._process = keeper_start.start()

    def take(self, adapter: str, word: str = "") -> "Keeper":
        """Take an adapter, the only one from now on.

        Args:
            word: its name once more, said by a person who was asked whether that of the default route is meant.

        Raises:
            MachineRefused: there is no such adapter, another has it, or the caller may not.
        """
        self.adapter = adapter
        with contextlib.suppress(OSError):  # the answer, or its absence, tells
            self._control.send(json.dumps({"verb": "take", "adapter": adapter, "word": word}).encode())
        # Loaded while the keeper starts on the other core; whoever opens a cable looks at the adapters next.
        log.begin()
        log.event("keeper: take", adapter=adapter)
        import_module("askport.edges.adapters")
        try:
            self._await(None)
            facts, descriptors = self._ask_now("open", filter=packet_filter.assemble().hex())
        except MachineRefused as error:
            self.close()
            if error.code == "keeper-gone":  # before it had anything
                text = "The keeper would not start: there may be too many. 'journalctl -t askport-keeper' says why."
                raise MachineRefused(text, code=error.code) from None
            raise
        self.mac = MacAddress.parse(facts["mac"])
        self.own = tuple(IPv4Interface(each) for each in facts["addresses"])
        """The adapter's addresses before anything was borrowed."""
        self.restored = tuple(str(each) for each in facts["restored"])
        """What an earlier run had left borrowed, and this start gave back."""
        self.left = tuple(str(each) for each in facts["left"])
        """What an earlier run had left borrowed, and could not be given back."""
        self.switched_on = bool(facts["switched_on"])
        self.wire = packet_wire.PacketWire(adapter, own_macs(self.mac), socket.socket(fileno=descriptors[0]))
        self.wire.require_kept = self.require_alive
        self.wire.require_allowed = lambda: self._ask_now("speak")
        self.beside = MacAddress.parse(self._ask_now("claim", place=0, macs=self._seats())[0]["mac"])
        """Whom the laptop is beside the adapter, in its first place there."""
        self.on_adapter: object = None
        """Who stands on the adapter itself: what is pinned there is one's alone, or an address would mean two units."""
        return self

    # One request, and its answer by its number: one that comes too late for an earlier request is nobody's any more

    def _send(self, verb: str, details: Details) -> int:
        self._number += 1
        details = {key: value for key, value in details.items() if value is not None}
        told = {key: value for key, value in details.items() if key not in ("filter", "macs")}
        log.event(f"keeper: {verb}", adapter=self.adapter, id=self._number, **told)
        with contextlib.suppress(OSError):  # the answer, or its absence, tells
            self._control.send(json.dumps({"verb": verb, "id": self._number, **details}).encode())
        return self._number

    def _receive(self) -> tuple[dict[str, Any], list[int]]:
        """Take one answer that has come.

        Raises:
            BlockingIOError: none has.
            MachineRefused: the keeper has ended.
        """
        try:
            data, descriptors, _, _ = socket.recv_fds(self._control, _MAX_ANSWER, 1)
        except BlockingIOError:
            raise
        except OSError:
            # One that ended before it had read all says that first, and what it had said behind it (unix(7)).
            try:
                data, descriptors, _, _ = socket.recv_fds(self._control, _MAX_ANSWER, 1)
            except OSError:
                data, descriptors = b"", []
        if not data:
            raise self._gone()
        return json.loads(data), list(descriptors)

    def _is_for(self, number: int | None, answer: dict[str, Any], descriptors: list[int]) -> bool:
        """Whether this answers the request; where it does and is a refusal, say that."""
        if answer.get("id") != number:
            if answer.get("id") in self._awaited:
                self._early[answer["id"]] = answer, descriptors  # asked for meanwhile by somebody else
                return False
            for each in descriptors:
                os.close(each)
            return False
        if "error" in answer:
            log.wrong("keeper refuses", adapter=self.adapter, id=number, because=answer["error"])
            raise MachineRefused(str(answer["error"]), code=str(answer.get("code", "")))
        return True

    def _await(self, number: int | None) -> tuple[dict[str, Any], list[int]]:
        deadline = time.monotonic() + _ANSWER_WAIT_S
        while (left := deadline - time.monotonic()) > 0:
            if select.select([self._control], [], [], left)[0]:
                answer, descriptors = self._receive()
                if self._is_for(number, answer, descriptors):
                    return answer, descriptors
        raise self._silent()

    def _ask_now(self, verb: str, **details: Detail) -> tuple[dict[str, Any], list[int]]:
        return self._await(self._send(verb, details))

    async def _ask(self, verb: str, **details: Detail) -> dict[str, Any]:
        """Ask while everything else goes on."""
        return (await self._ask_for(verb, **details))[0]

    async def _ask_for(self, verb: str, **details: Detail) -> tuple[dict[str, Any], list[int]]:
        """Ask for something that is handed over."""
        async with self._turn:
            number, bell = self._send(verb, details), Bell()
            self._awaited.add(number)
            loop, deadline = asyncio.get_running_loop(), time.monotonic() + _ANSWER_WAIT_S
            loop.add_reader(self._control, bell.ring)
            try:
                while (left := deadline - time.monotonic()) > 0:
                    with contextlib.suppress(BlockingIOError):
                        answer, descriptors = self._early.pop(number) if number in self._early else self._receive()
                        if self._is_for(number, answer, descriptors):
                            return answer, descriptors
                        continue
                    await bell.wait(min(left, _EARLY_S))
            finally:
                loop.remove_reader(self._control)
                self._awaited.discard(number)
        raise self._silent()

    def _silent(self) -> MachineRefused:
        return MachineRefused(
            "The keeper of {adapter} does not answer: end Ask Port, and run 'askport restore'.",
            adapter=self.adapter,
            code="keeper-silent",
        )

    # What is borrowed is on the adapter, or in a place beside it where one is named by its number

    def _seats(self) -> list[str]:
        return [str(each) for each in own_macs(self.mac)[1:]]

    async def claim(self, place: int) -> MacAddress:
        """Return a MAC address for one more place beside the adapter, which no other run of Ask Port has.

        Raises:
            MachineRefused: all are taken.
        """
        return MacAddress.parse((await self._ask("claim", place=place, macs=self._seats()))["mac"])

    async def enter(self, place: int) -> None:
        """Make a place beside the adapter that was claimed.

        Raises:
            MachineRefused: kernel or adapter would not (its code is ``no-place`` then).
        """
        await self._ask("enter", place=place)

    async def leave(self, place: int) -> None:
        """Let go of a place, with all that was borrowed there."""
        log.event("keeper: left", adapter=self.adapter, given=(await self._ask("leave", place=place))["given"])

    async def speak_ipv6(self, place: int) -> int:
        """Have a place speak IPv6 by a link-local address; return the scope of such addresses there.

        Raises:
            MachineRefused: the kernel has no IPv6.
        """
        return int((await self._ask("ipv6", place=place))["scope"])

    async def open_socket(self, place: int, family: int) -> socket.socket:
        """Return a TCP socket of a place, connected to nothing.

        Raises:
            MachineRefused: there is no such place.
        """
        _, (descriptor,) = await self._ask_for("socket", place=place, family=family, kind=socket.SOCK_STREAM)
        return socket.socket(fileno=descriptor)

    async def namespace(self, place: int) -> int:
        """Return a descriptor of a place's network namespace, which lives as long as it is open.

        Raises:
            MachineRefused: there is no such place.
        """
        return (await self._ask_for("namespace", place=place))[1][0]

    async def borrow(self, interface: IPv4Interface, *, instead: bool = False, place: int | None = None) -> None:
        """Take an address, beside those that are there or instead of them.

        Raises:
            MachineRefused: it is there already, or the kernel would not.
        """
        await self._ask("borrow", address=str(interface), instead=instead, place=place)

    async def pin(self, address: IPv4Address, mac: MacAddress, *, place: int | None = None) -> None:
        """Have an address mean one MAC address, until it is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        await self._ask("pin", address=str(address), mac=str(mac), place=place)

    async def route(self, network: IPv4Network, gateway: IPv4Address, *, place: int | None = None) -> None:
        """Send what is for a range through a device on the cable, until it is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        await self._ask("route", to=str(network), via=str(gateway), place=place)

    async def addresses(self, *, place: int | None = None) -> list[str]:
        """Return the addresses as they are now.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        return [str(each) for each in (await self._ask("addresses", place=place))["addresses"]]

    async def give_back(self, *, on_adapter: bool = False) -> None:
        """Take away again exactly what was borrowed, or what was borrowed on the adapter only.

        Raises:
            MachineRefused: something could not be given back; it is kept, and said.
        """
        self._require_all(await self._ask("give-back", on_adapter=on_adapter or None))

    def give_back_now(self) -> list[str]:
        """Give everything back before the end, and return in words what the keeper confirms.

        Raises:
            MachineRefused: the keeper does not confirm it, or something could not be given back.
        """
        answer, _ = self._ask_now("give-back")
        self._require_all(answer)
        return [str(each) for each in answer["given"]]

    def switch_on(self) -> None:
        """Switch the adapter on, until everything is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        self._ask_now("switch-on")
        self.switched_on = True

    def _require_all(self, answer: dict[str, Any]) -> None:
        log.event("keeper: gave back", adapter=self.adapter, given=answer["given"], left=answer["left"])
        if answer["left"]:
            raise MachineRefused(
                "Not given back on {adapter}: {left}. 'askport restore' tries again.",
                adapter=self.adapter,
                left=listed(answer["left"]),
                code="not-given-back",
            )

    def _gone(self) -> MachineRefused:
        return MachineRefused(
            "The keeper of {adapter} has ended: run 'askport restore' to give back what was borrowed.",
            adapter=self.adapter,
            code="keeper-gone",
        )

    def require_alive(self) -> None:
        """See that the keeper is there.

        Raises:
            MachineRefused: it has ended.
        """
        if not self.is_alive:
            raise self._gone()

    @property
    def is_alive(self) -> bool:
        """Whether the keeper is still there to give things back: its end of the socket is open as long as it runs."""
        if self._process and self._process.poll() is not None:
            return False
        try:
            return bool(self._control.recv(1, socket.MSG_PEEK | socket.MSG_DONTWAIT))
        except BlockingIOError:
            return True
        except OSError:
            return False

    def close(self) -> None:
        """Let go: the keeper gives everything back and ends."""
        with contextlib.suppress(OSError):
            self._control.shutdown(socket.SHUT_WR)
            self._control.settimeout(_ANSWER_WAIT_S)
            while self._control.recv(_MAX_ANSWER):  # answers that nobody waits for any more; then its end
                pass
        self._control.close()
        if self._process:
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._process.wait(_ANSWER_WAIT_S)
        if hasattr(self, "wire"):
            self.wire.close()

    def __enter__(self) -> "Keeper":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def require_switched_on(keeper: Keeper) -> None:
    """Refuse to go on with an adapter that is switched off.

    Raises:
        MachineRefused: it is.
    """
    if not keeper.switched_on:
        raise MachineRefused(
            "{adapter} is switched off: switch it on with 'sudo ip link set {adapter} up'.",
            adapter=keeper.adapter,
            code="link-down",
        )


def require_link(keeper: Keeper) -> None:
    """Refuse to go on with an adapter that carries no signal.

    Raises:
        MachineRefused: it is switched off or has no link.
    """
    require_switched_on(keeper)
    if not keeper.wire.link().up:
        raise MachineRefused(
            "{adapter} has no link: plug the cable in at both ends and give the device power.",
            adapter=keeper.adapter,
            code="link-down",
        )


class Spare:
    """Keepers to be had later: started beforehand by root, who gives that right up, or else when they are wanted."""

    def __init__(self, beforehand: int) -> None:
        """Start so many now where this process is root.

        Raises:
            MachineRefused: no permission.
        """
        if why := keeper_start.no_rights():
            raise MachineRefused(why, code="no-permission")
        self._started = [Keeper() for _ in range(beforehand)] if os.geteuid() == 0 else None

    def __bool__(self) -> bool:
        return self._started is None or bool(self._started)

    def pop(self) -> Keeper:
        """Return one that nobody has.

        Raises:
            MachineRefused: none can be had any more.
        """
        return Keeper() if self._started is None else self._started.pop()

    def close(self) -> None:
        """Let go of those that nobody had."""
        for each in self._started or []:
            each.close()
