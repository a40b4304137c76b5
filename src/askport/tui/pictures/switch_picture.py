"""All units of a small switch, drawn as what hangs on one cable."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.crate.switch_crate import BY_ORDER, Doing, Turn, Unit
from askport.core.phrases import phrase
from askport.core.proofs.power_cycle import Lane
from askport.core.text import span_words
from askport.core.visit.steps import Step
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, blank, heading, line, wrapped

_NAME = 14
_LEAST_S = 10.0
_HEAD = "  laptop ═"
_LANES_AT, _AFTER_LANES, _NARROWEST = len(_HEAD) + 34, 24, 40
"""Columns before and behind the lanes, and how many make them worth while."""
_SIGNS = {
    Doing.ASKED: ("╌", OURS), Doing.REACHING: ("─", OURS), Doing.SETTING: ("━", OURS), Doing.PROVING: ("═", THEIRS),
    Doing.RECORDED: ("·", THEIRS), Doing.LEFT: ("x", CONFLICT),
}  # fmt: skip
_CUT_SIGNS = (("▁", DIM, phrase("power off")), ("╌", THEIRS, phrase("first word")), ("━", THEIRS, "back"))
_TURNS = {
    Turn.WAITS: (phrase("to come"), DIM),
    Turn.RECORDED: ("recorded", OURS),
    Turn.PROVEN: ("proven", THEIRS),
    Turn.LEFT: (phrase("stopped, see why"), CONFLICT),
}


@dataclass(frozen=True, slots=True)
class Lanes:
    """What was done about each unit, all in one ruler of time."""

    units: Sequence[Unit]
    cuts: Mapping[str, Lane]
    """When each lost its power and was back, by its tag."""
    now: float
    """The wire's time, or when the last was done."""

    @property
    def began_at(self) -> float:
        """When the first was asked."""
        return min((unit.moments[0][0] for unit in self.units if unit.moments), default=self.now)

    @property
    def span_s(self) -> float:
        """How long the ruler is."""
        return max(_LEAST_S, 1.05 * (self.now - self.began_at))

    def ruler(self, room: int) -> list[Ink]:
        """Draw what the signs mean, and the time."""
        legend = Ink().to(2)
        for sign, style, words in (*((*drawn, doing) for doing, drawn in _SIGNS.items()), *_CUT_SIGNS):
            legend.put(f"{sign * 2} ", style).put(f"{words}  ", DIM)
        scale = Ink()
        for part in range(4):
            scale.to(_LANES_AT + part * room // 4).put(span_words(self.span_s * part / 4), DIM)
        return [legend, blank(), scale]

    def lane(self, unit: Unit, room: int) -> Ink:
        """Draw one unit: each sign from its moment to the next one's."""
        begins = [(at, *_SIGNS[doing]) for at, doing in unit.moments]
        if cut := self.cuts.get(unit.item.tag):
            moments = zip((cut.off_at, cut.first_heard_at, cut.back_at), _CUT_SIGNS, strict=True)
            begins += [(at, sign, style) for at, (sign, style, _) in moments if at is not None]
        ink = Ink()
        for place, (at, sign, style) in enumerate(begins):
            end = begins[place + 1][0] if place + 1 < len(begins) else self.now
            ink.put(" " * (self._place(at, room) - ink.width))
            ink.put(sign * (self._place(end, room) - ink.width), style)
        return ink

    def _place(self, moment: float, room: int) -> int:
        return max(0, min(room, round((moment - self.began_at) / self.span_s * room)))


def switch_lines(
    heard: Mapping[MacAddress, IPv4Address | None],
    units: Sequence[Unit],
    half: MacAddress | None,
    steps: Mapping[str, Step],
    in_cut: Mapping[str, str],
    lanes: Lanes | None,
    width: int,
) -> list[Ink]:
    """Draw one row a unit: its MAC address, where it is, its tag, and how far it came.

    Args:
        heard: who is on the switch, and where.
        half: the MAC address of which the tag is awaited.
        steps: where each unit at hand stands, by its tag.
        in_cut: where each stands in the power cycle of all, by its tag.
        lanes: what was done when, once it has begun; drawn where there is room.
    """
    by_mac = {each.mac: each for each in units}
    macs = sorted({*heard, *by_mac, *([half] if half else [])})
    if not macs:
        return [line(phrase("No device heard on this switch yet."), DIM, 2)]
    shared = _shared(macs)
    room = width - _LANES_AT - _AFTER_LANES
    if lanes and room < _NARROWEST:
        lines, lanes = [line(_digest(units, steps), STRONG, 2), blank()], None
    else:
        lines = [*lanes.ruler(room)] if lanes else []
    for place, mac in enumerate(macs):
        ink = Ink().put(_HEAD if place == 0 else " " * len(_HEAD), OURS)
        knot = "╤" if place == 0 < len(macs) - 1 else "═" if len(macs) == 1 else "└" if mac == macs[-1] else "├"
        ink.put(f"{knot}── ", OURS)
        text = str(mac)
        ink.put(text[:shared], DIM).put(text[shared:], STRONG if mac != half else f"{STRONG} {THEIRS}")
        if lanes is None:  # where they were found matters until it has begun
            ink.to(len(_HEAD) + 24).put(heard.get(mac) or phrase("not heard"), THEIRS if heard.get(mac) else DIM)
        column = len(_HEAD) + 24 if lanes else len(_HEAD) + 42
        unit = by_mac.get(mac)
        if unit is None:
            ink.to(column).put(
                phrase("now scan its tag …") if mac == half else phrase("no tag: it will not be set"), DIM
            )
            lines.append(ink)
            continue
        ink.to(column).put(unit.item.tag, STRONG).to(column + 10)
        if lanes:
            ink.put_line(lanes.lane(unit, room)).to(width - _AFTER_LANES + 2)
        step = steps.get(unit.item.tag)
        if unit.turn is Turn.AT_HAND and step:
            for each in Step:
                done = list(Step).index(each) <= list(Step).index(step)
                ink.put("◆" if done else "◇", STRONG if done else DIM)
            ink.put(f" {step}", STRONG)
        else:
            words, style = _TURNS.get(unit.turn, ("", ""))
            if told := in_cut.get(unit.item.tag):
                words, style = told, STRONG
            ink.put(words, style)
        if unit.by == BY_ORDER:
            ink.put("   " + phrase("by MAC order only"), CONFLICT)
        lines.append(ink)
        if unit.because:
            lines += wrapped(unit.because, width, CONFLICT if unit.turn is Turn.LEFT else DIM, indent=column)
    return [blank(), *lines]


def _shared(macs: Sequence[MacAddress]) -> int:
    """Return how many characters all of them begin with: what is read on a label is what they differ in."""
    first, last = str(macs[0]), str(macs[-1])
    same = next((place for place in range(len(first)) if first[place] != last[place]), len(first))
    return same - same % 3 if len(macs) > 1 else 0


def _digest(units: Sequence[Unit], steps: Mapping[str, Step]) -> str:
    """Say how many units are how far, where there is no room for more than a few."""
    words = Counter(str(steps.get(unit.item.tag) or _TURNS.get(unit.turn, (unit.turn, ""))[0]) for unit in units)
    done = ", ".join(f"{count} {word}" for word, count in words.items())
    return phrase("{count} units: {done}", count=len(units), done=done)


def side_by_side_lines(said: Sequence[tuple[str, str]], width: int) -> list[Ink]:
    """Draw what each of several units at hand is at: its tag and the sentence that would go first."""
    lines = [blank(), heading(phrase("Current units, side by side"), width)]
    for tag, sentence in said:
        first, *more = wrapped(sentence, width - _NAME)
        lines.append(Ink().to(2).put(tag, STRONG).to(_NAME).put_line(first))
        lines += [Ink().to(_NAME).put_line(each) for each in more]
    return lines
