"""The cable: both ends, what passes between them, and their addresses joined bit by bit."""

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core.phrases import listed, phrase
from askport.core.text import span_words, speed_words
from askport.core.visit.session import Session
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, blank

_PULSE_S = 0.7
"""How long one frame is seen on its way."""
_WIDE = 130


@dataclass(frozen=True, slots=True)
class Pulse:
    """A frame seen passing."""

    at: float
    """In seconds of the real clock."""
    to_device: bool


@dataclass(frozen=True, slots=True)
class _End:
    """One end's address with its prefix, as far as known."""

    address: IPv4Address | None
    prefix: int | None

    @property
    def words(self) -> str:
        """The address with its prefix, or that it has none."""
        if self.address is None:
            return phrase("no address")
        return f"{self.address}/{self.prefix}" if self.prefix is not None else f"{self.address}/?"

    def bit(self, place: int) -> int | None:
        return int(self.address) >> (31 - place) & 1 if self.address is not None else None


def cable_lines(
    session: Session, width: int, now: float, real_now: float, pulses: Sequence[Pulse], *, compact: bool = False
) -> list[Ink]:
    """Draw the band: the cable, then the two addresses as combs whose teeth meet where they agree.

    ``now`` is the wire's time and ``real_now`` the clock of the pulses, which differ on the practice bench. In a
    small terminal (``compact``) it is three lines: the addresses stand beside their joints.
    """
    ours, theirs = _ends(session)
    if compact:
        return [_cable(session, width, now, real_now, pulses), _strip(ours, theirs, width), _verdict(session)]
    wide = width >= _WIDE
    said = _verdict(session)
    # Where the sentence has no room beside the joints, it stands between the cable and the addresses.
    comb, laptop, left = _Comb(ours, theirs, 2 if wide else 1), session.cable.laptop, 12
    wide = wide and left + comb.width + 4 + said.width <= width
    lines = [_cable(session, width, now, real_now, pulses), blank() if wide else Ink().to(2).put_line(said)]
    lines.append(
        comb.octets(ours, phrase("beside") if laptop.is_beside and laptop.borrowed else phrase("laptop"), OURS, left)
    )
    lines.append(comb.teeth(ours, OURS, left))
    joint = comb.joints(left)
    if wide:
        joint.to(left + comb.width + 4).put_line(said)
    lines += [joint, comb.teeth(theirs, THEIRS, left), comb.octets(theirs, phrase("device"), THEIRS, left)]
    return lines


def _verdict(session: Session) -> Ink:
    verdict = session.visit.verdict()
    if verdict:
        return Ink().put(verdict.sentence, STRONG if verdict.can or verdict.waits else f"{STRONG} {CONFLICT}")
    if door := session.visit.door:
        return Ink().put(phrase("they talk over IPv6: the device is {door}", door=door), STRONG)
    return Ink().put(
        phrase("the device has no address yet") if session.device.chosen else phrase("no device address known yet"), DIM
    )


def _ends(session: Session) -> tuple[_End, _End]:
    present, verdict = session.visit.present_address, session.visit.verdict()
    mine = verdict.laptop if verdict and verdict.laptop else next(iter(session.cable.laptop.addresses), None)
    ours = _End(mine.ip, mine.network.prefixlen) if mine else _End(None, None)
    if present is None:
        return ours, _End(None, None)
    at, is_known = present
    return ours, _End(at.ip, at.network.prefixlen if is_known else None)


def _cable(session: Session, width: int, now: float, real_now: float, pulses: Sequence[Pulse]) -> Ink:
    laptop = session.cable.laptop
    left = phrase("laptop {adapter}", adapter=laptop.adapter)
    device = session.device.chosen or session.cable.search.candidate
    right = (
        f"{device.mac}  {session.cable.around.maker(device.mac) or 'maker unknown'}" if device else phrase("nobody yet")
    )
    link = session.cable.link
    up = phrase("up for {span}", span=span_words(now - link.since))
    state = f" {up if link.up else phrase('no link')} "
    if link.up and link.speed_mbps:
        state = f" {speed_words(link.speed_mbps)}, {up} "
    room = width - len(left) - len(right) - 8
    if room < len(state) + 4 and device:
        right = str(device.mac)  # whose it is stands in the picture too
        room = width - len(left) - len(right) - 8
    untouched = (
        f"  {' '.join([*filter(None, [listed(laptop.own)]), phrase('untouched')])}" if laptop.beside_in_use else ""
    )
    untouched = untouched if room - len(untouched) >= len(state) + 4 else ""
    room -= len(untouched)
    rail = ["━" if link.up else "╌"] * max(room, len(state) + 4)
    styles = [DIM] * len(rail)
    for pulse in pulses:
        age = (real_now - pulse.at) / _PULSE_S
        if link.up and 0 <= age < 1:
            place = int(age * (len(rail) - 1))
            place = place if pulse.to_device else len(rail) - 1 - place
            rail[place], styles[place] = ("▶", OURS) if pulse.to_device else ("◀", THEIRS)
    start = (len(rail) - len(state)) // 2
    rail[start : start + len(state)] = state
    styles[start : start + len(state)] = [DIM if link.up else CONFLICT] * len(state)
    ink = Ink().put("  ").put(left, f"{STRONG} {OURS}").put(untouched, DIM).put(" ◖", OURS)
    for character, style in zip(rail, styles, strict=True):
        ink.put(character, style)
    return ink.put("◗ ", THEIRS).put(right, f"{STRONG} {THEIRS}")


def _strip(ours: _End, theirs: _End, width: int) -> Ink:
    """Draw both addresses on one line, with the bits that must agree between them."""
    comb = _Comb(ours, theirs, 1)
    left = max(0, (width - comb.width) // 2)
    ink = Ink().to(max(0, left - 1 - len(ours.words))).put(ours.words, f"{STRONG} {OURS}")
    ink.to(left).put_line(comb.joints(0)).to(left + comb.width + 1)
    return ink.put(theirs.words, f"{STRONG} {THEIRS}")


class _Comb:
    """Draws 32 bits in four groups under and over each other."""

    def __init__(self, ours: _End, theirs: _End, cells: int) -> None:
        self._ours, self._theirs, self._cells = ours, theirs, cells
        self._group = 8 * cells + 3
        self.width = 4 * self._group - 3

    def octets(self, end: _End, name: str, style: str, left: int) -> Ink:
        """Write an address, each number in the middle of its eight bits."""
        ink = Ink().to(2).put(name, style).to(left)
        if end.address is None:
            return ink.put(phrase("no address") if end is self._ours else "· · ·", DIM)
        for place, octet in enumerate(str(end.address).split(".")):
            ink.to(left + place * self._group + (self._group - 3 - len(octet)) // 2).put(octet, f"{STRONG} {style}")
            ink.to(left + (place + 1) * self._group - 3)
            if place < 3:
                ink.put(" . ", DIM)
        known = f"/{end.prefix}" if end.prefix is not None else phrase("mask not known")
        return ink.put("   ").put(known, style if end.prefix is not None else DIM)

    def teeth(self, end: _End, style: str, left: int) -> Ink:
        """Draw the bits: a one stands tall, a zero lies flat; the network's part is in the side's colour."""
        ink = Ink().to(left)
        for place in range(32):
            if place and place % 8 == 0:
                ink.put("   ")
            bit = end.bit(place)
            inside = end.prefix is None or place < end.prefix
            tooth = "·" if bit is None else "▆" if bit else "▁"
            ink.put(tooth * self._cells, style if inside and bit is not None else DIM)
        return ink

    def joints(self, left: int) -> Ink:
        """Join the bits that must agree for the two to be neighbours; a torn one is a conflict."""
        prefixes = [end.prefix for end in (self._ours, self._theirs) if end.prefix is not None]
        needed = max(prefixes, default=0)
        ink = Ink().to(2).put(phrase("joined"), DIM).to(left) if left else Ink()
        for place in range(32):
            if place and place % 8 == 0:
                ink.put("   ")
            mine, other = self._ours.bit(place), self._theirs.bit(place)
            if place >= needed or mine is None or other is None:
                ink.put(" " * self._cells if left else "·", DIM)
            elif mine == other:
                ink.put("│".ljust(self._cells), DIM)
            else:
                ink.put("╳".ljust(self._cells), f"{STRONG} {CONFLICT}")
        return ink
