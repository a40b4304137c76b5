"""What members of a crew say differently of one site: named, and never settled silently."""

from collections.abc import Iterable, Iterator
from itertools import combinations

from askport.core.phrases import listed, phrase
from askport.core.register import chain, in_order, visits


def differences(row: visits.Row, others: Iterable[visits.Row], own: str) -> Iterator[str]:
    """Yield a sentence for each thing that a device has and another device of another member has too.

    Args:
        others: devices with the same tag, or left with the same address.
    """
    for other in others:
        both = sorted((row, other), key=lambda each: str(each.mac))
        said = {_by(each, own) for each in both}
        if other.id == row.id or len(said) < 2:
            continue
        each = listed([phrase("{mac} by {by}", mac=one.mac, by=_by(one, own)) for one in both])
        if row.left and row.left == other.left:
            yield phrase(
                "The address {left} is given to {each}: one of them has to get another.", left=row.left, each=each
            )
        if row.tag and row.tag == other.tag:
            yield phrase("The tag {tag} is given to {each}: one of them has to get another.", tag=row.tag, each=each)


def apart(row: visits.Row, own: str) -> Iterator[str]:
    """Yield how two members left a device differently, neither of whom knew of the other's visit."""
    done = [each for each in row.visits if each.recorded_at]
    for first, second in combinations(done, 2):
        names = (first.member or own, second.member or own)
        if names[0] == names[1] or first.unit in second.upon or second.unit in first.upon:
            continue
        both = list(zip((first, second), names, strict=True))
        if first.as_left != second.as_left:
            left = listed(
                [
                    phrase("{value} by {name}", value=each.as_left.address.value or "no address", name=name)
                    for each, name in both
                ]
            )
            yield phrase(
                "{mac} was left with {left}, and neither had seen the other's visit: prove it again.",
                mac=row.mac,
                left=left,
            )
        elif first.is_proven != second.is_proven and (first.failed or second.failed):
            said = listed(
                [
                    phrase("{state} by {name}", state="failed" if each.failed else each.state, name=name)
                    for each, name in both
                ]
            )
            yield phrase(
                "{mac} was {said}, and neither had seen the other's visit: prove it again.", mac=row.mac, said=said
            )


def planned_apart(lines: Iterable[chain.Line], own: str) -> Iterator[str]:
    """Yield which rows of the plan members changed differently without knowing of each other's change."""
    rows: dict[str, list[chain.Line]] = {}
    for line in lines:
        if row := in_order.planned(line):
            rows.setdefault(row, []).append(line)
    for row, changes in rows.items():
        last = in_order.newest(changes, own)
        who = sorted({line.member or own for line in last})
        if len(who) > 1 and len({line.entry.model_dump_json(exclude={"upon"}) for line in last}) > 1:
            yield phrase(
                "{row} is planned differently by {who}: the later plan is taken; change it to settle it.",
                row=row,
                who=listed(who),
            )


def _by(row: visits.Row, own: str) -> str:
    return row.visits[-1].member or own or phrase("this computer")
