"""All units of a small switch, drawn as what hangs on one cable."""

from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress
from askport.core.crate.cut_together import KeptUnit
from askport.core.crate.switch_crate import BY_ORDER, Turn, Unit
from askport.core.visit.steps import Step
from askport.tui.ink import CONFLICT, DIM, OURS, STRONG, THEIRS, Ink, blank, heading, line, wrapped

_NAME, _SAID = 14, 9
_LEAST_S = 10.0
_HEAD = "  laptop ═"
_TURNS = {
    Turn.WAITS: ("its turn comes", DIM),
    Turn.RECORDED: ("recorded", OURS),
    Turn.PROVEN: ("proven", THEIRS),
    Turn.LEFT: ("left as it is", CONFLICT),
}


def switch_lines(
    heard: Mapping[MacAddress, IPv4Address | None],
    units: Sequence[Unit],
    half: MacAddress | None,
    steps: Mapping[str, Step],
    in_cut: Mapping[str, str],
    width: int,
) -> list[Ink]:
    """Draw one row a unit: its MAC address, where it is, its tag, and how far it came.

    Args:
        heard: who is on the switch, and where.
        units: those that have a tag.
        half: the MAC address of which the tag is awaited.
        steps: where each unit at hand stands, by its tag.
        in_cut: where each stands in the power cut of all, by its tag.
        width: of the picture.
    """
    by_mac = {each.mac: each for each in units}
    macs = sorted({*heard, *by_mac, *([half] if half else [])})
    if not macs:
        return [line("Nobody is heard on this switch yet.", DIM, 2)]
    shared = _shared(macs)
    lines: list[Ink] = []
    for place, mac in enumerate(macs):
        ink = Ink().put(_HEAD if place == 0 else " " * len(_HEAD), OURS)
        knot = "╤" if place == 0 < len(macs) - 1 else "═" if len(macs) == 1 else "└" if mac == macs[-1] else "├"
        ink.put(f"{knot}── ", OURS)
        text = str(mac)
        ink.put(text[:shared], DIM).put(text[shared:], STRONG if mac != half else f"{STRONG} {THEIRS}")
        ink.to(len(_HEAD) + 24).put(heard.get(mac) or "not heard", THEIRS if heard.get(mac) else DIM)
        column = len(_HEAD) + 42
        unit = by_mac.get(mac)
        if unit is None:
            ink.to(column).put("now its tag …" if mac == half else "no tag: nothing is set on it", DIM)
            lines.append(ink)
            continue
        ink.to(column).put(unit.item.tag, STRONG).to(column + 10)
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
            ink.put("   by the order alone", CONFLICT)
        lines.append(ink)
        if unit.because:
            lines += wrapped(unit.because, width, CONFLICT if unit.turn is Turn.LEFT else DIM, indent=column)
    return [blank(), *lines]


def power_lines(units: Sequence[KeptUnit], now: float, width: int) -> list[Ink]:
    """Draw when each lost its power, spoke first and answered again, all on one line of time."""
    cut = [each.cycle.lane.off_at for each in units if each.cycle and each.cycle.lane.off_at is not None]
    if not cut:
        return []
    began = min(cut)
    room = width - _NAME - _SAID
    span = max(_LEAST_S, 1.2 * max((each.cycle.lane.back_at or now) - began for each in units if each.cycle))

    def at(moment: float) -> int:
        return min(room, round((moment - began) / span * room))

    lines = [heading(f"Power off ▁, first word ╌, answers ━: {span:.0f} s", width)]
    for unit in units:
        lane = unit.cycle.lane if unit.cycle else None
        if lane is None or lane.off_at is None:
            continue
        ink = Ink().put(f"  {unit.tag}", STRONG).to(_NAME).to(_NAME + at(lane.off_at))
        first, back = lane.first_heard_at, lane.back_at
        ink.put("▁" * (at(first or now) - at(lane.off_at)), DIM)
        if first is not None:
            ink.put("╌" * (at(back or now) - at(first)), THEIRS)
        if back is not None:
            ink.put("━" * (room - at(back)), THEIRS).put(f" {back - lane.off_at:.1f} s", DIM)
        lines.append(ink)
    return lines


def _shared(macs: Sequence[MacAddress]) -> int:
    """Return how many characters all of them begin with: what is read on a label is what they differ in."""
    first, last = str(macs[0]), str(macs[-1])
    same = next((place for place in range(len(first)) if first[place] != last[place]), len(first))
    return same - same % 3 if len(macs) > 1 else 0


def side_by_side_lines(said: Sequence[tuple[str, str]], width: int) -> list[Ink]:
    """Draw what each of several units at hand is at: its tag and the sentence that would go first."""
    lines = [blank(), heading("At hand, side by side", width)]
    for tag, sentence in said:
        first, *more = wrapped(sentence, width - _NAME)
        lines.append(Ink().to(2).put(tag, STRONG).to(_NAME).put_line(first))
        lines += [Ink().to(_NAME).put_line(each) for each in more]
    return lines
