"""Where the laptop stands while it talks to a device: beside the adapter, or on it.

Beside it, the laptop has a MAC address and addresses of its own in a namespace that only the keeper holds: nothing of
the laptop changes, and nothing of the laptop (routes, firewall, managers, another adapter) is in the way. Where the
kernel or the adapter has no second MAC address, or a device answers the adapter's own only, it is on the adapter.
"""

import asyncio
import socket
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import count
from typing import Self

from askport.core.addresses import MacAddress
from askport.core.errors import MachineRefused
from askport.core.phrases import phrase
from askport.edges import keeper_client, streams
from askport.edges.transports.tcp_socket import OverAdapter

ADAPTER_TAKEN = "adapter-taken"


class Footing:
    """One place to talk from, on one cable."""

    def __init__(self, keeper: keeper_client.Keeper, *, on_adapter: bool = False) -> None:
        """Stand beside the adapter of a keeper, in its first place there, or on it from the start as the user asks."""
        self.adapter, self.keeper, self.place = keeper.adapter, keeper, 0
        self.wire, self.own = keeper.wire, keeper.own
        """The cable, and the adapter's own addresses."""
        self.beside: MacAddress | None = None if on_adapter else keeper.beside
        """Whom the laptop is beside the adapter, or None where it stands on it."""
        self._is_in = False
        self._why = ""
        """Why the place cannot be had, until it is told."""
        self._further = count(1)
        self.scope = socket.if_nametoindex(self.adapter)
        """The scope of link-local IPv6 addresses here."""
        self._entering = asyncio.Lock()

    @property
    def mac(self) -> MacAddress:
        """The MAC address that the laptop talks from now: the adapter's own until something is borrowed beside it."""
        return self.beside if self.beside and self._is_in else self.keeper.mac

    @property
    def where(self) -> str:
        """Where it stands, in words."""
        return f"{'beside' if self.beside else 'on'} {self.adapter}"

    async def another(self) -> tuple["Footing", streams.Streams]:
        """Return one more place beside the adapter, with its channels.

        Raises:
            MachineRefused: there are too many.
        """
        made = Footing(self.keeper)
        made.place = next(self._further)
        made.beside = await self.keeper.claim(made.place)
        return made, streams.Streams(made, self.wire.wake)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.keeper.close()

    async def _enter(self) -> None:
        """Make the place, if it is not there; where it cannot be had, stand on the adapter from now on."""
        async with self._entering:
            if self.beside is None or self._is_in:
                return
            try:
                await self.keeper.enter(self.place)
            except MachineRefused as error:
                if error.code != "no-place":
                    raise
                self._stand_on_adapter()
                self._why = phrase("{message} The temporary address goes on the adapter.", message=error.message)
                return
            self._is_in = True

    def _stand_on_adapter(self) -> None:
        """Be the one that stands there, until everything is given back."""
        if self.keeper.on_adapter not in (None, self):
            raise MachineRefused("The adapter is in use for another unit; this one waits its turn.", code=ADAPTER_TAKEN)
        self.keeper.on_adapter, self.beside = self, None

    async def _require_place(self) -> None:
        """Be beside the adapter, or on it and nobody else with it.

        Raises:
            MachineRefused: somebody else is on it.
        """
        await self._enter()
        if self.beside is None:
            self._stand_on_adapter()

    @property
    def _place(self) -> int | None:
        return None if self.beside is None else self.place

    async def borrow(self, interface: IPv4Interface, *, on_adapter: bool = False) -> str:
        """Take an address; return why it is on the adapter and not beside it, or nothing.

        Raises:
            MachineRefused: there is no link, or it is there already, or the kernel would not, or somebody else is on
                the adapter.
        """
        keeper_client.require_link(self.keeper)
        if on_adapter and self.beside:
            await self.give_back()
            self._stand_on_adapter()
        await self._require_place()
        await self.keeper.borrow(interface, place=self._place)
        why, self._why = self._why, ""
        return why

    async def pin(self, address: IPv4Address, mac: MacAddress) -> None:
        """Have an address mean one MAC address, until everything is given back.

        Raises:
            MachineRefused: the kernel would not.
        """
        await self._require_place()
        await self.keeper.pin(address, mac, place=self._place)

    async def route(self, network: IPv4Network, gateway: IPv4Address) -> None:
        """Send what is for a range through a device on the cable.

        Raises:
            MachineRefused: the kernel would not.
        """
        await self.keeper.route(network, gateway, place=self._place)

    async def addresses(self) -> list[IPv4Interface]:
        """Return the addresses that the laptop can talk from now.

        Raises:
            MachineRefused: the adapter has vanished.
        """
        if self.beside and not self._is_in:
            return []
        return [IPv4Interface(each) for each in await self.keeper.addresses(place=self._place)]

    async def give_back(self) -> None:
        """Take away again exactly what was borrowed.

        Raises:
            MachineRefused: something could not be given back; it is kept, and said.
        """
        if self._is_in:
            self._is_in = False
            await self.keeper.leave(self.place)
        stands_there = self.keeper.on_adapter is self
        if stands_there or (not self.place and self.keeper.on_adapter is None):
            await self.keeper.give_back(on_adapter=stands_there)
            self.keeper.on_adapter = None

    async def speak_ipv6(self) -> None:
        """Have the laptop speak IPv6 from here; on the adapter it does so where it is set up for that.

        Raises:
            MachineRefused: the kernel has no IPv6.
        """
        await self._enter()
        if self._is_in:
            self.scope = await self.keeper.speak_ipv6(self.place)

    async def open_socket(self, family: int) -> socket.socket:
        """Return a TCP socket that goes over this cable and over nothing else, connected to nothing yet.

        Raises:
            MachineRefused: the keeper does not give one.
            OSError: the kernel would not.
        """
        if family == socket.AF_INET6:
            await self.speak_ipv6()
        if self.beside and self._is_in:
            return await self.keeper.open_socket(self.place, family)
        return await OverAdapter(self.adapter).open_socket(family)

    async def namespace(self) -> int | None:
        """Return a descriptor of the network namespace that it stands in, or None where that is the laptop's own.

        Raises:
            MachineRefused: the keeper does not give it.
        """
        await self._enter()
        return await self.keeper.namespace(self.place) if self._is_in else None
