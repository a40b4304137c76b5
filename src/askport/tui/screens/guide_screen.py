"""The guide, opened at the situation that is on the screen."""

import re

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Markdown, Static

from askport.core.finding.loudness import Loudness
from askport.core.phrases import phrase
from askport.core.visit.session import Session
from askport.core.visit.steps import Phase, Step
from askport.edges.guide_text import parts
from askport.tui.ink import DIM, STRONG, Ink
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets.key_line import KeyLine
from askport.tui.widgets.sheet import Sheet

WARNINGS, OF_LAPTOP, _NEW, _REACH, _BY_HAND, _FAILED, _POWER, _RECORD = (
    "Warnings", "Warnings about the laptop", "One device in six steps", "It cannot be reached",
    "Set on its web page or keypad", "A check failed", "The power cycle", "The register and the handover",
)  # fmt: skip
BY_PHASE = {
    Phase.PLUGGING: _NEW, Phase.FINDING: _NEW, Phase.MEASURING: _NEW,
    Phase.CHOOSING: _REACH, Phase.MAY_BORROW: _REACH, Phase.BORROWING: _REACH, Phase.TRYING_PORTS: _REACH,
    Phase.PREPARING: _BY_HAND, Phase.MAY_SET: _BY_HAND, Phase.BORROWING_TO_SET: _BY_HAND, Phase.SETTING: _BY_HAND,
    Phase.NOT_SET: "It refused", Phase.MAY_KEEP: _BY_HAND, Phase.KEEPING: _BY_HAND,
    Phase.MAY_PROVE: _FAILED, Phase.BORROWING_TO_PROVE: _FAILED, Phase.PROVING: _FAILED, Phase.NOT_PROVEN: _FAILED,
    Phase.POWER_CYCLE: _POWER, Phase.PROVING_AGAIN: _POWER, Phase.FORGOTTEN: _FAILED,
    Phase.MAY_RECORD: _RECORD, Phase.RECORDED: _RECORD,
}  # fmt: skip
_ASKS = "Set by DHCP, BOOTP or a ping"
BY_WAY = {
    "hand": _BY_HAND, "page": _BY_HAND, "console": "Set on its console", "dhcp": _ASKS, "bootp": _ASKS, "ping": _ASKS,
}  # fmt: skip
_ANY_OTHER_WAY = "Set by a field protocol"
SILENT = "No device is found"
_ROOM_FOR_CONTENTS = 130


def situation(session: Session) -> str:
    """Return the heading of the part that fits what is on the screen."""
    phase = session.phase
    if phase.step in (Step.PLUG, Step.FIND):
        if any(each.code != "link-down" for each in session.cable.finder.hazards()):
            return WARNINGS
        if session.cable.laptop.hazards:
            return OF_LAPTOP
        asked = session.cable.finder.loudness is not Loudness.LISTEN
        return SILENT if asked and session.cable.search.candidate is None else BY_PHASE[phase]
    if BY_PHASE[phase] is _BY_HAND and session.device.way_name:
        return BY_WAY.get(session.device.way_name, _ANY_OTHER_WAY)
    return BY_PHASE[phase]


class GuideScreen(DrawnScreen[None]):
    """Shows one part of the guide, and the others by the arrow keys."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "keys_screen.tcss"
    BINDINGS = [
        Binding("escape,enter", "dismiss", "Back", id="guide.back", key_display="Esc"),
        Binding("right,n", "turn(1)", "Next part", id="guide.next"),
        Binding("left,p", "turn(-1)", "Part before", id="guide.before"),
    ]

    def __init__(self, at: str) -> None:
        super().__init__()
        self._at = next((place for place, each in enumerate(parts()) if each.heading == at), 0)

    def compose(self) -> ComposeResult:
        """Lay out the part."""
        with Horizontal():
            with VerticalScroll(id="keys"):
                yield Static(id="place")
                yield Markdown(id="part", open_links=False)
            yield Sheet(id="contents")
        yield KeyLine()

    def action_turn(self, by: int) -> None:
        """Show another part, from its beginning."""
        self._at = (self._at + by) % len(parts())
        self.query_one("#keys", VerticalScroll).scroll_home(animate=False)
        self.draw()

    def draw(self) -> None:
        part = parts()[self._at]
        self.query_one("#place", Static).update(
            phrase("part {part} of {parts} of the guide", part=self._at + 1, parts=len(parts()))
        )
        self.query_one(Markdown).update(f"## {part.heading}\n{_for_screen(part.text)}")
        contents = self.query_one("#contents", Sheet)
        contents.display = self.room >= _ROOM_FOR_CONTENTS
        contents.show([
            Ink().put("▸ " if each is part else "  ", STRONG).put(each.heading, STRONG if each is part else DIM)
            for each in parts()
        ])  # fmt: skip


def _for_screen(text: str) -> str:
    """Return a part with its tables as lists, which need less room, and commands in one colour."""
    listed = re.sub(r"^\|[^|\n]*\|[^|\n]*\|\n\|---.*\n", "", text, flags=re.MULTILINE)
    listed = re.sub(
        r"^\| (.*?) \| (.*) \|$", lambda row: f"- **{row[1].replace('*', '')}**: {row[2]}", listed, flags=re.MULTILINE
    )
    return listed.replace("```sh", "```text")
