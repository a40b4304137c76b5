"""The ways of setting an address: for one more, write its module and one line here; field protocols declare theirs."""

from dataclasses import replace

from askport.core import addresses, errors
from askport.core.finding.device import Device
from askport.core.kinds.model import ConsoleWay, HandWay, Kind, PageWay, PingWay
from askport.core.kinds.placeholders import values_of, wrote_by
from askport.core.phrases import phrase, phrase_of
from askport.core.protocols import PROTOCOLS, part
from askport.core.ways import by_hand, console_way, conversation, dialogue, page_way, ping_way, way_entry
from askport.core.ways.answering_requests import AnsweringRequests
from askport.core.ways.page_talk import PageTalk, shown_steps
from askport.core.ways.start import Start
from askport.core.ways.way import Way


def _asks(device: Device | None, _: addresses.Address | None, __: Kind | None) -> str | None:
    if device is None or device.request is None:
        return None
    return phrase(
        "It asks for an address by {protocol}, so it can be answered.", protocol=device.request.protocol.upper()
    )


def _answer(start: Start) -> Way:
    if start.laptop is None:
        raise ValueError(phrase("answering needs a laptop address in the target's subnet"))
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


def _can_be_typed(device: Device | None, there: addresses.Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("hand") if kind else None
    if isinstance(by, HandWay) and by.say:
        return by.say
    if there is None and not (device and device.request):
        return phrase("Its own page or keypad, if it has one.")
    if device and device.request:
        said = "Its own page or keypad, if it has one, at {there} which it fell back to."
        return phrase(said if there else "Its own page or keypad, if it has one.", there=there)
    return phrase("Type the new address yourself on its web page, keypad or console.")


def _watch(start: Start) -> Way:
    return by_hand.ByHand(
        start.mac,
        start.target,
        laptop_mac=start.laptop_mac,
        laptop=start.laptop,
        old=start.old,
        now=start.now,
        landings=start.landings,
    )


def _has_console(_: Device | None, there: addresses.Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("console") if kind else None
    if kind is None or not isinstance(by, ConsoleWay) or not by.set:
        return None
    if by.over == "serial":
        return phrase("Its kind, {name}, is set over a serial line.", name=kind.name)
    if there is None:
        return None
    return phrase(
        "Its kind, {name}, is set over {over} on port {at_port}.",
        name=kind.name,
        over=by.over.title() if by.over != "ssh" else "SSH",
        at_port=by.at_port,
    )


def _console_of(start: Start) -> tuple[Kind, ConsoleWay]:
    kind = start.kind
    by = kind.way_by("console") if kind else None
    if kind is None or not isinstance(by, ConsoleWay) or not by.set:
        what = phrase("The kind '{name}' says", name=kind.name) if kind else phrase("Without a kind nothing says")
        raise errors.BadInput("{what} no lines for its console: give a kind file that has them with --kind.", what=what)
    if start.over and start.over != by.over:
        by = by.model_copy(update={"over": start.over, "port": None})
    return kind, by


def _values(start: Start, kind: Kind) -> dict[str, str]:
    padded, own = kind.needs.octets == "padded", kind.needs.gateway == "own-address"
    values = values_of(start.target, start.mac, name=start.name, padded=padded, own_gateway=own)
    return {**values, **{f"plan.{head}": cell for head, cell in start.columns.items()}}


def _lines(start: Start) -> list[str]:
    kind, by = _console_of(start)
    console_way.far_end(by, start.talks_at, start)  # what is missing to reach it is said too
    lines = [*by.login, *by.set, *by.keep, *(by.restart if by.takes_effect == "after restart" else ())]
    return dialogue.shown_lines(lines, {**_values(start, kind), **start.log_in.values})


def _talk(start: Start) -> Way:
    kind, by = _console_of(start)
    _lines(start)  # what has no value is said before anything is sent
    return console_way.Console(start, kind, by, _values(start, kind))


def _has_page(_: Device | None, there: addresses.Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("page") if kind else None
    if kind is None or not isinstance(by, PageWay) or there is None or not by.set:
        return None
    return phrase_of(
        len(by.set),
        "Its kind, {name}, is set on its page, in {count} request.",
        "Its kind, {name}, is set on its page, in {count} requests.",
        name=kind.name,
    )


def _page_of(start: Start) -> tuple[Kind, PageWay]:
    by = start.kind.way_by("page") if start.kind else None
    if start.kind is None or not isinstance(by, PageWay) or not by.set:
        what = (
            phrase("The kind '{name}' says", name=start.kind.name)
            if start.kind
            else phrase("Without a kind nothing says")
        )
        raise errors.BadInput("{what} no requests for its page: give a kind file that has them with --kind.", what=what)
    return start.kind, by


def _requests(start: Start) -> list[str]:
    kind, by = _page_of(start)
    return shown_steps([*by.login, *by.set], {**_values(start, kind), **start.log_in.values})


def _fill_in(start: Start) -> Way:
    kind, by = _page_of(start)
    _requests(start)  # what has no value is said before anything is sent
    return page_way.Page(start, kind, by, _values(start, kind))


def keeps(kind: Kind | None) -> str | None:
    """Return what of a device can be told to keep what it was given, its console or its page, or None."""
    console, page = (kind.way_by("console"), kind.way_by("page")) if kind else (None, None)
    if isinstance(console, ConsoleWay) and console.keep:
        return "console"
    return "page" if isinstance(page, PageWay) and page.set else None


def keeping(start: Start) -> conversation.Conversation | None:
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
        dialogue.shown_lines(lines, values)
        return dialogue.Dialogue(
            console_way.far_end(way, at_new.talks_at, start), lines, values, refused=way.refused, now=start.now
        )
    _requests(at_new)
    return PageTalk(page_way.page_of(way, at_new), [*way.login, *way.set], values) if isinstance(way, PageWay) else None


def _takes_pings(_: Device | None, __: addresses.Address | None, kind: Kind | None) -> str | None:
    by = kind.way_by("ping") if kind else None
    return (
        phrase("Its kind takes its address from an echo of {payload} bytes.", payload=by.payload)
        if isinstance(by, PingWay)
        else None
    )


def _ping(start: Start) -> Way:
    by = start.kind.way_by("ping") if start.kind else None
    if not isinstance(by, PingWay):
        raise errors.BadInput("Which length of echo it takes its address from is its maker's: give a kind with --kind.")
    sender = start.laptop or start.free
    if sender is None:
        raise ValueError(phrase("an echo needs an address to come from"))
    return ping_way.Ping(
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


def _field(*, goes_first: bool) -> list[way_entry.WayEntry]:
    """Return the ways of field protocols."""
    return [part(each.way) for each in PROTOCOLS.values() if each.way and each.goes_first is goes_first]


WAYS: dict[str, way_entry.WayEntry] = {
    entry.name: entry
    for entry in (
        way_entry.WayEntry(
            name=AnsweringRequests.name,
            title=phrase("DHCP/BOOTP: answer its request"),
            done=phrase("its request answered"),
            says=phrase("answers its BOOTP or DHCP requests; gone at the next power cycle unless the device saves it"),
            fits=_asks,
            needs_laptop=True,
            enter_does="answer its requests with {target}, once no other server is heard",
            begin=_answer,
        ),
        *_field(goes_first=True),
        way_entry.WayEntry(
            name=console_way.Console.name,
            title=phrase("talk to its console"),
            done=phrase("on its console"),
            says=phrase(
                "says its kind's lines over Telnet or SSH, follows it, and has it keep them. Needs --kind and --at"
            ),
            fits=_has_console,
            needs_laptop=True,
            needs_reach=True,
            needs_kind=True,
            over_ipv6=True,
            enter_does="send the commands to its console, and wait for it at {target}",
            says_lines=_lines,
            tells=lambda start: wrote_by(line.send for line in _console_of(start)[1].set),
            begin=_talk,
        ),
        way_entry.WayEntry(
            name=page_way.Page.name,
            title=phrase("fill in its page"),
            done=phrase("on its page"),
            says=phrase("sends its kind's requests to its own page, and follows it. Needs --kind and --at"),
            fits=_has_page,
            needs_laptop=True,
            needs_reach=True,
            needs_kind=True,
            over_ipv6=True,
            enter_does="fill in its web page, and wait for it at {target}",
            says_lines=_requests,
            tells=lambda start: wrote_by(text for step in _page_of(start)[1].set for text in step.texts),
            begin=_fill_in,
        ),
        *_field(goes_first=False),
        way_entry.WayEntry(
            name=ping_way.Ping.name,
            title=phrase("ping to its MAC"),
            done=phrase("by a ping to its MAC address"),
            says=phrase("sends echoes of its kind's length to its MAC address, for the new address. Needs --kind"),
            fits=_takes_pings,
            by_mac=True,
            needs_kind=True,
            enter_does="set {target} with a ping of the required length",
            tells=lambda _: ping_way.Ping.wrote,
            begin=_ping,
        ),
        way_entry.WayEntry(
            name=by_hand.ByHand.name,
            title=phrase("by hand"),
            done=phrase("by hand"),
            says=(
                phrase(
                    "you type the values into the device's own page or keypad; Ask Port sees it move. "
                    "Needs --at for its page"
                )
            ),
            fits=_can_be_typed,
            needs_reach=True,
            by_technician=True,
            begin=_watch,
        ),
    )
}
"""By name, best first."""


def entry_of(name: str | None) -> way_entry.WayEntry | None:
    """Return the entry of a way, or None where there is none of that name."""
    return WAYS.get(name or "")
