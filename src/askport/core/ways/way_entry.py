"""What is to be known of a way before it is started."""

from collections.abc import Callable, Collection
from dataclasses import dataclass

from askport.core.addresses import Address
from askport.core.finding.device import Device
from askport.core.kinds.model import Kind
from askport.core.ways import conversation, start, way

Fits = Callable[[Device | None, Address | None, Kind | None], str | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class WayEntry:
    """One way, and all that is to be known of it before it is started."""

    name: str
    """A stable word, for scripts and the journal."""
    title: str
    """What it is called on the screen."""
    done: str
    """What it is called in the register, once it was gone."""
    says: str
    """What it does, for the command line."""
    fits: Fits
    """Takes the device as found, where it is and its kind; says why this way fits it, or None where it does not."""
    by_mac: bool = False
    """Whether it works on a device that has no address."""
    over_ipv6: bool = False
    """Whether it can go by the device's link-local IPv6 address."""
    needs_kind: bool = False
    """Whether nothing can be done without its kind."""
    says_lines: Callable[[start.Start], list[str]] = lambda _: []
    """Returns what it will say to the device, with secrets blanked."""
    tells: Callable[[start.Start], Collection[str] | None] = lambda _: None
    """Returns which of mask, gateway and dns it tells the device beside the address; None for all."""
    needs_laptop: bool = False
    """Whether the laptop must have an address in the target's subnet."""
    needs_reach: bool = False
    """Whether the device must be reached where it is now."""
    by_technician: bool = False
    """Whether somebody types the values in: they are shown, and watching for the move needs no decision."""
    enter_does: str = ""
    """What Enter does, with ``{target}``."""
    begin: Callable[[start.Start], way.Way]
    reads: Callable[[start.Start], conversation.Conversation] | None = None
    """Begins to read a device's settings, where that takes no kind."""


def speaks(protocol: str, why: str, *, by_mac: bool = False) -> Fits:
    """Return what fits a device that was heard to speak a field protocol, where it can be reached by that."""

    def fits(device: Device | None, there: Address | None, _: Kind | None) -> str | None:
        reached = there is not None or by_mac
        return why if device is not None and reached and device.speaks(protocol) else None

    return fits
