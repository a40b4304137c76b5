"""MAC and IPv4 arithmetic beyond the standard library's ``ipaddress``, and reading what people type."""

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from ipaddress import AddressValueError, IPv4Address, IPv4Interface, IPv4Network, IPv6Address
from itertools import permutations

from askport.core.errors import BadInput
from askport.core.phrases import phrase
from askport.core.text import display_text, whole_number

Address = IPv4Address | IPv6Address
"""Where somebody can be talked to, by either protocol."""
UNSPECIFIED = IPv4Address("0.0.0.0")
LIMITED_BROADCAST = IPv4Address("255.255.255.255")
LINK_LOCAL = IPv4Network("169.254.0.0/16")
"""What a device takes when nobody gives it an address (RFC 3927): as found, never as left."""

_WRITTEN_MAC = re.compile(r"[0-9a-f]{12}")
_MAC_SEPARATORS = str.maketrans("", "", ":-. ")


class MacAddress(bytes):
    """A 48-bit MAC address (IEEE 802). Equal to, and hashed like, its six bytes."""

    def __new__(cls, raw: bytes) -> "MacAddress":
        """Take six bytes; any other number is a programming error."""
        if len(raw) != 6:
            raise ValueError(phrase("a MAC address has 6 bytes, not {count}", count=len(raw)))
        return super().__new__(cls, raw)

    @classmethod
    def parse(cls, text: str) -> "MacAddress":
        """Read a MAC address in any usual notation.

        Raises:
            BadInput: the text is not twelve hexadecimal digits.
        """
        digits = text.strip().lower().translate(_MAC_SEPARATORS)
        if not _WRITTEN_MAC.fullmatch(digits):
            raise BadInput(
                "'{text}' is not a MAC address: write twelve hexadecimal digits, such as 00:00:5e:00:53:10.",
                text=display_text(text, 60),
            )
        return cls(bytes.fromhex(digits))

    @property
    def is_group(self) -> bool:
        """Whether it names a group (multicast or broadcast) and so cannot be a sender."""
        return bool(self[0] & 1)

    @property
    def is_local(self) -> bool:
        """Whether it was made up locally instead of by a maker, so that its first bytes name nobody."""
        return bool(self[0] & 2)

    def __str__(self) -> str:
        return self.hex(":")

    def __repr__(self) -> str:
        return f"MacAddress({self})"


@lru_cache(maxsize=4096)
def mac_of(packed: bytes) -> MacAddress:
    """Return the MAC address in six bytes; a wire has few, and each is made once."""
    return MacAddress(packed)


@lru_cache(maxsize=4096)
def address_of(packed: bytes) -> IPv4Address:
    """Return the IPv4 address in four bytes; those on a wire are few, and each is made once."""
    return IPv4Address(packed)


@lru_cache(maxsize=4096)
def addresses_of(packed: bytes) -> tuple[IPv4Address, ...]:
    """Return the IPv4 addresses that stand in a row, four bytes each."""
    return tuple(address_of(packed[at : at + 4]) for at in range(0, len(packed), 4))


BROADCAST_MAC = MacAddress(b"\xff" * 6)
NO_MAC = MacAddress(bytes(6))


def _padded_octets(text: str) -> str | None:
    """Return the plain decimal writing of an address with zero-padded octets, or None if it is not one."""
    parts = text.split(".")
    octets = [each for part in parts if (each := whole_number(part, 0, 255)) is not None]
    plain = ".".join(map(str, octets))
    return plain if len(parts) == len(octets) == 4 and plain != text else None


@lru_cache(maxsize=1024)  # a plan names the same gateway in ten thousand lines
def parse_address(text: str, what: str = "address") -> IPv4Address:
    """Read one IPv4 address.

    Raises:
        BadInput: it is not one; zero-padded octets are refused because some devices read them as octal.
    """
    shown = display_text(text, 60)
    plain = _padded_octets(text)
    if plain:
        raise BadInput(
            "'{shown}' has a zero-padded octet, which is decimal to some devices and octal to others: write {plain}.",
            shown=shown,
            plain=plain,
        )
    try:
        return IPv4Address(text.strip())
    except AddressValueError:
        too_large = [
            part for part in text.split(".") if part.isascii() and part.isdigit() and whole_number(part, 0, 255) is None
        ]
        why = (
            phrase("its part {too_large} is over 255", too_large=too_large[0][:12])
            if too_large
            else phrase("write one like 10.84.16.40")
        )
        raise BadInput("'{shown}' is not an IPv4 {what}: {why}.", shown=shown, what=what, why=why) from None


def prefix_of_mask(mask: IPv4Address) -> int | None:
    """Return the prefix length of a contiguous subnet mask, or None where the mask is not contiguous."""
    host = ~int(mask) & 0xFFFF_FFFF
    return 32 - host.bit_length() if host & (host + 1) == 0 else None


def mask_of_prefix(prefix: int) -> IPv4Address:
    """Return the subnet mask with ``prefix`` leading ones."""
    return IPv4Address((0xFFFF_FFFF << (32 - prefix)) & 0xFFFF_FFFF)


def _parse_prefix(text: str, whole: str) -> int:
    shown = display_text(whole, 60)
    if "." in text:
        mask = parse_address(text, "mask")
        prefix = prefix_of_mask(mask)
        if prefix is None:
            raise BadInput(
                "'{shown}' has the mask {mask}, whose ones are not in one piece: write e.g. 255.255.252.0.",
                shown=shown,
                mask=mask,
            )
        return prefix
    length = whole_number(text, 0, 32)
    if length is None:
        raise BadInput("'{shown}' has no prefix length from 0 to 32 after the slash: write e.g. /22.", shown=shown)
    return length


def _split(text: str) -> tuple[str, str]:
    """Return address and prefix or mask, as they stand on either side of a slash or a space."""
    head, _, tail = " ".join(text.replace("/", " / ", 1).split()).partition(" ")
    return head, tail.removeprefix("/").strip()


def is_mask(text: str) -> bool:
    """Whether a word is a dotted subnet mask, and so no address that a host has."""
    try:
        return prefix_of_mask(IPv4Address(text)) is not None
    except AddressValueError:
        return False


def parse_interface(text: str, what: str = "address") -> IPv4Interface:
    """Read an address with its prefix, ``A/22``, ``A/255.255.252.0`` or ``A 255.255.252.0``, that a host can have.

    Raises:
        BadInput: not an address, no prefix, or the subnet's own network or broadcast address.
    """
    head, tail = _split(text)
    address = parse_address(head, what)
    if not tail:
        raise BadInput(
            "'{text}' has no prefix length: write {address}/24, say.", text=display_text(text, 60), address=address
        )
    interface = IPv4Interface((address, _parse_prefix(tail, text)))
    fault = host_fault(interface)
    if fault:
        raise BadInput("{interface} cannot be a device's address: {fault}.", interface=interface, fault=fault)
    return interface


def parse_network(text: str) -> IPv4Network:
    """Read an address with prefix or mask as a range; host bits are ignored.

    Raises:
        BadInput: not an address with a prefix length or a mask.
    """
    head, tail = _split(text)
    address = parse_address(head, "range")
    return IPv4Interface((address, _parse_prefix(tail, text) if tail else 32)).network


def parse_list(texts: Iterable[str], what: str = "address") -> list[IPv4Address]:
    """Read addresses that stand in a list, with commas or spaces between them.

    Raises:
        BadInput: one of them is none.
    """
    return [parse_address(each, what) for text in texts for each in text.replace(",", " ").split()]


@lru_cache(maxsize=4096)
def host_fault(interface: IPv4Interface) -> str | None:
    """Say why no host can have this address in its subnet, or return None where one can.

    The all-ones and all-zeros host parts are the subnet's own (RFC 1122 section 3.2.1.3), except on the
    two-address links of RFC 3021.
    """
    address, network = interface.ip, interface.network
    if address.is_multicast:
        return phrase("224.0.0.0/4 is for groups, not hosts")
    if address.is_loopback or int(address) >> 24 == 0 or int(address) >> 28 == 15:
        return phrase("it is in a range that no host on a wire can use")
    if network.prefixlen == 0:
        return phrase("a prefix of 0 makes every address its neighbour")
    if network.prefixlen < 31 and address == network.network_address:
        return phrase(
            "it is the network address of {network}; usable are {usable_range}",
            network=network,
            usable_range=usable_range(network),
        )
    if network.prefixlen < 31 and address == network.broadcast_address:
        return phrase(
            "it is the broadcast address of {network}; usable are {usable_range}",
            network=network,
            usable_range=usable_range(network),
        )
    return None


@lru_cache(maxsize=4096)
def host_fault_of(address: IPv4Address, prefix: int = 32) -> str | None:
    """Say why no host can have this address, whatever its subnet or with a prefix; None where one can."""
    return host_fault(IPv4Interface((address, prefix)))


@lru_cache(maxsize=256)
def usable_range(network: IPv4Network) -> str:
    """Say from which to which address hosts may have in a subnet."""
    if network.prefixlen >= 31:
        return phrase("{network} to {network_2}", network=network[0], network_2=network[-1])
    return phrase("{network} to {network_2}", network=network[1], network_2=network[-2])


def common_prefix(one: IPv4Address, other: IPv4Address) -> int:
    """Return how many leading bits two addresses share: their subnet can be no longer than that."""
    return 32 - (int(one) ^ int(other)).bit_length()


def rewritings(address: IPv4Address) -> Iterator[IPv4Address]:
    """Yield the addresses that one slip of the fingers turns into this one: swapped digits, swapped octets."""
    octets = str(address).split(".")
    for place, octet in enumerate(octets):
        for turned in {"".join(order) for order in permutations(octet)} - {octet}:
            if turned == str(int(turned)) and int(turned) <= 255:
                yield IPv4Address(".".join([*octets[:place], turned, *octets[place + 1 :]]))
    for place in range(3):
        swapped = [*octets]
        swapped[place], swapped[place + 1] = swapped[place + 1], swapped[place]
        yield IPv4Address(".".join(swapped))


def transposed(address: IPv4Address, network: IPv4Network) -> IPv4Address | None:
    """Return the one address inside ``network`` that swapped digits or octets turn into ``address``, if any."""
    if address in network:
        return None
    found = {other for other in rewritings(address) if other in network}
    return found.pop() if len(found) == 1 else None


def is_transposition(one: IPv4Address, other: IPv4Address) -> bool:
    """Whether one address is the other with two digits or octets swapped."""
    return one != other and other in set(rewritings(one))
