"""The pictures at every moment of the job and at every width: nothing is cut, nothing runs over, nothing is blank."""

import asyncio
import re
import shutil
import time
from itertools import pairwise
from pathlib import Path
from types import SimpleNamespace

import pytest

from askport.bench import scenario
from askport.bench.more_devices import LOG_IN
from askport.cli import headless, practising
from askport.core import addresses, protocols, wire
from askport.core.crate.switch_crate import DOING, Doing, Unit
from askport.core.finding.quoting import bytes_behind
from askport.core.finding.readers import read_clues
from askport.core.formats import frame_fields, packet
from askport.core.plan.working_order import WorkItem
from askport.core.proofs.power_cycle import Lane
from askport.core.visit import narrate, steps
from askport.core.ways.log_in import LogIn
from askport.tui.app import AskPortApp
from askport.tui.ink import Ink
from askport.tui.pictures.around import next_lines, title_line
from askport.tui.pictures.cable_picture import Pulse, cable_lines
from askport.tui.pictures.find_picture import find_lines
from askport.tui.pictures.proving_picture import prove_lines
from askport.tui.pictures.reach_picture import reach_lines
from askport.tui.pictures.record_picture import record_lines
from askport.tui.pictures.register_picture import device_lines, left_lines
from askport.tui.pictures.setting_picture import set_lines
from askport.tui.pictures.switch_picture import Lanes, switch_lines
from askport.tui.screens import crib_screen, evidence_screen, handover_screen, register_screen, site_screen, work_screen
from askport.tui.screens.device_screen import DeviceScreen
from askport.tui.screens.evidence_screen import frame_lines, sentence_lines
from askport.tui.widgets import key_line, way_rail
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace
from conftest import pass_time
from test_readers import TOLD
from test_session import walk

WIDTHS = (69, 77, 97, 129)
"""Cells that the picture has in terminals of 100, 80, 128 and 160 columns; 80 have no room for the way beside it."""
PICTURES = (find_lines, reach_lines, set_lines, prove_lines, record_lines)


def sound(lines, width, what):
    """Every line fits, is printable and ends; a picture is never empty."""
    assert lines, what
    for ink in lines:
        assert isinstance(ink, Ink)
        plain = ink.plain
        assert ink.width <= width, (what, width, ink.width, plain)
        assert plain.isprintable(), (what, plain)
        assert "None" not in plain, (what, plain)


def check(session, now):
    """Draw everything there is to draw of this moment."""
    for width in WIDTHS:
        for picture in PICTURES:
            sound(picture(session, width, now), width, (picture.__name__, session.phase))
        sound(
            cable_lines(session, width + 27, now, time.monotonic(), [Pulse(time.monotonic(), True)]),
            width + 27,
            "cable",
        )
        sound(way_rail.way_lines(session, None, 28), 28, "way")
    sound(cable_lines(session, 78, now, time.monotonic(), [], compact=True), 78, "compact cable")
    sound([way_rail.way_strip(session, step, 80) for step in (None, session.phase.step)], 80, "way on one line")
    for width in (80, 100):
        said = narrate.next_line(session, now)
        lines = next_lines(said, False, width)
        sound(lines, width, "next")
        assert len(lines) == 3 or width < 100
        shown = " ".join(" ".join(ink.plain[10:] for ink in lines).split())
        assert shown == " ".join(said.sentence.split()), "the sentence has no room"
        marks = [mark for ink in lines if (mark := ink.plain[:10].strip())]
        kinds = {"·": said.said, "hands »": said.hands, "Enter ▸": said.action}
        assert marks == [mark for mark, text in kinds.items() if text]
        assert bool(lines[-1].plain.strip()) is said.enter, "the last line is for Enter alone"
    assert narrate.next_line(session, now).sentence.isprintable()
    assert [each.step for each in narrate.step_lines(session)] == list(type(session.phase.step))


@pytest.mark.long
@pytest.mark.by_day(0, 4, 7)
@pytest.mark.parametrize(
    "tag", [item.tag for item in scenario.WORK if not item.tag.startswith("OX") or item.tag == "OX-01"]
)
def test_every_picture_of_every_device_fits_at_every_moment(practice, tag, capsys):
    bench, run = practice(tag)
    run.log_ins |= dict.fromkeys(("managed switch", protocols.PROTOCOLS["onvif"].log_in_as), LogIn(*LOG_IN))
    seen = set()

    class Watching(headless.Technician):
        moments = 0

        def _say(self):
            super()._say()
            self.moments += 1
            if self.session.phase not in seen or self.moments % 16 == 0:
                seen.add(self.session.phase)
                check(self.session, self.bench.now())

    asyncio.run(Watching(bench, run).commission())
    assert run.session.phase is steps.Phase.RECORDED
    assert len(seen) >= 7
    for width in (76, 110, 140):
        for row in run.job.register.rows():
            sound(device_lines(row, None, width), width, "device")
    sound(left_lines(scenario.WORK, 76), 76, "left")


@pytest.mark.long
@pytest.mark.by_day(0)
@pytest.mark.parametrize("place", ["twins", "house", "mast"])
def test_wrong_wires_are_drawn_too(practice, place):
    bench, run = practice("TG-01")
    devices = {"twins": scenario.twins, "house": scenario.house, "mast": lambda: (scenario.stand_in("WX-01"),)}[place]()
    bench.plug(*devices, switch=place != "mast")
    session = run.session
    for louder in range(4):
        pass_time(bench, run, span=6.0)
        check(session, bench.now())
        if louder < 3:
            session.cable.search.louder(bench.now())
    for device in session.cable.search.devices():
        reasons = device.reasons()
        sound(sentence_lines(reasons, len(reasons) - 1, 90, 5), 90, "sentences")
        for reason in reasons:
            for heard in reason.frames:
                sound(frame_lines(heard, reason, "12:00:00.000", 120), 130, reason.sentence)


@pytest.mark.parametrize("name", TOLD)
def test_a_sentence_opens_to_the_bytes_that_say_so(name):
    """Whatever a clue names, an address or a text, is marked where it stands in the frame."""
    data = TOLD[name][0]
    heard = wire.hear(wire.Frame(at=0.0, data=data))
    fields = frame_fields.fields_of(data)
    assert all(each.offset >= 0 and each.end <= len(data) and each.length > 0 for each in fields)
    assert all(one.end <= other.offset for one, other in pairwise(fields))
    for clue in read_clues(packet.read_packet(data)):
        marked = [each.field for each in bytes_behind(heard, clue) if each.says_so]
        said = b"".join(data[each.offset : each.end] for each in marked)
        if clue.address or clue.about:
            wanted = clue.about or clue.address
            assert wanted.packed in said or str(wanted).encode() in said, (clue, marked)


@pytest.mark.parametrize("room", [1, 2, 3, 5, 15])
@pytest.mark.parametrize("count", [1, 3, 15, 16, 40])
def test_the_one_at_hand_is_always_among_those_of_the_round_that_are_shown(count, room):
    for here in range(count + 1):
        first, last = way_rail.shown_of(count, here, room)
        counts = (first > 0) + (last < count) if room >= 3 else 0
        assert last - first + counts <= room
        assert here == count or first <= here < last


@pytest.mark.parametrize("width", range(56, 161, 8))
def test_the_title_and_the_keys_keep_to_their_line_and_run_into_nothing(width):
    workplace = practising.bench_workplace(1.0)
    try:
        title = title_line(workplace, workplace.run.wire.now(), width).plain
        bindings = [SimpleNamespace(binding=each, enabled=True) for each in work_screen.WorkScreen.BINDINGS]
        keys = key_line.key_strip(bindings, lambda binding: binding.key_display or binding.key, width)
    finally:
        workplace.run.job.close()
        shutil.rmtree(workplace.run.job.path.parent)
    assert len(title) <= width
    assert keys.width <= width
    assert keys.plain.endswith("? all keys")
    assert re.search(r"  (practice bench, 1x   )?\d\d:\d\d:\d\d  $", title) or width < 70, title


@pytest.mark.long
@pytest.mark.by_day(0)
@pytest.mark.parametrize("size", [(80, 24), (100, 30), (160, 47)])
def test_no_line_of_a_view_is_longer_than_it_has_room_for(practice, size):
    """A scroll bar takes room too: what does not fit beside it would stand on a line of its own."""
    bench, run = practice("TG-01")
    session = walk(bench, run, {steps.Phase.RECORDED})
    job, place = run.job, Workplace(run=run, title="Sallow Beck Hatchery", place="practice bench")
    bench_by_hand, by_hand = practice("UV-01", job="by-hand.askport")
    walk(bench_by_hand, by_hand, {steps.Phase.SETTING}, hands=False)
    typed_in = Workplace(run=by_hand, title="Sallow Beck Hatchery", place="practice bench")
    written = [(Path(f"/tmp/handover/{name}"), 4096) for name in ("handover.pdf", "reservations-dnsmasq.conf") * 8]
    views = (
        lambda: DeviceScreen(place, job.register.rows()[0].id),
        lambda: handover_screen.HandoverScreen(job, "Sallow Beck Hatchery", written),
        lambda: evidence_screen.EvidenceScreen(session.device.chosen, "Halden Fluidics", run.wire),
        lambda: site_screen.SiteScreen(place, lambda _: None),
        lambda: register_screen.RegisterScreen(place),
        lambda: crib_screen.CribScreen(typed_in, lambda: None, lambda: None),
    )

    async def too_long():
        app, found = AskPortApp(None), []
        async with app.run_test(size=size) as pilot:
            for view in views:
                await app.push_screen(view())
                await pilot.pause()
                for sheet in app.screen.query(Sheet):
                    found += [
                        (type(app.screen).__name__, each.plain) for each in sheet._lines
                        if sheet._fits and len(list(each.folded(sheet._fits))) > 1
                    ]  # fmt: skip
                app.pop_screen()
        return found

    assert asyncio.run(too_long()) == []


@pytest.mark.parametrize("width", [154, 74])
def test_24_units_of_a_switch_have_a_lane_each_in_one_ruler_or_a_digest(width):
    units, cuts = [], {}
    for number in range(24):
        unit = Unit(WorkItem(tag=f"OX-{number:02}"), addresses.MacAddress(bytes((2, 0, 0, 0, 0, number))), "its label")
        for at, doing in enumerate(Doing):
            if doing is not (Doing.RECORDED if number == 3 else Doing.LEFT):
                unit.note(doing, 100.0 + at + number)
        units.append(unit)
        cuts[unit.item.tag] = Lane(140.0, 140.0 + number / 9, 145.0, 146.0, 150.0 if number else None)
    assert Doing.RECORDED not in DOING.values(), "what is only about to be recorded is not"
    lines = switch_lines({each.mac: None for each in units}, units, None, {}, {}, Lanes(units, cuts, 160.0), width)
    assert max(each.width for each in lines) <= width
    rows = [each.plain for each in lines if "OX-" in each.plain]
    assert len(rows) == 24
    if width == 74:
        assert any("24 units: 24 to come" in each.plain for each in lines)
        return
    signs = [re.sub(r"(.)\1*", r"\1", row[row.index("OX-") + 6 :].replace(" ", "")) for row in rows]
    assert signs[1].startswith("╌─━═·▁╌━")
    assert (signs[0].startswith("╌─━═·▁╌to"), "x" in signs[3]) == (True, True)
    starts = [row.index("╌") for row in rows]
    assert (starts == sorted(starts), starts[0] < starts[-1]) == (True, True)
