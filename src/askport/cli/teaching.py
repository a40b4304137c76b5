"""Learning from what passes through a door, for the command line."""

from collections.abc import Sequence
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import TYPE_CHECKING

from askport.cli import on_cable, saying
from askport.core import addresses, channels
from askport.core.errors import Refused
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.register import chain, entries
from askport.core.register.visits import Row
from askport.core.text import display_text
from askport.edges.files import write_file
from askport.edges.footing import Footing

if TYPE_CHECKING:
    from askport.core.lessons.page_lesson import PageLesson
    from askport.edges.learning_door import LearningDoor

_WHO_HAS_S = 3.0


class Teaching:
    """One unit that is set by hand, and the kind file that is made of it."""

    def __init__(self, path: Path, target: Target | None, name: str) -> None:
        """Prepare to learn.

        Args:
            target: what the unit is set to, where that is known.
            name: what the kind is called, or an empty text.
        """
        self._path, self._target, self._name = path, target, name or path.stem.replace("-", " ")
        self._door: LearningDoor | None = None
        self._mac: addresses.MacAddress | None = None
        self._far: channels.TcpPort | None = None
        self._went_down_at: float | None = None

    async def door(self, cable: Footing, far: channels.TcpPort, mac: addresses.MacAddress | None) -> "LearningDoor":
        """Return the door, once it is known whose page it leads to."""
        from askport.edges.door import SECURE_PORTS
        from askport.edges.learning_door import LearningDoor

        self._far, self._mac = far, mac
        if mac is None and isinstance(far.address, IPv4Address):
            finder = on_cable.finder_on(cable, measures=False)
            finder.call([far.address], now=cable.wire.now(), guess=False)
            await on_cable.run(finder, cable, _WHO_HAS_S, lambda: any(each.is_found for each in finder.devices()))
            found = (each for each in finder.devices() if each.best and each.best.address == far.address)
            self._mac = next((each.mac for each in found), None)
        secure = far.port in SECURE_PORTS
        self._door = LearningDoor(cable, far, secure=secure, now=cable.wire.now)
        return self._door

    def look(self, cable: Footing) -> None:
        """See whether the power was cut since something was sent: what is used only then is used after a restart."""
        if not cable.wire.link().up:
            self._went_down_at = cable.wire.now()

    def write(self) -> None:
        """Write what was learned.

        Raises:
            Refused: there was nothing to be learned.
        """
        from askport.core.lessons.drafting import draft
        from askport.core.lessons.marks import Marks
        from askport.core.lessons.page_lesson import learn

        door, far = self._door, self._far
        if door is None or far is None or not isinstance(far.address, IPv4Address):
            return
        for each in door.said:
            saying.say(each)
        if not door.exchanges:
            raise Refused("Nothing passed through the door: nothing was learned.")
        at = door.far.address  # where the door was led to, once it had moved
        seen = at if isinstance(at, IPv4Address) and at != far.address else None
        lesson = learn(door.exchanges, present=far.address, target=self._target, seen=seen)
        if lesson.why_not or lesson.target is None:
            raise Refused(lesson.why_not)
        last = door.exchanges[-1].at
        today = datetime.now(UTC).astimezone().date()
        text = draft(
            lesson,
            name=display_text(self._name, 60),
            marks=Marks(self._mac),
            secure=door.secure,
            port=far.port,
            after_restart=self._went_down_at is not None and self._went_down_at > last,
            learned=phrase("Learned from {mac} on {today}", mac=self._mac or far, today=today),
            delivered=lesson.found,
        )
        _write(lesson, text, self._path)


def draft_from(kept: Sequence[chain.Line], row: Row, path: Path, name: str) -> None:
    """Write a kind file of what a job has kept of a unit that was set by hand, the last time counting.

    Raises:
        Refused: nothing was kept, or nothing can be learned from it.
    """
    from askport.core.lessons.drafting import draft
    from askport.core.lessons.evidence import as_passed
    from askport.core.lessons.marks import Marks
    from askport.core.lessons.page_lesson import learn

    line = next(reversed(kept), None)
    if line is None or not isinstance(line.entry, entries.Taught):
        raise Refused(
            "Nothing was kept of how {tag} was set: open its page through Ask Port the next time (o).", tag=row.tag
        )
    entry, visits = line.entry, {each.unit: each for each in row.visits}
    left = visits[entry.unit].as_left if entry.unit in visits else row.last.as_left
    target = None
    if left.address.value and left.prefix.value is not None:
        interface = IPv4Interface((left.address.value, left.prefix.value))
        target = Target(interface=interface, gateway=left.gateway.value, dns=left.dns.value or ())
    lesson = learn([as_passed(each) for each in entry.exchanges], present=entry.present, target=target, name=row.tag)
    if lesson.why_not:
        raise Refused(lesson.why_not)
    text = draft(
        lesson, name=display_text(name, 60), marks=Marks(entry.mac), secure=entry.secure, port=entry.port,
        after_restart=entry.after_restart,
        learned=phrase("Learned from {tag} on {date}", tag=row.tag, date=line.at.astimezone().date()),
    )  # fmt: skip
    _write(lesson, text, path)


def _write(lesson: "PageLesson", text: str, path: Path) -> None:
    write_file(path, text.encode())
    said = (
        "{words}, of what made it {interface}: written to {path}." if lesson.target else "{words}: written to {path}."
    )
    saying.say(said, words=lesson.words, interface=lesson.target and lesson.target.interface, path=path)
    for stood in lesson.stood:
        said = phrase(
            "{field} = {placeholder}, which stood for {value}",
            field=display_text(stood.field, 40),
            placeholder=stood.placeholder,
            value=stood.value,
        )
        saying.say(f"    {said}")
