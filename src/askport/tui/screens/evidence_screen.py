"""What a device was heard to say, each sentence with the frame behind it: the bytes, each run with its meaning."""

from collections.abc import Iterable

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll

from askport.core.finding import beliefs, quoting
from askport.core.finding.device import Device, device_words
from askport.core.formats.frame_fields import Field
from askport.core.phrases import phrase
from askport.core.wire import Heard, Wire
from askport.tui.ink import DIM, STRONG, THEIRS, Ink, blank, heading, line, wrapped
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet

_SENTENCES = 10
_MOST_BYTES = 16
"""Bytes shown of one field; a long message is cut after these."""
_GAP = 3


class EvidenceScreen(DrawnScreen[None]):
    """The sentences about one device, and the frame behind the one at hand."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "evidence_screen.tcss"
    BINDINGS = [
        Binding("escape,f", "app.pop_screen", phrase("Back to the cable"), id="evidence.back"),
        Binding("down,j", "sentence(1)", phrase("Next sentence"), key_display="↓", id="evidence.next"),
        Binding("up,k", "sentence(-1)", phrase("Sentence before"), key_display="↑", id="evidence.previous"),
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
        title = Ink().put(f"  {phrase('What it said:')} ").put(self._device.mac, f"{STRONG} {THEIRS}")
        title.put(f"  {device_words(self._device, self._maker)}", DIM)
        self.query_one("#heading", sheet.Sheet).show([title])
        if not reasons:
            self.query_one("#sentences", sheet.Sheet).show([line(phrase("Nothing useful heard from it yet."), DIM)])
            return
        self._at %= len(reasons)
        reason = reasons[self._at]
        self.query_one("#sentences", sheet.Sheet).show(sentence_lines(reasons, self._at, width, _SENTENCES))
        frame = self.query_one("#bytes", sheet.Sheet)
        if not reason.frames:
            frame.show(wrapped(phrase("No single frame says this: it was measured, or rests on silence."), width, DIM))
            return
        lines = []
        for heard in reason.frames:
            said = "heard first at {when}" if heard is reason.frames[0] else "heard last at {when}"
            said = "heard at {when}" if len(reason.frames) == 1 else said
            when = f"{self._wire.wall(heard.at).astimezone():%H:%M:%S.%f}"[:-3]
            lines += [
                *frame_lines(heard, reason, phrase(said, when=when), width),
                blank(),
            ]
        frame.show(lines)

    def action_sentence(self, by: int) -> None:
        """Go to another sentence."""
        self._at += by
        self.draw()


def sentence_lines(reasons: list[beliefs.Reason], at: int, width: int, room: int) -> list[Ink]:
    """List the sentences, the one at hand pointed at; those without a frame behind them are dim."""
    first = max(0, min(at - room // 2, len(reasons) - room))
    lines = []
    for place, reason in enumerate(reasons[first : first + room], first):
        here = place == at
        style = STRONG if here else "" if reason.frames else DIM
        text = reason.sentence if len(reason.sentence) <= width - 4 else f"{reason.sentence[: width - 5]}…"
        lines.append(Ink().put("▸ " if here else "  ", STRONG).put(text, style))
    return lines


def frame_lines(heard: Heard, reason: beliefs.Reason, when: str, width: int) -> list[Ink]:
    """Draw a frame as runs of bytes, those that say so standing out."""
    title = phrase("{count} bytes, {when}", count=len(heard.data), when=when)
    lines = [heading(title, width), blank()]
    if reason.clue is None:
        return [*lines, line(phrase("Nothing in this frame alone says so."), DIM)]
    marked = quoting.bytes_behind(heard, reason.clue)
    row: list[tuple[quoting.Marked, int]] = []
    used = 0
    for each in _with_gaps(marked, heard.data):
        cells = max(_cells(each.field), len(each.field.name), min(len(each.field.value), 30)) + _GAP
        if row and used + cells > width:
            lines += [*_row(row, heard.data), blank()]
            row, used = [], 0
        row.append((each, cells))
        used += cells
    lines += [*_row(row, heard.data), blank()] if row else []
    said = [each.field for each in marked if each.says_so]
    if not said:
        lines += wrapped(phrase("The frame itself is the evidence, not single bytes of it."), width, DIM)
    for field in said:
        end = field.end - 1
        where = (
            phrase("byte {offset}", offset=field.offset)
            if field.length == 1
            else phrase("bytes {offset} to {end}", offset=field.offset, end=end)
        )
        lines.append(Ink().put(where, DIM).to(20).put(field.name, THEIRS).to(48).put(field.value, STRONG))
    return lines


def _cells(field: Field) -> int:
    return min(field.length, _MOST_BYTES) * 3 - 1 + (2 if field.length > _MOST_BYTES else 0)


def _with_gaps(marked: Iterable[quoting.Marked], data: bytes) -> Iterable[quoting.Marked]:
    """Yield the fields with the bytes between them, which mean nothing here."""
    at = 0
    for each in sorted(marked, key=lambda each: (each.field.offset, -each.field.length)):
        if each.field.offset > at:
            yield quoting.Marked(Field(at, each.field.offset - at, "", ""), False)
        yield each
        at = max(at, each.field.end)
    if at < len(data):
        padding = not any(data[at:])
        yield quoting.Marked(Field(at, len(data) - at, "padding" if padding else "", ""), False)


def _row(row: list[tuple[quoting.Marked, int]], data: bytes) -> list[Ink]:
    hexes, names, values = Ink(), Ink(), Ink()
    column = 0
    for each, cells in row:
        field = each.field
        shown = data[field.offset : field.offset + min(field.length, _MOST_BYTES)].hex(" ")
        style = f"{STRONG} reverse {THEIRS}" if each.says_so else DIM
        hexes.to(column).put(shown + (" …" if field.length > _MOST_BYTES else ""), style)
        names.to(column).put(field.name, f"{STRONG} {THEIRS}" if each.says_so else DIM)
        values.to(column).put(field.value[:30], STRONG if each.says_so else DIM)
        column += cells
    return [hexes, names, values]
