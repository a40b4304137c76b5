"""Learning from what passes through a door, for the command line."""

from datetime import UTC, datetime
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING

from askport.cli.cable import finder_on, run
from askport.cli.talk import say
from askport.core.addresses import MacAddress
from askport.core.channels import TcpPort
from askport.core.errors import Refused
from askport.core.plan.target import Target
from askport.core.text import display_text
from askport.edges.files import write_file
from askport.edges.keeper_client import Keeper

if TYPE_CHECKING:
    from askport.edges.learning_door import LearningDoor

_WHO_HAS_S = 3.0


class Taught:
    """One unit that is set by hand, and the kind file that is made of it."""

    def __init__(self, path: Path, target: Target | None, name: str) -> None:
        """Prepare to learn.

        Args:
            path: the kind file to write.
            target: what the unit is set to, where that is known.
            name: what the kind is called, or an empty text.
        """
        self._path, self._target, self._name = path, target, name or path.stem.replace("-", " ")
        self._door: LearningDoor | None = None
        self._mac: MacAddress | None = None
        self._far: TcpPort | None = None
        self._went_down_at: float | None = None

    async def door(self, keeper: Keeper, far: TcpPort, mac: MacAddress | None) -> "LearningDoor":
        """Return the door, once it is known whose page it leads to."""
        from askport.edges.learning_door import SECURE_PORTS, LearningDoor

        self._far, self._mac = far, mac
        if mac is None and isinstance(far.address, IPv4Address):
            finder = finder_on(keeper, measures=False)
            finder.call([far.address], now=keeper.wire.now(), guess=False)
            await run(finder, keeper, _WHO_HAS_S, lambda: any(each.is_found for each in finder.devices()))
            found = (each for each in finder.devices() if each.best and each.best.address == far.address)
            self._mac = next((each.mac for each in found), None)
        secure = far.port in SECURE_PORTS
        self._door = LearningDoor(keeper.adapter, far, secure=secure, now=keeper.wire.now)
        return self._door

    def look(self, keeper: Keeper) -> None:
        """See whether the power was cut since something was sent: what is used only then is used after a restart."""
        if not keeper.wire.link().up:
            self._went_down_at = keeper.wire.now()

    def write(self) -> None:
        """Write what was learned.

        Raises:
            Refused: there was nothing to be learned.
        """
        from askport.core.lessons.drafting import draft
        from askport.core.lessons.page_lesson import learn

        door, far = self._door, self._far
        if door is None or far is None or not isinstance(far.address, IPv4Address):
            return
        for each in door.not_learned:
            say(each)
        if not door.exchanges:
            raise Refused("Nothing passed through the door: nothing was learned.")
        lesson = learn(door.exchanges, present=far.address, target=self._target)
        if lesson.why_not or lesson.target is None:
            raise Refused(lesson.why_not)
        last = door.exchanges[-1].at
        today = datetime.now(UTC).astimezone().date()
        text = draft(
            lesson,
            name=display_text(self._name, 60),
            mac=self._mac,
            secure=door.secure,
            port=far.port,
            after_restart=self._went_down_at is not None and self._went_down_at > last,
            learned=f"Learned from {self._mac or far} on {today}",
        )
        write_file(self._path, text.encode())
        say(f"{lesson.words}, of what made it {lesson.target.interface}: written to {self._path}.")
        for stood in lesson.stood:
            say(f"    {display_text(stood.field, 40)} = {stood.placeholder}, which stood for {stood.value}")
