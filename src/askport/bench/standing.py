"""Where the laptop stands on the bench: its addresses there, whom an address means, and whom the laptop is."""

from abc import abstractmethod
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import MacAddress
from askport.core.reach.beside import beside_mac


class Standing:
    """One place beside the bench's adapter, or the adapter itself with what it has of its own."""

    def __init__(self, adapter: MacAddress, place: int, own: tuple[IPv4Interface, ...] = ()) -> None:
        self.place = place
        self.beside: MacAddress | None = beside_mac(adapter, place)
        """Whom the laptop is beside its adapter; None to have it borrow on the adapter."""
        self.own, self.interfaces = own, list(own)
        self.speaks_ipv6 = False
        self.pinned: MacAddress | None = None
        """Whom the laptop's neighbour entry for the device's address names."""

    @abstractmethod
    def require_nobodys(self, interface: IPv4Interface) -> None:
        """See that no place has an address already.

        Raises:
            MachineRefused: one has.
        """

    @property
    def talking(self) -> list[IPv4Interface]:
        """The addresses that the laptop talks from."""
        return [each for each in self.interfaces if self.beside is None or each not in self.own]

    async def borrow(self, interface: IPv4Interface, *, on_adapter: bool = False) -> str:
        """Take an address here."""
        self.beside = None if on_adapter else self.beside
        self.require_nobodys(interface)
        self.interfaces.append(interface)
        return ""

    async def speak_ipv6(self) -> None:
        """Have a link-local address here."""
        self.speaks_ipv6 = True

    async def pin(self, address: IPv4Address, mac: MacAddress) -> None:
        """Have the device's address mean one MAC address here."""
        self.pinned = mac

    async def give_back(self) -> None:
        """Take every borrowed address away again, and every pin."""
        self.pinned, self.speaks_ipv6 = None, False
        self.interfaces[:] = self.own
