"""The ways of setting an address: to have one more, write its module and one line here."""

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from askport.core.errors import BadInput
from askport.core.finding.device import Device
from askport.core.kinds.model import ConsoleWay, HandWay, Kind, PageWay, PingWay
from askport.core.kinds.placeholders import values_of, wrote_by
from askport.core.ways.answering_requests import AnsweringRequests
from askport.core.ways.artnet import SetByArtNet, shown_program
from askport.core.ways.bacnet import SetByBacnet, shown_properties
from askport.core.ways.by_hand import ByHand
from askport.core.ways.cip import SetByCip
from askport.core.ways.cip import shown_steps as shown_objects
from askport.core.ways.console import Console, far_end
from askport.core.ways.conversation import Conversation
from askport.core.ways.dcp import SetByDcp, shown_values
from askport.core.ways.dialogue import Dialogue, shown_lines
from askport.core.ways.onvif import SetByOnvif, shown_calls
from askport.core.ways.page import Page, page_of
from askport.core.ways.page_talk import PageTalk, shown_steps
from askport.core.ways.ping import Ping
from askport.core.ways.start import Start
from askport.core.ways.way import Way


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
    fits: Callable[[Device | None, IPv4Address | None, Kind | None], str | None]
    """Takes the device as found, where it is and its kind; says why this way fits it, or None where it does not."""
    by_mac: bool = False
    """Whether it works on a device that has no address."""
    needs_kind: bool = False
    """Whether nothing can be done without its kind."""
    says_lines: Callable[[Start], list[str]] = lambda _: []
    """Returns what it will say to the device, with secrets blanked."""
    tells: Callable[[Start], Collection[str] | None] = lambda _: None
    """Returns which of mask, gateway and dns it tells the device beside the address; None for all."""
    needs_laptop: bool = False
    """Whether the laptop must have an address in the target's subnet."""
    needs_reach: bool = False
    """Whether the device must be reached where it is now."""
    by_technician: bool = False
    """Whether somebody types the values in: they are shown, and watching for the move needs no decision."""
    enter_does: str = ""
    """What Enter does, with ``{target}``."""
    begin: Callable[[Start], Way]


def _asks(device: Device | None, _: IPv4Address | None, __: Kind | None) -> str | None:
    if device is None or device.request is None:
        return None
    return f"It asks for an address by {device.request.protocol.upper()}, so it can be answered."


def _answer(start: Start) -> Way:
    if start.laptop is None:
        raise ValueError("answering needs a laptop address in the target's subnet")
    return AnsweringRequests(
        start.mac,
        start.target,
        laptop_mac=start.laptop_mac,
        laptop=start.laptop,
        xid=start.xid,
        now=start.now,
        allow_others=start.allow_others,
        servers=start.servers,
    )


def _can_be_typed(device: Device | None, there: IPv4Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("hand") if kind else None
    if isinstance(by, HandWay) and by.say:
        return by.say
    if there is None and not (device and device.request):
        return "Its own page or keypad, if it has one."
    if device and device.request:
        fell_back = f", at {there} which it fell back to" if there else ""
        return f"Its own page or keypad, if it has one{fell_back}."
    return "It has an address of its own: type the new one into its page, keypad or console."


def _watch(start: Start) -> Way:
    return ByHand(
        start.mac,
        start.target,
        laptop_mac=start.laptop_mac,
        laptop=start.laptop,
        old=start.old,
        now=start.now,
        landings=start.landings,
    )


def _has_console(_: Device | None, there: IPv4Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("console") if kind else None
    if kind is None or not isinstance(by, ConsoleWay) or not by.set:
        return None
    if by.over == "serial":
        return f"Its kind, {kind.name}, is set over a serial line."
    if there is None:
        return None
    return f"Its kind, {kind.name}, is set over {by.over.title() if by.over != 'ssh' else 'SSH'} on port {by.at_port}."


def _console_of(start: Start) -> tuple[Kind, ConsoleWay]:
    kind = start.kind
    by = kind.way_by("console") if kind else None
    if kind is None or not isinstance(by, ConsoleWay) or not by.set:
        what = f"The kind '{kind.name}' says" if kind else "Without a kind nothing says"
        raise BadInput(f"{what} no lines for its console: name a kind file that has them with --kind.")
    if start.over and start.over != by.over:
        by = by.model_copy(update={"over": start.over, "port": None})
    return kind, by


def _values(start: Start, kind: Kind) -> dict[str, str]:
    padded, own = kind.needs.octets == "padded", kind.needs.gateway == "own-address"
    values = values_of(start.target, start.mac, name=start.name, padded=padded, own_gateway=own)
    return {**values, **{f"plan.{head}": cell for head, cell in start.columns.items()}}


def _lines(start: Start) -> list[str]:
    kind, by = _console_of(start)
    far_end(by, start.old, start)  # what is missing to reach it is said too
    lines = [*by.login, *by.set, *by.keep, *(by.restart if by.takes_effect == "after restart" else ())]
    return shown_lines(lines, {**_values(start, kind), **start.log_in.values})


def _talk(start: Start) -> Way:
    kind, by = _console_of(start)
    _lines(start)  # what has no value is said before anything is sent
    return Console(start, kind, by, _values(start, kind))


def _has_page(_: Device | None, there: IPv4Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("page") if kind else None
    if kind is None or not isinstance(by, PageWay) or there is None or not by.set:
        return None
    return f"Its kind, {kind.name}, is set on its page, in {len(by.set)} request{'' if len(by.set) == 1 else 's'}."


def _page_of(start: Start) -> tuple[Kind, PageWay]:
    by = start.kind.way_by("page") if start.kind else None
    if start.kind is None or not isinstance(by, PageWay) or not by.set:
        what = f"The kind '{start.kind.name}' says" if start.kind else "Without a kind nothing says"
        raise BadInput(f"{what} no requests for its page: name a kind file that has them with --kind.")
    return start.kind, by


def _requests(start: Start) -> list[str]:
    kind, by = _page_of(start)
    return shown_steps([*by.login, *by.set], {**_values(start, kind), **start.log_in.values})


def _fill_in(start: Start) -> Way:
    kind, by = _page_of(start)
    _requests(start)  # what has no value is said before anything is sent
    return Page(start, kind, by, _values(start, kind))


def keeps(kind: Kind | None) -> str | None:
    """Return what of a device can be told to keep what it was given, its console or its page, or None."""
    console, page = (kind.way_by("console"), kind.way_by("page")) if kind else (None, None)
    if isinstance(console, ConsoleWay) and console.keep:
        return "console"
    return "page" if isinstance(page, PageWay) and page.set else None


def keeping(start: Start) -> Conversation | None:
    """Return the conversation by which a device is told to keep what it has, or None where its kind knows none.

    Its console keeps what it uses; on its page the same values are saved as its own.

    Raises:
        BadInput: its console or page asks for a log-in that was not given.
    """
    kind, by = start.kind, keeps(start.kind)
    if kind is None or by is None:
        return None
    at_new = replace(start, old=start.target.interface.ip)
    values = {**_values(start, kind), **start.log_in.values}
    way = kind.way_by(by)
    if isinstance(way, ConsoleWay):
        lines = [*way.login, *way.keep]
        shown_lines(lines, values)
        return Dialogue(far_end(way, at_new.old, start), lines, values, refused=way.refused, now=start.now)
    _requests(at_new)
    return PageTalk(page_of(way, at_new), [*way.login, *way.set], values) if isinstance(way, PageWay) else None


def _takes_pings(_: Device | None, __: IPv4Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("ping") if kind else None
    return f"Its kind takes its address from an echo of {by.payload} bytes." if isinstance(by, PingWay) else None


def _ping(start: Start) -> Way:
    by = start.kind.way_by("ping") if start.kind else None
    if not isinstance(by, PingWay):
        raise BadInput("Which length of echo it takes its address from is its maker's: name a kind with --kind.")
    sender = start.laptop or start.free
    if sender is None:
        raise ValueError("an echo needs an address to come from")
    return Ping(
        start.mac,
        start.target,
        payload=by.payload,
        within_s=by.within_s,
        lasts={"yes": True, "no": False}.get(by.permanent or ""),
        laptop_mac=start.laptop_mac,
        sender=sender.ip,
        landings=list(start.landings),
        now=start.now,
    )


def _speaks_dcp(device: Device | None, _: IPv4Address | None, __: Kind | None) -> str | None:
    if device is None or not device.speaks("dcp"):
        return None
    return "It speaks PROFINET DCP: it is told at its MAC address, and neither side needs an address for that."


def _speaks_cip(device: Device | None, there: IPv4Address | None, _: Kind | None) -> str | None:
    if device is None or there is None or not device.speaks("cip"):
        return None
    return "It speaks EtherNet/IP: its TCP/IP Interface object is told, and says itself what it has."


def _speaks_bacnet(device: Device | None, there: IPv4Address | None, _: Kind | None) -> str | None:
    if device is None or there is None or not device.speaks("bacnet"):
        return None
    return "It speaks BACnet: its network port is written, and says itself what it has."


def _speaks_art_net(device: Device | None, there: IPv4Address | None, _: Kind | None) -> str | None:
    if device is None or there is None or not device.speaks("artnet"):
        return None
    return "It speaks Art-Net: its node is programmed, and says itself what it has."


def _speaks_onvif(device: Device | None, there: IPv4Address | None, _: Kind | None) -> str | None:
    if device is None or there is None or not device.speaks("onvif"):
        return None
    return "It speaks ONVIF: its device service is told, and says itself what it has."


WAYS: dict[str, WayEntry] = {
    entry.name: entry
    for entry in (
        WayEntry(
            name=AnsweringRequests.name,
            title="answer its request",
            done="its request answered",
            says="answers its BOOTP or DHCP requests; gone at the next power cut until the device is told to keep it",
            fits=_asks,
            needs_laptop=True,
            enter_does="answer its requests with {target}, once no other server is heard",
            begin=_answer,
        ),
        WayEntry(
            name=SetByDcp.name,
            title="by PROFINET DCP",
            done="by PROFINET DCP",
            says="tells it by PROFINET DCP at its MAC address, to be kept; --temporary for now only. No address needed",
            fits=_speaks_dcp,
            by_mac=True,
            enter_does="tell it by PROFINET DCP, and follow it to {target}",
            says_lines=shown_values,
            tells=lambda _: SetByDcp.wrote,
            begin=SetByDcp,
        ),
        WayEntry(
            name=SetByCip.name,
            title="by EtherNet/IP",
            done="by EtherNet/IP",
            says="makes its configuration static and tells it over EtherNet/IP (CIP), and follows it. Needs --at",
            fits=_speaks_cip,
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by EtherNet/IP, and follow it to {target}",
            says_lines=shown_objects,
            begin=SetByCip,
        ),
        WayEntry(
            name=SetByOnvif.name,
            title="by ONVIF",
            done="by ONVIF",
            says="tells its ONVIF device service, has it restart where it asks for that, and follows it. Needs --at",
            fits=_speaks_onvif,
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by ONVIF, and follow it to {target}",
            says_lines=shown_calls,
            begin=SetByOnvif,
        ),
        WayEntry(
            name=Console.name,
            title="talk to its console",
            done="on its console",
            says="says its kind's lines over Telnet or SSH, follows it, and has it keep them. Needs --kind and --at",
            fits=_has_console,
            needs_laptop=True,
            needs_reach=True,
            needs_kind=True,
            enter_does="say the lines on its console, and follow it to {target}",
            says_lines=_lines,
            tells=lambda start: wrote_by(line.send for line in _console_of(start)[1].set),
            begin=_talk,
        ),
        WayEntry(
            name=Page.name,
            title="fill in its page",
            done="on its page",
            says="sends its kind's requests to its own page, and follows it. Needs --kind and --at",
            fits=_has_page,
            needs_laptop=True,
            needs_reach=True,
            needs_kind=True,
            enter_does="send its page what it wants, and follow it to {target}",
            says_lines=_requests,
            tells=lambda start: wrote_by(text for step in _page_of(start)[1].set for text in step.texts),
            begin=_fill_in,
        ),
        WayEntry(
            name=SetByBacnet.name,
            title="by BACnet",
            done="by BACnet",
            says="writes its BACnet network port, has the changes used, and follows it. Needs --at",
            fits=_speaks_bacnet,
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by BACnet, and follow it to {target}",
            says_lines=shown_properties,
            begin=SetByBacnet,
        ),
        WayEntry(
            name=SetByArtNet.name,
            title="by Art-Net",
            done="by Art-Net",
            says="programs its Art-Net node (ArtIpProg), and follows it. Needs --at",
            fits=_speaks_art_net,
            needs_laptop=True,
            needs_reach=True,
            enter_does="program it by Art-Net, and follow it to {target}",
            says_lines=shown_program,
            tells=lambda _: ("mask", "gateway"),
            begin=SetByArtNet,
        ),
        WayEntry(
            name=Ping.name,
            title="ping to its MAC",
            done="by a ping to its MAC address",
            says="sends echoes of its kind's length to its MAC address, for the new address. Needs --kind",
            fits=_takes_pings,
            by_mac=True,
            needs_kind=True,
            enter_does="send it echoes for {target}",
            tells=lambda _: Ping.wrote,
            begin=_ping,
        ),
        WayEntry(
            name=ByHand.name,
            title="by hand",
            done="by hand",
            says=(
                "you type the values into the device's own page or keypad; Ask Port sees it move. Needs --at for its "
                "page"
            ),
            fits=_can_be_typed,
            needs_reach=True,
            by_technician=True,
            begin=_watch,
        ),
    )
}
"""By name, best first."""


def entry_of(name: str | None) -> WayEntry | None:
    """Return the entry of a way, or None where there is none of that name."""
    return WAYS.get(name or "")
