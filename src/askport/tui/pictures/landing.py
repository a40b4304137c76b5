"""Where a device has landed, under where it was meant to be, digit by digit."""

from ipaddress import IPv4Address

from askport.core.phrases import phrase
from askport.core.plan.landings import digit_by_digit
from askport.tui.ink import CONFLICT, DIM, STRONG, Ink

_AT = 18


def landing_lines(meant: IPv4Address, landed: IPv4Address) -> list[Ink]:
    """Draw the two one under the other, with a mark under each digit that differs."""
    planned, is_at, marks = (Ink().to(2).put(name, DIM).to(_AT) for name in (phrase("planned"), phrase("it is at"), ""))
    for mine, theirs, same in digit_by_digit(meant, landed):
        planned.put(mine, STRONG)
        is_at.put(theirs, STRONG if same else f"{STRONG} {CONFLICT}")
        marks.put(" " if same else "▲", CONFLICT)
    return [planned, is_at, marks]
