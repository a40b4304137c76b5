"""What members of a crew say differently of one site: named, and never settled silently."""

from collections.abc import Iterable, Iterator
from itertools import pairwise

from askport.core.register.visits import Row
from askport.core.text import listed


def differences(row: Row, others: Iterable[Row], own: str) -> Iterator[str]:
    """Yield a sentence for each thing that a device has and another device of another member has too.

    Args:
        row: the device.
        others: devices with the same tag, or left with the same address.
        own: what the member is called whose file this is.
    """
    for other in others:
        both = sorted((row, other), key=lambda each: str(each.mac))
        said = {_by(each, own) for each in both}
        if other.id == row.id or len(said) < 2:
            continue
        each = listed([f"{one.mac} by {_by(one, own)}" for one in both])
        if row.left and row.left == other.left:
            yield f"The address {row.left} is given to {each}: one of them has to get another."
        if row.tag and row.tag == other.tag:
            yield f"The tag {row.tag} is given to {each}: one of them has to get another."


def at_once(row: Row, own: str) -> str:
    """Say that two members had a device on the cable at the same time and say differently how they left it."""
    done = [each for each in row.visits if each.recorded_at]
    for first, second in pairwise(done):
        overlaps = first.recorded_at and second.found_at < first.recorded_at
        names = (first.member or own, second.member or own)
        if not overlaps or names[0] == names[1]:
            continue
        both = list(zip((first, second), names, strict=True))
        if first.as_left != second.as_left:
            left = listed([f"{each.as_left.address.value or 'no address'} by {name}" for each, name in both])
            return f"{row.mac} was left at the same time with {left}: see which is true, and prove it again."
        if first.is_proven != second.is_proven and (first.failed or second.failed):
            said = listed([f"{'failed' if each.failed else each.state} by {name}" for each, name in both])
            return f"{row.mac} was {said} at the same time: prove it again."
    return ""


def _by(row: Row, own: str) -> str:
    return row.visits[-1].member or own or "this computer"
