"""The laptop at its end of the cable: the addresses it has and has borrowed, and what is dangerous about it."""

from collections.abc import Collection, Iterable
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import MacAddress
from askport.core.hazard import Hazard
from askport.core.phrases import listed, phrase
from askport.core.reach.beside import own_macs
from askport.core.reach.in_the_way import Adapter, cable_hazards

NEWS = frozenset({"address-taken", "slept", "no-adapter"})
"""Hazards that are events: whatever the technician is at, they matter now."""
ON_ADAPTER_ONLY = frozenset({"overlapping-subnet", "better-route", "address-taken", "firewall"})
"""Hazards that are none for what is borrowed beside the adapter."""
_AGAIN_S = 60.0
"""How often what another program takes off is put back; more often would be a fight."""
_SLEEP_IS_SAID_S = 60.0
_NOTICEABLE_SLEEP_S = 2.0


class Laptop:
    """What the laptop is on one adapter, and beside it.

    Beside the adapter it has a MAC address and addresses of its own, and of the adapter's it uses none: what stands in
    the way there (routes, firewalls, managers, other adapters) does not matter then.
    """

    def __init__(
        self, adapter: str, mac: MacAddress, own: Collection[IPv4Interface], *, beside: MacAddress | None = None,
        place: int = 0,
    ) -> None:  # fmt: skip
        """Begin with what the adapter has of its own.

        Args:
            beside: the MAC address beside it, or None where the laptop borrows on the adapter.
            place: which place beside it, where several are used at once.
        """
        self.place = place
        self.adapter, self.own = adapter, tuple(own)
        self._mac, self._beside = mac, beside
        self.why_on_adapter = ""
        """Why it borrows on the adapter though it was to borrow beside it."""
        self.hazards: list[Hazard] = []
        """What is dangerous about the laptop itself; whoever can see the laptop keeps it up to date."""
        self.pinned: dict[IPv4Address, MacAddress] = {}
        """Addresses that the kernel was told to take for one MAC address."""
        self.forwards = False
        """Whether it passes on what comes in from the cable for somebody else."""
        self._taken_at: dict[IPv4Interface, float] = {}
        self._put_back_at: dict[IPv4Interface, float] = {}
        self.speaks_ipv6 = False
        """Whether it has an IPv6 address of its own beside the adapter now."""
        self._woke: tuple[float, float] | None = None

    @property
    def borrowed(self) -> list[IPv4Interface]:
        """The addresses that are borrowed, in the order in which they were."""
        return list(self._taken_at)

    @property
    def borrowed_at(self) -> float | None:
        """Since when something is borrowed."""
        return min(self._taken_at.values(), default=None)

    @property
    def is_beside(self) -> bool:
        """Whether what it borrows is beside the adapter, and not on it."""
        return self._beside is not None

    @property
    def where(self) -> str:
        """Where it borrows, in words."""
        return phrase("beside {adapter}" if self.is_beside else "on {adapter}", adapter=self.adapter)

    @property
    def beside_in_use(self) -> MacAddress | None:
        """The MAC address beside the adapter while the laptop talks from there, else None."""
        return self._beside if self._taken_at or self.speaks_ipv6 else None

    @property
    def borrows_as(self) -> MacAddress:
        """The MAC address that it talks from once something is borrowed."""
        return self._beside or self._mac

    @property
    def mac(self) -> MacAddress:
        """The MAC address that it talks from now: the one beside the adapter, once it talks from there."""
        return self.beside_in_use or self._mac

    @property
    def macs(self) -> tuple[MacAddress, ...]:
        """Every MAC address that is its own on this cable."""
        return own_macs(self._mac)

    def go_on_adapter(self, why: str) -> None:
        """Borrow on the adapter from now on, with the reason."""
        self._beside, self.why_on_adapter = None, why
        self.hazards.append(Hazard(code="on-adapter", text=why))

    @property
    def addresses(self) -> list[IPv4Interface]:
        """All its addresses, the borrowed ones first."""
        return [*self.borrowed, *self.own]

    @property
    def talking(self) -> list[IPv4Interface]:
        """The addresses that it can talk from now."""
        return self.borrowed if self.is_beside else self.addresses

    def reaching(self, address: IPv4Address) -> IPv4Interface | None:
        """Return the laptop's address that reaches another, or None."""
        return next((each for each in self.talking if address in each.network), None)

    def take(self, interface: IPv4Interface, now: float) -> bool:
        """Take in that an address was borrowed; say whether it is a new one, and not one that was put back."""
        if interface in self._taken_at:
            return False
        self._taken_at[interface] = now
        return True

    def give_all_back(self) -> list[IPv4Interface]:
        """Take in that nothing is borrowed any more, and return what was."""
        given = self.borrowed
        self._taken_at.clear()
        self._put_back_at.clear()
        self.pinned.clear()
        self.speaks_ipv6 = False
        return given

    def look(
        self,
        adapters: Iterable[Adapter],
        *,
        now: float,
        device: IPv4Address | None = None,
        way_out: str | None = None,
        slept_s: float = 0.0,
    ) -> list[IPv4Interface]:
        """See the laptop's adapters as they are now.

        Args:
            now: the wire's time when looking at them began; what was borrowed since may not be seen yet.
            device: the device's address, where it is known.
            way_out: the adapter by which the kernel would send to that address, or None where by none.
            slept_s: how long the laptop has slept since the last look, in seconds.

        Returns:
            Borrowed addresses that another program has taken off and that are to be put back now.
        """
        adapters = list(adapters)
        if slept_s > _NOTICEABLE_SLEEP_S:
            self._woke = (now, slept_s)
        here = next((each for each in adapters if each.name == self.adapter), None)
        self.forwards = bool(here and here.forwards and not self.is_beside)
        seen_there = here and not self.is_beside
        present = {each.interface for each in here.addresses} if here and seen_there else set(self.borrowed)
        missing = [each for each, at in self._taken_at.items() if each not in present and at < now]
        again = [each for each in missing if now - self._put_back_at.get(each, -_AGAIN_S) >= _AGAIN_S]
        self._put_back_at |= dict.fromkeys(again, now)
        events = self._events(now) if here else ()
        self.hazards = [*events, *cable_hazards(adapters, self.adapter, device=device, way_out=way_out)]
        if self.is_beside:
            self.hazards = [each for each in self.hazards if each.code not in ON_ADAPTER_ONLY]
        elif self.why_on_adapter:
            self.hazards.append(Hazard(code="on-adapter", text=self.why_on_adapter))
        return again

    def _events(self, now: float) -> Iterable[Hazard]:
        for interface, at in self._put_back_at.items():
            if now - at < _AGAIN_S:
                text = phrase(
                    "Another program keeps removing {interface} from {adapter}. Ask Port restores it every "
                    "minute. Stop that program.",
                    interface=interface,
                    adapter=self.adapter,
                )
                yield Hazard(code="address-taken", text=text, address=interface.ip)
        if self._woke and now - self._woke[0] < _SLEEP_IS_SAID_S:
            borrowed = (
                phrase("{borrowed} is still borrowed", borrowed=listed(self.borrowed))
                if self.borrowed
                else phrase("it is as before")
            )
            text = phrase(
                "The laptop was asleep for {woke:.0f} s, and {borrowed}. Check that the same device is still "
                "connected.",
                woke=self._woke[1],
                borrowed=borrowed,
            )
            yield Hazard(code="slept", text=text)
