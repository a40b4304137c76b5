"""What a device was heard to say, each sentence with the frame behind it."""

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll

from askport.core.finding.device import Device, device_words
from askport.core.wire import Wire
from askport.tui.ink import DIM, STRONG, THEIRS, Ink, blank, line, wrapped
from askport.tui.pictures.evidence_picture import frame_lines, sentence_lines
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet

_SENTENCES = 10


class EvidenceScreen(DrawnScreen[None]):
    """The sentences about one device, and the frame behind the one at hand."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "evidence_screen.tcss"
    BINDINGS = [
        Binding("escape,f", "app.pop_screen", "Back to the cable", id="evidence.back"),
        Binding("down,j", "sentence(1)", "Next sentence", key_display="↓", id="evidence.next"),
        Binding("up,k", "sentence(-1)", "Sentence before", key_display="↑", id="evidence.previous"),
    ]

    def __init__(self, device: Device, maker: str | None, wire: Wire) -> None:
        super().__init__()
        self._device, self._maker, self._wire = device, maker, wire
        self._at = 0

    def compose(self) -> ComposeResult:
        """Lay out the sentences over the frame."""
        yield sheet.Sheet(id="heading")
        yield sheet.Sheet(id="sentences")
        with VerticalScroll(id="frame"):
            yield sheet.Sheet(id="bytes")
        yield key_line.KeyLine()

    def draw(self) -> None:
        width = self.sheet_room
        reasons = self._device.reasons()
        title = Ink().put("  What it said: ").put(self._device.mac, f"{STRONG} {THEIRS}")
        title.put(f"  {device_words(self._device, self._maker)}", DIM)
        self.query_one("#heading", sheet.Sheet).show([title])
        if not reasons:
            self.query_one("#sentences", sheet.Sheet).show([line("It has said nothing that tells anything yet.", DIM)])
            return
        self._at %= len(reasons)
        reason = reasons[self._at]
        self.query_one("#sentences", sheet.Sheet).show(sentence_lines(reasons, self._at, width, _SENTENCES))
        frame = self.query_one("#bytes", sheet.Sheet)
        if not reason.frames:
            frame.show(wrapped("No single frame says this: it was measured, or rests on silence.", width, DIM))
            return
        lines = []
        for heard in reason.frames:
            which = "" if len(reason.frames) == 1 else "first " if heard is reason.frames[0] else "last "
            when = f"{self._wire.wall(heard.at).astimezone():%H:%M:%S.%f}"[:-3]
            lines += [*frame_lines(heard, reason, f"heard {which}at {when}", width), blank()]
        frame.show(lines)

    def action_sentence(self, by: int) -> None:
        """Go to another sentence."""
        self._at += by
        self.draw()
