"""A crate on a small switch: labels are scanned one after the other, and then all of it goes by itself."""

from collections.abc import Callable
from ipaddress import IPv4Address

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.content import Content
from textual.events import Key
from textual.message import Message
from textual.widgets import Input, Static

from askport.core import addresses, errors
from askport.core.finding.loudness import Loudness
from askport.core.phrases import phrase
from askport.core.visit.narrate import next_line
from askport.core.visit.stages.stage import Next
from askport.edges.switch_run import SwitchRun
from askport.tui.desk import Desk
from askport.tui.ink import DIM, STRONG, Ink, blank, heading
from askport.tui.pictures import around, picture_list
from askport.tui.pictures.switch_picture import Lanes, side_by_side_lines, switch_lines
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet
from askport.tui.workplace import Workplace

_STEPS_EVERY_S = 0.1
_DRAWS_EVERY_S = 0.25


class ScanLine(Input):
    """A line that is empty again the moment Enter comes: a barcode reader types on without waiting."""

    class Scanned(Message):
        """A line came."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    def on_key(self, event: Key) -> None:
        """Hand over what was typed, before the next character; a binding would come behind it."""
        if event.key == "enter":
            event.stop()
            typed, self.value = self.value.strip(), ""
            self.post_message(self.Scanned(typed))


class SwitchScreen(DrawnScreen[None]):
    """Who is who on the switch, and how far each of them is."""

    CSS_PATH = "switch_screen.tcss"
    DRAWS_EVERY_S = _DRAWS_EVERY_S
    AUTO_FOCUS = "#typed"
    BINDINGS = [
        Binding("enter", "go_on", phrase("Go on"), id="switch.next"),
        Binding(
            "f2", "in_order", phrase("Tags in order"), id="switch.order", tooltip=phrase("The next tags by MAC address")
        ),
        Binding("l", "leave_out", phrase("Skip power cycle"), id="switch.leave"),
        Binding("escape", "back", phrase("Back, or stop"), id="switch.back"),
        Binding("f6", "hand_power", phrase("Power of all"), id="switch.power", show=False),
        Binding("f7", "hand_scan", phrase("Scan a label"), id="switch.scan", show=False),
    ]

    def __init__(self, workplace: Workplace, over: Callable[[], object]) -> None:
        """Begin with those that are heard; ``over`` is called when the round goes on after them."""
        super().__init__()
        self._workplace, self._over = workplace, over
        run = workplace.run
        self.crate = run.crate(cuts_power=True)
        run.in_hand_too = lambda: [each.item for each in self.crate.units]
        self.going: SwitchRun | None = None
        self._heard: dict[addresses.MacAddress, IPv4Address | None] = {}

    @classmethod
    def over(cls, desk: Desk) -> "SwitchScreen":
        """Return it as it opens over the screen of the job."""
        return cls(desk.workplace, desk.take_next)

    def on_unmount(self) -> None:
        """Have no more in hand than the unit on the cable."""
        super().on_unmount()
        self._workplace.run.in_hand_too = lambda: ()

    def compose(self) -> ComposeResult:
        """Lay out the units over the line that labels are scanned into."""
        yield sheet.Sheet(id="heading")
        with VerticalScroll(id="scroll", can_focus=False):
            yield sheet.Sheet(id="units")
        with Vertical(id="scan"):
            yield ScanLine(id="typed", compact=True, placeholder=phrase("MAC address, then tag"))
            yield Static(id="said")
        yield sheet.Sheet(id="next")
        yield sheet.Sheet(id="hands")
        yield key_line.KeyLine()

    def on_mount(self) -> None:
        """Ask who is there, and draw."""
        session, now = self._workplace.run.session, self._workplace.run.wire.now()
        if session.cable.finder.loudness is Loudness.LISTEN:
            session.cable.search.louder(now)
            self._workplace.run.wire.wake()
        self.set_interval(_STEPS_EVERY_S, self.step)
        super().on_mount()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Offer only what makes sense now."""
        going = self.going
        if action == "in_order":
            return going is None
        if action == "leave_out":
            return going is not None and going.cut is not None and not going.cut.done
        if action == "go_on":
            return True if self._next().enter else None
        return True

    # What happens

    def step(self) -> None:
        """Do what is due; called a few times a second."""
        if self.going and not self.going.is_over:
            self.going.step()

    def _look(self) -> None:
        """Take in who is on the switch, and where."""
        if self.going is None:
            devices = self._workplace.run.session.cable.finder.devices()
            self.crate.hears(devices)
        for device in self._workplace.run.session.cable.finder.devices():
            if device.is_present and device.best:
                self._heard[device.mac] = device.best.address

    @property
    def _untagged(self) -> list[addresses.MacAddress]:
        return [mac for mac in self._heard if self.crate.unit_of(mac) is None]

    def _next(self) -> Next:
        going, units = self.going, self.crate.units
        if going:
            if going.is_over:
                return Next(going.sentence, phrase("Close this view."))
            if going.cut and going.cut.is_unsure:
                return Next(going.sentence, phrase("Confirm that all of them lost power."))
            switches = going.cut is not None and going.cut.waits_for_power
            return Next(hands=going.sentence) if switches else Next(going.sentence)
        if self.crate.half:
            return Next(
                hands=phrase("Now the tag of {half}: scan it, or type it and press Enter.", half=self.crate.half)
            )
        scan = phrase("Scan the label of a unit, its MAC address and then its tag.")
        silent = [each for each in units if each.mac not in self._heard]
        if not self._heard and not units:
            return Next(phrase("Asking who is on this switch."), hands=scan)
        if not units:
            starts = phrase(
                "Setting starts after the last of {count} labels. F2: allocate tags in MAC order.",
                count=len(self._heard),
            )
            return Next(starts, hands=scan)
        have = "{tagged} of {all} have a tag; {silent} not heard yet, each asked at its own MAC address."
        have = have if silent else "{tagged} of {all} have a tag."
        tagged = {"tagged": len(units), "all": len(self._heard) + len(silent), "silent": len(silent)}
        return Next(phrase(have, **tagged), phrase("Begin, on an empty line."), phrase("Scan the next label."))

    def _lanes(self) -> Lanes | None:
        """Return what was done when, until now or until the last was done."""
        if self.going is None:
            return None
        cuts = {each.tag: each.cycle.lane for each in (self.going.cut.units if self.going.cut else ()) if each.cycle}
        ended = [at for unit in self.crate.units for at, _ in unit.moments]
        ended += [each.back_at for each in cuts.values() if each.back_at is not None]
        now = self._workplace.run.wire.now()
        if self.going.is_over and ended:  # and a little more, so that what came last is seen
            now = min(now, max(ended) + 0.08 * (max(ended) - min(ended)))
        return Lanes(self.crate.units, cuts, now)

    def draw(self) -> None:
        run, width = self._workplace.run, self.room
        self._look()
        lanes = [(each.unit, each.session) for each in self.going.at_hand if each.unit] if self.going else []
        steps = {unit.item.tag: session.phase.step for unit, session in lanes}
        title = Ink().put(f"  {self._workplace.title}", STRONG).put("   " + phrase("all on one switch"), DIM)
        self.query_one("#heading", sheet.Sheet).show([title])
        in_cut = self.going.in_cut() if self.going else {}
        lines = switch_lines(self._heard, self.crate.units, self.crate.half, steps, in_cut, self._lanes(), width - 6)
        if len(lanes) == 1:
            ((unit, session),) = lanes
            lines += [blank(), heading(f"{unit.item.tag}", width - 6)]
            lines += picture_list.PICTURES[session.phase.step](session, width - 6, run.wire.now())
        elif lanes:
            now = run.wire.now()
            lines += side_by_side_lines(
                [(unit.item.tag, next_line(session, now).sentence) for unit, session in lanes], width - 6
            )
        self.query_one("#units", sheet.Sheet).show(lines)
        self.query_one("#next", sheet.Sheet).show(around.next_lines(self._next(), is_wrong=False, width=width))
        practice = self._workplace.practice
        hands = (
            Ink()
            .put(f"  {phrase('practice bench, simulate:')} ", DIM)
            .put("F6 ", STRONG)
            .put(phrase("power of all, off or on"))
        )
        if self.going is None:
            hands.put("   F7 ", STRONG).put(phrase("scan the label of the next one"))
        self.query_one("#hands", sheet.Sheet).show([hands] if practice else [])
        self.query_one("#hands", sheet.Sheet).display = practice is not None
        takes_no_more = self.going is not None and (self.going.cut is not None or self.going.is_over)
        if takes_no_more and self.focused:
            self.set_focus(None)
        self.set_class(takes_no_more, "-going")
        self.refresh_bindings()

    # Labels

    def on_scan_line_scanned(self, event: ScanLine.Scanned) -> None:
        """Take a scanned line; an empty one begins."""
        if event.text:
            self._scan(event.text)
        elif self.going:
            self.action_go_on()
        elif self.crate.units and not self.crate.half:
            self._begin()

    def _scan(self, text: str) -> None:
        try:
            self._say(self.crate.scan(text))
        except errors.AskPortError as error:
            self._say(error.message, wrong=True)
        all_heard = all(each.mac in self._heard for each in self.crate.units)
        if self.crate.units and not self.crate.half and not self._untagged and len(self._heard) > 1 and all_heard:
            self._begin()  # with silent units nobody knows which label is the last
        self.draw()

    def _say(self, text: str, *, wrong: bool = False) -> None:
        said = self.query_one("#said", Static)
        said.update(Content(text))
        said.set_class(wrong, "wrong")

    def _begin(self) -> None:
        if self.going is None:
            self.going = SwitchRun(self._workplace.run, self.crate)
            self.draw()

    def action_in_order(self) -> None:
        """Give those that have no tag the next ones."""
        if given := self.crate.in_order(self._untagged):
            tags = ", ".join(each.item.tag for each in given)
            self._say(
                phrase("{tags} assigned in MAC address order. Check which unit is installed where.", tags=tags),
                wrong=True,
            )
        self.draw()

    def action_go_on(self) -> None:
        """Say that the power was cut where nothing shows it, or go on with the round."""
        if self.going and self.going.cut and self.going.cut.is_unsure:
            self.going.cut.confirm(self._workplace.run.wire.now())
        elif self.going and self.going.is_over:
            self.dismiss()
            if not self._workplace.run.is_over:
                self._over()

    def action_leave_out(self) -> None:
        """Go on without the power cycle."""
        if self.going and self.going.cut:
            self.going.cut.leave_out()
            self._workplace.run.wire.wake()

    def action_back(self) -> None:
        """Leave, or stop what is going."""
        if self.going is None:
            self.dismiss()
        elif self.going.is_over:
            self.action_go_on()
        else:
            self.going.stop()

    # Practice

    def action_hand_power(self) -> None:
        """At the practice bench, pull the power of all, or put it back."""
        if practice := self._workplace.practice:
            practice.power_all()

    def action_hand_scan(self) -> None:
        """At the practice bench, scan the label of the next unit."""
        if (practice := self._workplace.practice) and self.going is None:
            for text in practice.label_of(self._untagged):
                self._scan(text)
