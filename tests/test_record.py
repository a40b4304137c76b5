"""The record kept honest: verified, handed over, salvaged and joined."""

import json
import shutil
import sqlite3
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface

import pytest

from askport.core import addresses, errors
from askport.core.register import chain, corrections, fold, searching
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.entries import DevicePlanned, Found, Left, Named, Proved, Recorded, WasSet
from askport.edges.jobfile import JobFile
from conftest import askport
from test_plan import device
from test_reports import job  # noqa: F401

AT = datetime(2026, 11, 26, 12, 0, tzinfo=UTC)


def visit(unit, number, tag, address, after_s=0, **proofs):
    mac, at = addresses.MacAddress(bytes((2, 0, 0, 0, 1, number))), AT + timedelta(seconds=100 * number + after_s)
    interface = IPv4Interface(f"{address}/22")
    entries = [
        Found(
            unit=unit, tag=tag, mac=mac, maker=None, address=IPv4Address("192.168.61.7"), belief="certain", because=()
        ),
        WasSet(unit=unit, mac=mac, way="hand", interface=interface, gateway=None, dns=(), result="taken", because=""),
        *[Proved(unit=unit, mac=mac, name=name, expected="", measured="", passed=passed, because="")
          for name, passed in proofs.items()],
        *([Left(unit=unit, mac=mac, as_left=measured(interface))] if proofs else []),
        Recorded(unit=unit, mac=mac),
    ]  # fmt: skip
    return [(entry, at + timedelta(seconds=place)) for place, entry in enumerate(entries)]


def measured(interface):
    return AsLeft(address=Value(value=interface.ip, basis=Basis.MEASURED),
                  prefix=Value(value=interface.network.prefixlen, basis=Basis.MEASURED),
                  gateway=Value(value=None, basis=Basis.MEASURED))  # fmt: skip


def write(path, *visits):
    kept = JobFile(path, create=True)
    for entry, at in (each for entries in visits for each in entries):
        kept.append(entry, at)
    kept.keep(1, [(AT, b"\0" * 60)])
    kept.close()


def register(path):
    return askport("register", "export", path, "--json").stdout


def test_what_was_handed_over_stands_or_does_not(job):  # noqa: F811
    fingerprint = askport("register", "verify", job).stdout.split()[-1].rstrip(".")
    run = askport("register", "verify", job, "--against", fingerprint)
    assert (run.returncode, "and nothing came after it" in run.stdout) == (0, True)
    kept = JobFile(job, create=True)
    kept.append(Named(unit=1, mac=addresses.MacAddress(b"\2\0\0\0\0\1"), tag="TG-09"), AT)
    kept.close()
    grouped = " ".join(fingerprint[place : place + 8] for place in range(0, 64, 8))
    assert (
        "is unchanged: 14 entries, and 1 came after it"
        in askport("register", "verify", job, "--against", grouped).stdout
    )
    run = askport("register", "verify", job, "--against", "0" * 64)
    assert (run.returncode, "is not in this record" in run.stderr) == (1, True)
    assert askport("register", "verify", job, "--against", "xyz").returncode == 2


@pytest.mark.parametrize("place", [b"TG-01", b"10.84.16.40"])
def test_what_is_left_of_a_damaged_job_is_exported(job, tmp_path, place):  # noqa: F811
    bad = tmp_path / "bad.askport"
    bad.write_bytes(job.read_bytes().replace(place, bytes(len(place))))
    run = askport("register", "verify", bad)
    assert (run.returncode, run.stderr.count("\n")) == (1, 1)
    run = askport("register", "export", bad, "--json", "--salvage")
    assert len(json.loads(run.stdout)["devices"]) == 2 - (place == b"TG-01")
    assert "cannot be read." in run.stderr


def test_two_files_joined_in_either_order_are_the_same_register(tmp_path):
    first, second = tmp_path / "a.askport", tmp_path / "b.askport"
    write(first, visit(1, 1, "TG-01", "10.84.16.40"))
    shutil.copy(first, second)
    for path, more in ((first, visit(2, 2, "OX-01", "10.84.16.31")), (second, visit(2, 3, "OX-02", "10.84.16.32", 7))):
        kept = JobFile(path, create=True)
        for entry, at in more:
            kept.append(entry, at)
        kept.close()
    registers = []
    for one, other, into in ((first, second, "ab"), (second, first, "ba")):
        run = askport("register", "merge", one, other, "--into", tmp_path / f"{into}.askport")
        assert run.returncode == 0, run.stdout + run.stderr
        registers.append(register(tmp_path / f"{into}.askport"))
        assert askport("register", "verify", tmp_path / f"{into}.askport").returncode == 0
    assert registers[0] == registers[1]
    assert [each["tag"] for each in json.loads(registers[0])["devices"]] == ["TG-01", "OX-01", "OX-02"]
    frames = askport("register", "frames", tmp_path / "ab.askport", "TG-01", "--out", tmp_path / "f.pcapng")
    assert frames.returncode == 0
    for path in (first, second):  # what each handed over before still stands in what they became
        fingerprint = JobFile(path, create=False).fingerprint
        run = askport("register", "verify", tmp_path / "ab.askport", "--against", fingerprint)
        assert (run.returncode, "is unchanged: 7 entries" in run.stdout) == (0, True), run
    kept = JobFile(tmp_path / "ab.askport", create=True)
    kept.append(Named(unit=1, mac=addresses.MacAddress(b"\2\0\0\0\1\2"), tag="OX-09"), AT)
    kept.close()
    again = askport("register", "merge", tmp_path / "ab.askport", first, "--into", tmp_path / "abc.askport")
    assert (again.returncode, again.stdout.splitlines()[1:]) == (
        1,
        ["! 02:00:00:00:01:02 is called OX-01 and OX-09: choose its tag in the joined job."],
    )
    assert '"OX-09"' in register(tmp_path / "abc.askport"), "the later entry is the one that stands"


@pytest.mark.by_day(0, 3, 6)
@pytest.mark.parametrize(
    ("theirs", "said"),
    [
        (visit(1, 1, "TG-02", "10.84.16.40", 9), "is called TG-01 and TG-02"),
        (visit(1, 1, "TG-01", "10.84.16.41", 9), "was left at 10.84.16.40 and 10.84.16.41"),
        (
            visit(1, 4, "TG-09", "10.84.16.40"),
            "The address 10.84.16.40 is given to 02:00:00:00:01:01 and 02:00:00:00:01:04",
        ),
        (visit(1, 4, "TG-01", "10.84.16.44"), "The tag TG-01 is given to"),
        (visit(1, 2, "TG-02", "10.84.16.42", 9, mask=False), "is proven in one file, and failed in another (mask)"),
        ([(DevicePlanned(device=device("OX-01", "10.84.16.32")), AT)], "The device OX-01 is planned differently"),
        (
            [(entry, at.replace(year=2199)) for entry, at in visit(1, 4, "TG-09", "10.84.16.44")],
            "A clock was ahead: line 1",
        ),
    ],
)
def test_what_two_files_say_differently_is_named(tmp_path, theirs, said):
    first, second = tmp_path / "a.askport", tmp_path / "b.askport"
    proven = visit(2, 2, "TG-02", "10.84.16.42", mask=True, gateway=True)
    write(
        first, visit(1, 1, "TG-01", "10.84.16.40"), proven, [(DevicePlanned(device=device("OX-01", "10.84.16.31")), AT)]
    )
    write(second, theirs)
    run = askport("register", "merge", first, second, "--into", tmp_path / "ab.askport")
    assert (run.returncode, said in run.stdout) == (1, True), run.stdout
    joined = tmp_path / "ab.askport"
    assert askport("register", "verify", joined).returncode == 0
    assert said in askport("register", "settle", joined).stdout
    while "Nothing is open" not in askport("register", "settle", joined).stdout:
        assert askport("register", "settle", joined, "1", "--words", "as the label says").returncode == 0
    assert askport("register", "settle", joined, "1", "--words", "again").returncode == 2


def test_what_is_written_behind_the_record_changes_nothing_of_it(job):  # noqa: F811
    def said(*arguments):
        run = askport("register", *arguments)
        assert run.returncode == 0, run
        return run.stdout

    fingerprint = JobFile(job, create=False).fingerprint
    said("note", job, "TG-01", "cover glass cracked", "--photo", "IMG_2041.jpg")
    said("tag", job, "TG-01", "TG-11")
    assert "TG-11" in said("find", job, "GLASS", "state:proven")
    assert all(each in said("show", job, "TG-11") for each in ("cover glass cracked", "photo IMG_2041.jpg"))
    assert askport("register", "find", job, "glass", "state:found").returncode == 1
    said("reopen", job, "TG-11", "--because", "wrong pump")
    assert "To be redone: wrong pump" in said("show", job, "TG-11")
    assert "TG-11  02:00:00:00:00:01  192.168.61.7 -> 10.84.16.40/22  set" in said("list", job, "--sort", "tag")
    said("same", job, "TG-11", "02:00:00:00:00:02")
    (device,) = json.loads(said("list", job, "--json"))["devices"]
    assert (device["macs"], len(device["visits"])) == (["02:00:00:00:00:02", "02:00:00:00:00:01"], 2)
    assert "is unchanged" in said("verify", job, "--against", fingerprint)
    for wrong in (("tag", job, "TG-11", ""), ("note", job, "nobody", "x"), ("same", job, "TG-11", device["mac"]),
                  ("reopen", job, "TG-12", "--because", "x"), ("list", job, "--sort", "x")):  # fmt: skip
        run = askport("register", *wrong)
        assert (run.returncode, run.stderr.count("\n")) == (2, 1), run


@pytest.mark.parametrize(
    ("text", "tags"),
    [
        ("", ["A-1", "B-2", "Öl-3"]),
        ("halden", ["A-1", "B-2", "Öl-3"]),
        ("b-2", ["B-2"]),
        ("öl", ["Öl-3"]),
        ("10.84.16.4", ["A-1", "B-2"]),
        ("020000000102", ["B-2"]),
        ('"" OR *', []),
        ("state:unproven place:north", ["A-1"]),
        ("place:ölkeller", ["Öl-3"]),
        ("kind:probe filter", ["B-2"]),
        ("day:2026-11-26", ["A-1", "B-2"]),
        ("day:2026-10", []),
    ],
)
def test_a_register_is_searched_in_everything_and_narrowed_by_name(tmp_path, text, tags):
    kept = JobFile(tmp_path / "job.askport", create=True)
    for number, (tag, place, kind) in enumerate(
        (("A-1", "North hall", ""), ("B-2", "", "oxygen probe"), ("Öl-3", "Ölkeller", "")), 1
    ):
        about = device(tag, f"10.84.16.4{number}").model_copy(
            update={"place": place, "kind": kind, "columns": {"use": "filter"}}
        )
        kept.append(DevicePlanned(device=about), AT)
        for entry, at in visit(number, number, tag, f"10.84.16.4{number}")[: 3 if number < 3 else 1]:
            kept.append(entry.model_copy(update={"maker": "Halden"}) if isinstance(entry, Found) else entry, at)
    assert [each.tag for each in kept.register.find(searching.wanted(text))] == tags
    assert kept.register.count(searching.wanted(text)) == len(tags)
    by_tag = [each.tag for each in kept.register.find(searching.wanted("", searching.Order.TAG))]
    assert (by_tag, len(kept.checked())) == (["A-1", "B-2", "Öl-3"], 3)


def test_what_was_set_is_still_set_after_the_program_was_left_and_begun_anew():
    """The same device at the address that it was given: what it was told beside that is not forgotten."""
    at, mac = datetime(2026, 3, 4, tzinfo=UTC), addresses.MacAddress.parse("00:00:5e:00:53:10")
    found = {"tag": "TG-01", "mac": mac, "maker": None, "belief": "certain", "because": ()}
    register, last = fold.Register(), None

    def take(entry):
        nonlocal last
        last = chain.next_line(entry, at, last, last)
        register.take(last)

    take(Found(unit=1, address=IPv4Address("192.168.61.7"), **found))
    take(
        WasSet(unit=1, mac=mac, way="page", gives=True, interface=IPv4Interface("10.84.16.40/22"), gateway=None,
               dns=(IPv4Address("10.84.19.253"),), result="taken", because=""))  # fmt: skip
    take(Found(unit=2, address=IPv4Address("10.84.16.40"), **found))
    (row,) = register.touched.values()
    visit = row.visits[-1]
    assert (visit.unit, visit.state, visit.way) == (2, "set", "page")
    assert ([str(each) for each in visit.as_left.dns.value], visit.as_left.dns.basis) == (["10.84.19.253"], Basis.GIVEN)
    take(Found(unit=3, address=IPv4Address("10.84.16.99"), **found))
    assert row.visits[-1].state == "found", "elsewhere it is another piece of work"


def test_a_clock_that_was_set_back_is_named_and_settled(tmp_path):
    path = tmp_path / "one.askport"
    write(
        path,
        visit(1, 1, "TG-01", "10.84.16.40", 9),
        visit(2, 2, "TG-02", "10.84.16.41", -7200),
        visit(3, 3, "TG-03", "10.84.16.42", -7000),
    )
    said = askport("register", "settle", path).stdout
    assert said.count("was behind, or set back: line 4, dated") == said.count("set back") == 1, said
    askport("register", "settle", path, "1", "--words", "it was summer time")
    with sqlite3.connect(path) as kept:
        kept.execute("UPDATE grown SET form = 0")  # all of it is made anew
    assert JobFile(path, create=True).register.open_conflicts() == []


def test_a_tag_is_corrected_to_none_that_another_device_has(tmp_path):
    write(tmp_path / "two.askport", visit(1, 1, "A-1", "10.84.16.40"), visit(2, 2, "B-2", "10.84.16.41"))
    rows = JobFile(tmp_path / "two.askport", create=False).register.rows()
    assert corrections.named(rows[0], " C-3 ", rows).tag == "C-3"
    with pytest.raises(errors.BadInput, match="'B-2' is the tag of 02:00:00:00:01:02 already"):
        corrections.named(rows[0], "B-2", rows)
    with pytest.raises(errors.BadInput, match="1 to 400 printable"):
        corrections.noted(rows[0], " ")
