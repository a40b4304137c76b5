"""Sweeping, labels, makers and capture files."""

import struct
from ipaddress import IPv4Address, IPv4Network
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from askport.core import addresses, errors, makers, wire
from askport.core.finding.finder import Finder
from askport.core.finding.label import compare_label, match_label, unheard_label
from askport.core.finding.loudness import Loudness
from askport.core.finding.search import Search
from askport.core.finding.sweeping import PRIVATE, Sweeping, distinct
from askport.core.formats.arp import Arp, Op, arp_frame, decode_arp
from askport.core.formats.capture import pcapng_frame, pcapng_start, read_capture
from conftest import askport

LAPTOP, IT = addresses.MacAddress(b"\2\0\0\0\0\1"), addresses.MacAddress(bytes.fromhex("00005e005344"))


def run(machine, until=lambda: False):
    """Let a machine run in virtual time; return each address asked for with its moment."""
    asked, now = [], 0.0
    while not machine.done and not until() and (at := machine.next_deadline()) is not None:
        now = max(now, at)
        machine.handle_timer(now)
        for effect in machine.poll():
            asked += [(now, decode_arp(data[14:]).tpa) for data in effect.frames]
    return asked


@pytest.mark.parametrize("rate", [50.0, 1000.0, 100_000.0])
def test_a_sweep_asks_for_every_address_once_at_its_rate(rate):
    asked = run(Sweeping(LAPTOP, [IPv4Network("10.9.0.0/22")], now=0.0, rate=rate))
    assert [int(address) - 0x0A090000 for _, address in asked] == list(range(1024))
    took = asked[-1][0] - asked[0][0]
    assert 0.85 < 1024 / rate / (took + 1 / rate) < 1.15 or took < 0.02


def test_a_sweep_is_held_and_goes_on_and_waits_for_slow_answers():
    machine = Sweeping(LAPTOP, [IPv4Network("10.9.0.0/24")], now=0.0, rate=100.0)
    before = run(machine, until=lambda: machine.asked >= 100)
    machine.pause(1.0)
    assert (machine.next_deadline(), machine.is_paused) == (None, True)
    assert machine.at == before[-1][1]
    machine.resume(500.0)
    after = run(machine)
    assert (after[0][1] - 1, len(before) + len(after)) == (before[-1][1], 256)
    assert machine.done
    assert machine.left_s == 0


@pytest.mark.parametrize(("speed", "rates"), [(100, [3_000, 10_000, 30_000]), (10, [3_000]), (None, [3_000]),
                                              (1_000, [3_000, 10_000, 30_000, 100_000])])  # fmt: skip
def test_a_sweep_goes_faster_as_far_as_the_link_bears_it(speed, rates):
    """Every address is still asked for once, in the time that the higher rates take."""
    finder = Finder([LAPTOP], now=0.0)
    search = Search(finder)
    search.speed_mbps = lambda: speed
    search.ask_for("172.16.0.0/14", 0.0)
    sweeping, asked, now = finder.sweeping, [], 0.0
    while not sweeping.done:
        now = sweeping.next_deadline()
        sweeping.handle_timer(now)
        asked += [frame[38:42] for effect in sweeping.poll() for frame in effect.frames]
        if rates and sweeping.asked > 1_000 * (4 - len(rates)):
            assert search.faster == rates[0]
            search.louder(now)
            assert sweeping.rate == rates.pop(0)
    assert (len(asked), len(set(asked)), search.faster) == (2**18, 2**18, None)
    assert now < 2**18 / sweeping.rate + 8


@pytest.mark.parametrize("loudness", [Loudness.SWEEP, Loudness.CALL])
def test_without_link_nothing_is_asked_and_nothing_is_over(loudness):
    """What is sent then reaches nobody: it goes on where it was when the link is back."""
    finder = Finder(
        [LAPTOP], now=0.0, loudness=loudness, within=[IPv4Network("10.9.0.0/24")], rate=100.0, measures=False
    )
    asked = []

    def pass_time(until):
        while (due := finder.next_deadline()) is not None and due <= until:
            finder.handle_timer(due)
            for effect in finder.poll():
                frames = getattr(effect, "frames", None) or (effect.data,)
                asked.extend(arp for data in frames if isinstance(arp := decode_arp(data[14:]), Arp))

    pass_time(1.0)
    before = len(asked)
    finder.link_changed(wire.Link(up=False, since=1.0), 1.0)
    pass_time(500.0)
    assert (len(asked) - before, finder.has_settled) == (0, False)
    finder.link_changed(wire.Link(up=True, since=500.0), 500.0)
    pass_time(520.0)
    assert finder.has_settled
    assert {arp.tpa for arp in asked} >= {IPv4Address(0x0A090000 + number) for number in range(1, 255)}


def test_private_space_is_swept_once_likeliest_first():
    pieces = distinct(PRIVATE)
    covered = sorted(pieces)
    assert all(one[1] < other[0] for one, other in pairwise(covered))
    assert sum(last - first + 1 for first, last in pieces) == (1 << 16) * 2 + (1 << 20) + (1 << 24)
    assert IPv4Address(pieces[0][0]) == IPv4Address("192.168.0.0")


def test_a_box_that_answers_for_everything_is_seen_through():
    """A proxy that is swept answers for all: none of it is certain, little is kept, and the hazard says so."""
    finder = Finder([LAPTOP], now=0.0, loudness=Loudness.SWEEP, within=[IPv4Network("10.9.0.0/24")])
    for number in range(200):
        reply = Arp(op=Op.REPLY, sha=IT, spa=IPv4Address(0x0A090000 + number), tha=LAPTOP, tpa=IPv4Address(0))
        finder.receive(wire.hear(wire.Frame(at=number / 100, data=arp_frame(reply))))
        finder.handle_timer(number / 100)
        for effect in finder.poll():
            for data in getattr(effect, "frames", ()) or (effect.data,):
                if data[12:14] == b"\x08\x06" and data[:6] == IT:  # a neighbour that it is asked for to see through it
                    reply = reply._replace(spa=decode_arp(data[14:]).tpa)
                    finder.receive(wire.hear(wire.Frame(at=number / 100, data=arp_frame(reply))))
    (device,) = finder.devices()
    assert not device.is_found
    assert len(device.addresses) < 100
    assert "answers-for-all" in [hazard.code for hazard in finder.hazards()]


@pytest.mark.parametrize(
    "text", ["00:00:5e:00:53:44", "00-00-5E-00-53-44", "0000.5e00.5344", "00005E005344", "5344", "344"]
)
def test_a_label_in_any_notation_whole_or_its_end_fits(text):
    (match,) = match_label(text, [IT, addresses.MacAddress(bytes.fromhex("00005e005311"))])
    assert (match.mac, match.fits) == (IT, True)


def test_a_label_that_nobody_was_heard_with_stands_until_somebody_is():
    other, far = addresses.MacAddress.parse("00:00:5e:00:53:45"), addresses.MacAddress.parse("00:00:5e:77:12:99")
    assert unheard_label(IT, []) == f"{IT}, by label or plan, was not heard yet."
    assert unheard_label(IT, [far, other]).endswith(f"{other} comes near it: 1 digit differs.")
    assert unheard_label(IT, [far]) == unheard_label(IT, [])
    assert unheard_label(IT, [IT, other]) == unheard_label(None, [other]) == ""


def test_a_label_that_does_not_fit_shows_which_digits_differ():
    (match,) = match_label("00:00:5e:00:54:43", [addresses.MacAddress(b"\2\0\0\0\0\1"), IT])
    assert match.sentence.endswith("digit 10 is 3 and not 4, digit 12 is 4 and not 3.")
    label, device, marks = match.aligned
    assert [device[place] != label[place] for place, mark in enumerate(marks) if mark == "^"] == [True, True]
    for text in ("", "12", "00:00:5e:00:53:44:55", "gate"):
        with pytest.raises(errors.BadInput):
            compare_label(text, IT)


def test_makers_are_found_by_the_longest_beginning():
    table = makers.read_makers("# ours\n00:00:5e\tBlock\n00-00-5e-00-53-4\tBrackwater\x1b[2J Instruments\n", "t")
    assert makers.maker_in(table, IT) == "Brackwater·[2J Instruments"
    assert makers.maker_in(table, addresses.MacAddress(b"\0\0\x5e\0\0\0")) == "Block"
    assert makers.maker_in(table, LAPTOP) is None
    with pytest.raises(errors.BadInput, match="Line 2 of t, 'no tab here'"):
        makers.read_makers("\nno tab here", "t")


def pcap(order, magic, unit):
    head = struct.pack(order + "IHHiIII", magic, 2, 4, 0, 0, 65535, 1)
    return head + struct.pack(order + "IIII", 5, int(0.25 / unit), 3, 3) + b"abc"


@pytest.mark.parametrize(("order", "magic", "unit"), [
    ("<", 0xA1B2C3D4, 1e-6), (">", 0xA1B2C3D4, 1e-6), ("<", 0xA1B23C4D, 1e-9), (">", 0xA1B23C4D, 1e-9),
])  # fmt: skip
def test_every_kind_of_pcap_is_read(order, magic, unit):
    (frame,) = read_capture(pcap(order, magic, unit))
    assert (frame.at, frame.data) == (pytest.approx(5.25), b"abc")


def block(order, kind, body):
    size = 12 + len(body) + -len(body) % 4
    return struct.pack(order + "II", kind, size) + body.ljust(size - 12, b"\0") + struct.pack(order + "I", size)


@pytest.mark.parametrize("order", ["<", ">"])
def test_pcapng_of_other_writers_is_read(order):
    """Either endianness, frames in all three kinds of block, several units of time, and another link type beside."""
    units = ((1, b""), (1, b"\x09"), (1, b"\x8a"), (105, b""))  # microseconds, 10^-9, 2^-10; the last is no Ethernet
    data = block(order, 0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1))
    for link_type, unit in units:
        option = struct.pack(order + "HH", 9, 1) + unit.ljust(4, b"\0") if unit else b""
        data += block(order, 1, struct.pack(order + "HHI", link_type, 0, 65535) + option + bytes(4))
    for number, ticks in enumerate((2_500_000, 2_500_000_000, 2560, 1)):
        data += block(order, 6, struct.pack(order + "IIIII", number, 0, ticks, 3, 3) + b"abc")
    data += block(order, 2, struct.pack(order + "HHIIII", 0, 0, 0, 1_000_000, 3, 9) + b"def")
    data += block(order, 3, struct.pack(order + "I", 2) + b"gh")
    data += block(order, 5, bytes(12)) + block(order, 6, bytes(4))  # statistics, and a frame that is cut off
    read = [(frame.at, frame.data, frame.whole) for frame in read_capture(data)]
    assert read == [(pytest.approx(2.5), b"abc", True)] * 3 + [(1.0, b"def", False), (0.0, b"gh", True)]


@given(st.lists(st.tuples(st.integers(0, 4_000_000_000), st.binary(max_size=90)), max_size=5), st.binary(max_size=40))
def test_pcapng_is_read_as_written_and_survives_a_broken_end(frames, junk):
    data = pcapng_start() + b"".join(pcapng_frame(float(at), raw, comment="why") for at, raw in frames)
    read = [(round(frame.at), frame.data) for frame in read_capture(data)]
    assert read == frames
    assert [frame.data for frame in read_capture(data + junk)][: len(frames)] == [raw for _, raw in frames]
    for cut in range(0, len(data), 7):
        try:
            assert len(list(read_capture(data[:cut]))) <= len(frames)
        except errors.BadInput as error:
            assert cut < 12, error


@pytest.mark.parametrize(("content", "status", "said"), [
    (b"not a capture", 2, "neither a pcap nor a pcapng file"),
    (struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 105), 2, "link type 105"),
    (None, 2, "There is no file"), (pcapng_start(), 1, "No device speaks in"),
])  # fmt: skip
def test_what_cannot_be_read_is_said_in_a_sentence(content, status, said, tmp_path):
    file = tmp_path / "x.pcap"
    if content is not None:
        file.write_bytes(content)
    result = askport("read", file)
    assert (result.returncode, result.stderr.count("\n"), said in result.stderr) == (status, 1, True), result.stderr
