"""What somebody writes behind the record of a device: nothing in it is changed."""

from collections.abc import Iterable

from askport.core.crew.seals import Member
from askport.core.errors import BadInput
from askport.core.plan.working_order import clean_tag
from askport.core.register import entries, visits
from askport.core.text import display_text

MAX_REMARK = 400
"""Characters: what fits on a page of the handover."""


def clean_remark(text: str) -> str:
    """Return a remark as it is kept.

    Raises:
        BadInput: it is empty, too long, or has characters that cannot be printed.
    """
    remark = " ".join(text.split())
    if not remark or len(remark) > MAX_REMARK or not remark.isprintable():
        raise BadInput(
            "A remark has 1 to {max_remark} printable characters: this one has {count}.",
            max_remark=MAX_REMARK,
            count=len(remark),
        )
    return remark


def noted(row: visits.Row, text: str, photo: str = "") -> entries.Noted:
    """Return what is to be known of a device; ``photo`` is the name of a file.

    Raises:
        BadInput: it cannot be kept.
    """
    shown = clean_remark(photo) if photo else ""
    return entries.Noted(unit=row.last.unit, mac=row.mac, text=clean_remark(text), photo=shown)


def named(row: visits.Row, tag: str, rows: Iterable[visits.Row]) -> entries.Named:
    """Return a device's right tag, which no other of the rows has.

    Raises:
        BadInput: it is no tag, or another device's.
    """
    right = clean_tag(tag)
    other = next((each for each in rows if each.tag == right and each.id != row.id), None)
    if other:
        raise BadInput("'{right}' is the tag of {mac} already: correct that one first.", right=right, mac=other.mac)
    return entries.Named(unit=row.last.unit, mac=row.mac, tag=right)


def reopened(row: visits.Row, because: str) -> entries.Reopened:
    """Return that a device which was recorded is to be commissioned again.

    Raises:
        BadInput: it is not recorded, or the reason cannot be kept.
    """
    if not row.last.recorded_at:
        raise BadInput("'{tag}' is not recorded: there is nothing to open again.", tag=row.tag or row.mac)
    return entries.Reopened(unit=row.last.unit, mac=row.mac, because=clean_remark(because))


def accepted(member: Member, typed: str) -> entries.MemberAccepted:
    """Return that a member is right, as its name that was typed once more says.

    Raises:
        BadInput: another name was typed.
    """
    if typed.strip() != member.name:
        raise BadInput(
            "'{typed}' is not the name: type '{name}'.",
            typed=display_text(typed, 40),
            name=display_text(member.name, 40),
        )
    return entries.MemberAccepted(name=member.name, key=member.key, removed=member.removed)
