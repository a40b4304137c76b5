"""Reach: the neighbourhood of the device as a ruler, and the adapter before, while and after."""

from ipaddress import IPv4Address, IPv4Network
from itertools import zip_longest

from askport.core.formats.ipv6 import link_local
from askport.core.phrases import listed, phrase
from askport.core.reach import can_talk, free_address
from askport.core.visit.session import Session
from askport.core.visit.steps import Step
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, blank, heading, line, warning, wrapped
from askport.tui.pictures.landing import landing_lines

_MAX_FURTHER = 3
_CELL = 6
"""Cells for one address on the ruler: three digits and air."""


def reach_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw where everybody is, and what happens to the adapter."""
    device = session.device.whereabouts
    if session.device.chosen is None:
        return wrapped(phrase("Find the device first: then this shows how the laptop can talk to it."), width, DIM)
    if device is None and session.device.over_ipv6:
        text = phrase(
            "It has shown no IPv4 address. The laptop talks to it by the IPv6 address that it has on "
            "this cable. Nothing is borrowed, and that address stays while the device gets its IPv4 "
            "address."
        )
        head = [
            heading(phrase("The laptop's {adapter}", adapter=session.cable.laptop.adapter), width),
            *_adapter(session, width),
            blank(),
        ]
        return [
            *head,
            heading(phrase("Why they can talk"), width),
            *wrapped(text, width, "", 2),
            *_over_ipv6(session, width),
        ]
    if device is None:
        text = phrase("It has no address yet, so there is nothing to reach: it is given one in the next step.")
        return wrapped(text, width)
    best = session.device.chosen.best
    prefix = best.prefix if best and not session.device.landed_at else None
    network = IPv4Network((int(device), prefix or free_address.ASSUMED_PREFIX), strict=False)
    known = (
        phrase("Its subnet is {network}.", network=network)
        if prefix
        else phrase("Mask unknown. The laptop will use an address next to it, assuming {network}.", network=network)
    )
    lines: list[Ink] = []
    if session.device.landed_at and session.device.target:
        lines += [heading(phrase("Actual address"), width)]
        lines += [*landing_lines(session.device.target.interface.ip, session.device.landed_at), blank()]
    lines += [heading(phrase("Around the device"), width), *wrapped(known, width, DIM), blank()]
    lines += _ruler(session, network, device, width)
    lines += [
        blank(),
        heading(phrase("The laptop's {adapter}", adapter=session.cable.laptop.adapter), width),
        *_adapter(session, width),
    ]
    lines += [blank(), heading(phrase("Why they can talk, or cannot"), width), *_why(session, device, prefix, width)]
    for hazard in session.cable.laptop.hazards:
        lines += warning(hazard.text, width)
    if session.device.ports_tried and (session.cable.laptop.reaching(device) or session.phase.step is not Step.REACH):
        lines += [blank(), heading(phrase("What it answers there"), width)]
        for proof in session.device.ports_tried:
            if proof.passed:
                lines.append(Ink().put("  ✓ ", THEIRS).put(proof.because))
        if not any(proof.passed for proof in session.device.ports_tried):
            lines.append(line(phrase("Only ARP: no ping, and none of the usual ports."), "", 2))
    return lines + _over_ipv6(session, width)


def _over_ipv6(session: Session, width: int) -> list[Ink]:
    """Say what it answers at its link-local address."""
    over = session.device.over_ipv6
    if over is None or over.address is None:
        return []
    lines = [blank(), heading(phrase("What it answers over IPv6, at {address}", address=over.address), width)]
    answers = [Ink().put("  ✓ ", THEIRS).put(each.because) for each in over.services if each.passed]
    return lines + (answers or [line(phrase("None of the usual ports.") if over.done else phrase("Asking."), "", 2)])


def _ruler(session: Session, network: IPv4Network, device: IPv4Address, width: int) -> list[Ink]:
    """Draw the addresses around the device, one cell each, with what is known of each."""
    count = max(8, width // _CELL)
    count = min(count, network.num_addresses)
    first = max(int(network[0]), min(int(device) - count // 2, int(network[-1]) - count + 1))
    places = [IPv4Address(first + step) for step in range(count)]
    roles = _roles(session, network, device)
    above, ticks = Ink(), Ink()
    for place, address in enumerate(places):
        role, style = roles.get(address, ("", DIM))
        above.to(place * _CELL).put(str(int(address) & 255).rjust(3), style if role else DIM)
        ticks.put(("┿" if role else "┼").center(3, "─") if role else "─┴─", style if role else DIM).put("─" * 3, DIM)
    lines = [Ink().put(".".join(str(network[0]).split(".")[:3]) + ".x", DIM), above, ticks]
    ends = (network[0], network[-1])
    further = [(each, role) for each, (role, _) in sorted(roles.items()) if each not in places and each not in ends]
    shown = [(place, *roles[address]) for place, address in enumerate(places) if address in roles]
    # One leader line for each role, so that labels of neighbours never touch.
    for depth, (place, role, style) in enumerate(reversed(shown)):
        ink = Ink()
        for other, _, other_style in shown[: len(shown) - depth - 1]:
            ink.to(other * _CELL + 1 or 1).put("│", other_style)
        column = place * _CELL + 1
        label = f"└ {role}" if column + len(role) + 2 <= width else f"{role} ┘"
        ink.to(column if label.startswith("└") else column - len(role) - 1).put(label, style)
        lines.append(ink)
    for address, role in further[:_MAX_FURTHER]:
        lines.append(Ink().put(phrase("also in this subnet"), DIM).put(f"  {address}").put(f"  {role}", DIM))
    return lines


def _roles(session: Session, network: IPv4Network, device: IPv4Address) -> dict[IPv4Address, tuple[str, str]]:
    roles: dict[IPv4Address, tuple[str, str]] = {
        network[0]: (phrase("network address, nobody's"), DIM),
        network[-1]: (phrase("broadcast address, nobody's"), DIM),
    }
    best = session.device.chosen.best if session.device.chosen else None
    if best and best.gateway:
        roles[best.gateway] = (phrase("the gateway that it looks for"), THEIRS)
    for other in session.cable.finder.devices():
        for belief in other.addresses:
            if belief.address in network and belief.address != device and other.mac != _mac(session):
                roles[belief.address] = (phrase("held by {mac}", mac=other.mac), CONFLICT)
    mine = session.cable.laptop.reaching(device) or (
        session.visit.free_address if session.phase.step is Step.REACH else None
    )
    if mine and mine.ip in network:
        verb = phrase("free: the laptop may borrow it") if mine is session.visit.free_address else phrase("the laptop")
        roles[mine.ip] = (verb, f"{STRONG} {OURS}")
    roles[device] = (phrase("the device"), f"{STRONG} {THEIRS}")
    return roles


def _mac(session: Session) -> bytes | None:
    return session.device.chosen.mac if session.device.chosen else None


def _adapter(session: Session, width: int) -> list[Ink]:
    """Draw what happens to the adapter: nothing at all, where what is borrowed is beside it."""
    return _beside(session) if session.cable.laptop.is_beside else _on_adapter(session, width)


def _beside(session: Session) -> list[Ink]:
    """Draw the adapter's own as it is and stays, and what is borrowed apart from it, which has its own MAC address."""
    laptop, offered = session.cable.laptop, session.visit.free_address
    own = (
        Ink()
        .to(2)
        .put(phrase("its own"), DIM)
        .to(12)
        .put(listed(laptop.own) or phrase("no address"))
        .put("  " + phrase("stays as it is"), DIM)
    )
    beside = Ink().to(2).put(phrase("beside it"), DIM).to(12)
    if laptop.borrowed:
        beside.put(listed(laptop.borrowed), f"{STRONG} {OURS}").put("  borrowed", OURS)
        return [
            own,
            beside,
            Ink().to(2).put("as        ", DIM).put(laptop.mac).put("  " + phrase("a MAC address of its own"), DIM),
        ]
    if laptop.speaks_ipv6 and session.visit.door:
        beside.put(link_local(laptop.mac), f"{STRONG} {OURS}").put(
            "  " + phrase("its IPv6 address there, for this cable alone"), DIM
        )
    elif offered and session.phase.step is Step.REACH:
        beside.put(offered, OURS).put("  " + phrase("not yet"), DIM)
    else:
        beside.put(phrase("nothing"), DIM)
    return [own, beside]


def _on_adapter(session: Session, width: int) -> list[Ink]:
    """Draw the adapter's addresses in three columns: nothing but the borrowed one ever changes."""
    third = min(36, width // 3)
    head = (
        Ink()
        .to(2)
        .put(phrase("before"), DIM)
        .to(2 + third)
        .put(phrase("while borrowed"), DIM)
        .to(2 + 2 * third)
        .put(phrase("after"), DIM)
    )
    own = [str(each) for each in session.cable.laptop.own]
    beside = [Ink().put(each, f"{STRONG} {OURS}").put("  borrowed", OURS) for each in session.cable.laptop.borrowed]
    if session.visit.free_address and not beside and session.phase.step is Step.REACH:
        beside = [Ink().put(session.visit.free_address, OURS).put("  " + phrase("not yet"), DIM)]
    meanwhile = [*map(line, own), *beside] or [line(phrase("no address"))]
    lines = [head]
    for before, between in zip_longest(own or [phrase("no address")], meanwhile):
        ink = Ink().to(2).put(before or "").to(2 + third).put_line(between or Ink())
        lines.append(ink.to(2 + 2 * third).put(before or ""))
    return lines


def _why(session: Session, device: IPv4Address, prefix: int | None, width: int) -> list[Ink]:
    """Say it in words and numbers, for the laptop's address that reaches the device, or the first."""
    ends = session.cable.laptop
    laptop = ends.reaching(device) or next(iter(ends.addresses), None)
    if laptop and ends.is_beside and laptop in ends.own and device in laptop.network:
        text = phrase(
            "The laptop's own {laptop} is in its subnet, and is left alone. What is borrowed beside "
            "it goes by no route, no firewall and no other adapter of the laptop.",
            laptop=laptop,
        )
        return wrapped(text, width, "", 2)
    if laptop is None:
        return wrapped(
            phrase("The laptop has no address on this adapter, so it cannot send to the device."), width, "", 2
        )
    best = session.device.chosen.best if session.device.chosen else None
    told = can_talk.explain(laptop, device, prefix, best.gateway if best else None)
    return [part for text in told.lines for part in wrapped(text, width, CONFLICT if text in told.against else "", 2)]
