"""Taking devices up, and the keys that do at the practice bench what hands do at a real one."""

from collections.abc import Callable

from askport.bench.practice import Practice
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem
from askport.tui.workplace import Workplace


class PracticeHands:
    """Takes devices up, and handles the stand-in at the practice bench."""

    def __init__(self, workplace: Workplace, draw: Callable[[], None]) -> None:
        self._workplace, self._draw = workplace, draw
        self.said = ""
        """What the person at the bench sees."""

    @property
    def _hands(self) -> tuple[Practice | None, Target | None]:
        return self._workplace.practice, self._workplace.run.session.device.target

    def _by_hand(self, said: str) -> None:
        self.said = said
        self._workplace.run.wire.wake()
        self._draw()

    def take_up(self, item: WorkItem, *, is_meant: bool = True) -> None:
        """Take another device of the work list than the next one, because it was chosen or is like the last."""
        run, practice = self._workplace.run, self._workplace.practice
        run.take(item, is_meant=is_meant)
        if practice:
            practice.take(item)
        run.wire.wake()

    def take_next(self) -> None:
        """Go on to the next device."""
        run, practice = self._workplace.run, self._workplace.practice
        self.said = ""
        if practice:
            practice.bench.plug()
        run.next_device()
        if practice:
            practice.take(run.item)
        run.wire.wake()

    def power(self) -> None:
        """Pull its power, or put it back."""
        practice, _ = self._hands
        if practice:
            self._by_hand(practice.toggle_power())

    def type_values(self) -> None:
        """Type the planned values into the device."""
        practice, target = self._hands
        if practice:
            self._by_hand(practice.type_in(target))

    def mistype(self) -> None:
        """Type them with a slip of the fingers."""
        practice, target = self._hands
        if practice:
            self._by_hand(practice.type_in(target, wrongly=True))
