"""Taking devices up, and the keys that do at the practice bench what hands do at a real one."""

from askport.bench.practice import Practice
from askport.core.plan.target import Target
from askport.core.plan.working_order import WorkItem
from askport.tui.workplace import Workplace


class PracticeHands:
    """Handles the stand-in, and has the screen say what the person sees."""

    workplace: Workplace
    _said_by_hand = ""

    def draw(self) -> None:
        """Show the state of this moment."""
        raise NotImplementedError

    def tell(self, text: str) -> None:
        """Say something beside the way."""
        raise NotImplementedError

    @property
    def _hands(self) -> tuple[Practice | None, Target | None]:
        return self.workplace.practice, self.workplace.run.session.device.target

    def _by_hand(self, said: str) -> None:
        self._said_by_hand = said
        self.workplace.run.wire.wake()
        self.draw()

    def take_up(self, item: WorkItem, *, is_meant: bool = True) -> None:
        """Take another device of the work list than the next one, because it was chosen or is like the last."""
        run, practice = self.workplace.run, self.workplace.practice
        run.take(item, is_meant=is_meant)
        if practice:
            practice.take(item)
        run.wire.wake()

    def take_next(self) -> None:
        """Go on to the next device."""
        run, practice = self.workplace.run, self.workplace.practice
        self._said_by_hand = ""
        if practice:
            practice.bench.plug()
        run.next_device()
        if practice:
            practice.take(run.item)
        run.wire.wake()

    def action_hand_power(self) -> None:
        """Pull its power, or put it back."""
        practice, _ = self._hands
        if practice:
            self._by_hand(practice.toggle_power())

    def action_hand_type(self) -> None:
        """Type the planned values into the device."""
        practice, target = self._hands
        if practice:
            self._by_hand(practice.type_in(target))

    def action_hand_mistype(self) -> None:
        """Type them with a slip of the fingers."""
        practice, target = self._hands
        if practice:
            self._by_hand(practice.type_in(target, wrongly=True))
