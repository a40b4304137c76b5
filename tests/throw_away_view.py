"""A view that nobody needs: what a new one takes is this module and one line in the table of actions."""

from askport.tui.actions import Action
from askport.tui.ink import line
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets.sheet import Sheet


class FramesSoFar(DrawnScreen[None]):
    BINDINGS = [("escape", "dismiss", "Back")]

    @classmethod
    def over(cls, desk):
        view = cls()
        view.finder = desk.workplace.run.session.cable.finder
        return view

    def compose(self):
        yield Sheet()

    def draw(self):
        self.query_one(Sheet).show([line(f"So far {self.finder.frames_seen} frames")])


ACTION = Action(name="so_far", opens="throw_away_view:FramesSoFar.over", key="y", title="So far", says="Frames so far")
