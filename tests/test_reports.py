"""The handover: every document of a job, the same bytes each time, harmless whatever a device says of itself."""

import json
import re
import shutil
import subprocess
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Interface
from xml.etree import ElementTree

import pytest

from askport.core.addresses import MacAddress
from askport.core.plan.planned_device import PlannedDevice
from askport.core.register.as_left import AsLeft, Basis, Value
from askport.core.register.entries import (
    Borrowed,
    DevicePlanned,
    Found,
    Left,
    PowerCut,
    Proved,
    Recorded,
    SubnetPlanned,
    WasSet,
)
from askport.core.register.visits import ProofRow, Row
from askport.edges import jobfile, tables
from askport.reports.open_points import counted, open_points, proven_words
from askport.reports.register_document import register_rows
from conftest import askport
from test_plan import SITE, device

HOSTILE = "=cmd|'/c x'!A1 <b>&[/] \u202egnp.exe 水槽"
AT = datetime(2026, 11, 26, 12, 0, tzinfo=UTC)


@pytest.fixture
def job(tmp_path):
    """A job with one sound device, and one that calls itself something hostile."""
    path = tmp_path / "site.askport"
    kept = jobfile.JobFile(path, create=True)
    entries = [SubnetPlanned(subnet=SITE), DevicePlanned(device=device("TG-01", "10.84.16.40"))]
    for unit, (tag, last) in enumerate((("TG-01", 40), (HOSTILE[:40], 41)), 1):
        mac, at = MacAddress(bytes((2, 0, 0, 0, 0, unit))), IPv4Interface(f"10.84.16.{last}/22")
        left = AsLeft(
            address=Value(value=at.ip, basis=Basis.MEASURED), prefix=Value(value=22, basis=Basis.MEASURED),
            gateway=Value(value=SITE.gateway, basis=Basis.MEASURED), dns=Value(value=SITE.dns, basis=Basis.READ_BACK),
        )  # fmt: skip
        entries += [
            Found(unit=unit, tag=tag, mac=mac, maker=HOSTILE, address=IPv4Address("192.168.61.7"), belief="certain",
                  because=(HOSTILE,)),
            WasSet(unit=unit, mac=mac, way="hand", interface=at, gateway=None, dns=(), result="taken", because=HOSTILE),
            Proved(unit=unit, mac=mac, name="echo", expected=HOSTILE, measured=HOSTILE, passed=True, because=HOSTILE),
            PowerCut(unit=unit, mac=mac, link_s=1.0, first_word_s=2.0, answer_s=3.5),
            Left(unit=unit, mac=mac, as_left=left),
            Recorded(unit=unit, mac=mac),
        ]  # fmt: skip
    kept.append_all(entries, AT)
    kept.close()
    return path


@pytest.mark.long
def test_every_document_is_written_twice_with_the_same_bytes(job, tmp_path):
    """Though there is a device of which nothing came yet."""
    mac, borrowed = MacAddress(bytes((2, 0, 0, 0, 0, 9))), IPv4Interface("10.84.19.238/22")
    kept = jobfile.JobFile(job, create=True)
    kept.append(Found(unit=9, tag="UN-09", mac=mac, maker=None, address=None, belief="certain", because=()), AT)
    kept.append(Borrowed(unit=9, adapter="zl0", interface=borrowed), AT)
    kept.close()
    for out in ("a", "b"):
        run = askport("report", job, "--out", tmp_path / out)
        assert run.returncode == 0, run.stderr
    made = sorted(each.name for each in (tmp_path / "a").iterdir())
    assert made == [
        "handover.pdf", "hosts", "labels-roll.pdf", "labels.pdf", "lanes.pdf", "lanes.svg", "map-10.84.16.0-22.pdf",
        "map-10.84.16.0-22.svg", "pace.pdf", "pace.svg", "register.csv", "register.json", "register.xlsx",
        "reservations-dhcpd.conf", "reservations-dnsmasq.conf", "reservations-kea.json", "zone",
    ]  # fmt: skip
    differ = [name for name in made if (tmp_path / "a" / name).read_bytes() != (tmp_path / "b" / name).read_bytes()]
    assert differ == []


def test_what_a_device_says_of_itself_is_harmless_in_each(job, tmp_path):
    out = tmp_path / "out"
    assert askport("report", job, "--out", out).returncode == 0
    rows = tables.read_tables(out / "register.xlsx")[0].rows
    assert (rows[1][0], rows[1][6]) == ("TG-01", "10.84.16.40/22")
    assert "\u202e" not in (out / "register.csv").read_text()
    assert not any(line.startswith("=") for line in (out / "register.csv").read_text().splitlines())
    for drawing in out.glob("*.svg"):
        texts = [each.text or "" for each in ElementTree.parse(drawing).iter()]
        assert not any("\u202e" in each for each in texts)
    map_ = ElementTree.parse(out / "map-10.84.16.0-22.svg")
    assert any("10.84.16.40: TG-01, proven" in (each.text or "") for each in map_.iter())
    assert (out / "hosts").read_text().splitlines()[0] == "10.84.16.40\ttg-01"
    name = (out / "hosts").read_text().splitlines()[1].split("\t")[1]
    assert name.replace("-", "").isalnum()
    kea = json.loads((out / "reservations-kea.json").read_text())["Dhcp4"]["subnet4"][0]
    assert kea["subnet"] == "10.84.16.0/22"
    assert kea["reservations"][0] == {
        "hw-address": "02:00:00:00:00:01",
        "ip-address": "10.84.16.40",
        "hostname": "tg-01",
    }
    if shutil.which("pdftotext"):
        text = subprocess.run(["pdftotext", str(out / "handover.pdf"), "-"], capture_output=True, text=True).stdout
        assert "Handover: site" in text
        assert "[U+" in text or "水" in text


SERVERS = {
    "kea-dhcp4": ["-t", "reservations-kea.json"],
    "dhcpd": ["-t", "-cf", "reservations-dhcpd.conf"],
    "dnsmasq": ["--test", "-C", "reservations-dnsmasq.conf"],
    "named-checkzone": ["site.example", "zone"],
}


@pytest.mark.parametrize(("server", "check"), SERVERS.items())
def test_the_site_s_own_servers_take_over_what_is_theirs(namespaces, job, tmp_path, server, check):
    """Each file is checked by the server that it is for, as it was written."""
    assert askport("report", job, "--out", tmp_path).returncode == 0
    run = subprocess.run([server, *check], cwd=tmp_path, capture_output=True, text=True)
    assert run.returncode == 0, run.stdout + run.stderr


def test_the_cover_begins_with_what_is_open_the_worst_first(job):
    """A failed proof is named, and nothing that is missing stands behind the word proven."""
    kept = jobfile.JobFile(job, create=False)
    rows, plan = kept.checked(), kept.register.plan("site")
    row = rows[0].model_copy(deep=True)
    waiting = [PlannedDevice(tag=f"ZZ-{number:03}", place="Roof", columns={"Item": "7.3"}) for number in range(99)]
    plan = plan.model_copy(update={"devices": (*plan.devices, *waiting)})
    visit = row.visits[-1]
    visit.proofs = {name: ProofRow(name=name, expected="", measured="", passed=passed, because="", at=AT)
                    for name, passed in (("mask", False), ("gateway", False), ("echo", True))}  # fmt: skip
    visit.permanent = False
    failing = Row.model_validate({**row.model_dump(), "tag": "AA-01"})
    points = open_points([failing, rows[0]], plan, ["AA-01 is planned differently"])
    assert [each.heading for each in points][:3] == [
        "Failed",
        "Outstanding (planned, not started)",
        "Lost at the next power cycle",
    ]
    assert points[0].lines == ("AA-01: subnet mask and default gateway",)
    names = " ".join(points[1].lines).split(", ")
    assert (points[1].count, names[-99:]) == (len(names), [each.tag for each in waiting])
    assert max(map(len, points[1].lines)) <= 200, "a piece of a page holds 400 characters"
    assert "Records that differ" in [each.heading for each in points]
    assert proven_words(*counted([failing, rows[0]])).startswith("1 of 2 proven")
    table = register_rows([rows[0]], plan)
    assert table[0][-2:] == ["plan: place", "plan: Item"]


@pytest.mark.parametrize("name", ["labels", "labels-roll"])
def test_labels_are_read_back(job, tmp_path, name):
    """The code on a label holds tag, address and MAC address."""
    askport("report", job, "--out", tmp_path, "--only", f"{name}.pdf")
    subprocess.run(
        ["pdftoppm", "-r", "150", "-png", str(tmp_path / f"{name}.pdf"), str(tmp_path / "label")], check=True
    )
    picture = sorted(tmp_path.glob("label*.png"))[0]
    read = subprocess.run(["zbarimg", "--nodbus", "-q", str(picture)], capture_output=True, text=True).stdout
    assert "QR-Code:TG-01 10.84.16.40/22 02:00:00:00:00:01" in read.splitlines()


def test_a_document_that_there_is_not_is_said(job, tmp_path):
    assert askport("report", job, "--out", tmp_path, "--only", "cable-TG-01.svg").returncode == 0
    assert [each.name for each in tmp_path.glob("*.svg")] == ["cable-TG-01.svg"]
    run = askport("report", job, "--out", tmp_path, "--only", "handover.doc")
    assert (run.returncode, "There is no document 'handover.doc': there are register.csv" in run.stderr) == (2, True)


@pytest.mark.long
def test_forty_of_one_kind_are_handed_over_on_eight_pages_and_who_is_not_started_is_named(tmp_path):
    """With what the job is called for the customer; a page each stands on demand."""
    path, out = tmp_path / "site.askport", tmp_path / "out"
    kept = jobfile.JobFile(path, create=True)
    entries = [SubnetPlanned(subnet=SITE)]
    for unit in range(1, 44):
        tag, mac, at = f"OX-{unit:02}", MacAddress(bytes((2, 0, 0, 0, 0, unit))), IPv4Address(f"10.84.16.{unit}")
        entries.append(DevicePlanned(device=PlannedDevice(tag=tag, place=f"Hall {unit % 4}", address=at,
                                                          columns={"Room": f"1.{unit}"})))  # fmt: skip
        if unit > 40:
            continue
        proofs = ("echo", "mask", "gateway", "address", "old gone", "power cycle")
        values = {"address": at, "prefix": 22, "gateway": SITE.gateway, "dns": SITE.dns}
        measured = {name: Value(value=each, basis=Basis.MEASURED) for name, each in values.items()}
        left = AsLeft(**measured)
        entries += [
            Found(unit=unit, tag=tag, mac=mac, maker=None, address=IPv4Address("172.29.4.100"), belief="certain",
                  because=()),
            WasSet(unit=unit, mac=mac, way="page", interface=IPv4Interface(f"{at}/22"), gateway=SITE.gateway, dns=(),
                   result="taken", because="", permanent=True),
            *(Proved(unit=unit, mac=mac, name=name, expected="", measured="", passed=unit != 7 or name != "mask",
                     because="") for name in proofs),
            PowerCut(unit=unit, mac=mac, link_s=1.0, first_word_s=2.0, answer_s=3.5),
            Left(unit=unit, mac=mac, as_left=left), Recorded(unit=unit, mac=mac),
        ]  # fmt: skip
    kept.append_all(entries, AT)
    kept.close()
    told = ["--site", "Sallow Beck Hatchery", "--customer", "Sallow Beck Fisheries", "--order", "4711/26"]
    assert askport("job", "set", path, *told, "--technician", "A. Fitter").returncode == 0
    assert askport("job", "set", path, "--technician", "").returncode == 0
    assert askport("job", "set", path).returncode == askport("job", "set", path, "--paper", "A3").returncode == 2
    assert askport("job", "set", path, "--paper", "letter").returncode == 0
    for language, status in (("Welsh-ish", 2), ("th", 2), ("de-AT", 0)):
        assert askport("job", "set", path, "--language", language).returncode == status
    shown = json.loads(askport("job", "show", path, "--json").stdout)
    assert [shown[each] for each in ("order", "technician", "company", "language")] == ["4711/26", None, None, "de-AT"]
    assert askport("report", path, "--out", out, "--only", "handover.pdf", "--only", "handover-full.pdf", "--only",
                   "register.xlsx").returncode == 0  # fmt: skip
    pages = [int(re.search(r"Pages:\s+(\d+)", subprocess.run(["pdfinfo", out / name], capture_output=True, text=True)
                           .stdout)[1]) for name in ("handover.pdf", "handover-full.pdf")]  # fmt: skip
    assert pages[0] <= 8 < 40 < pages[1], pages
    sizes = subprocess.run(["pdfinfo", out / "handover.pdf"], capture_output=True, text=True).stdout
    assert "612 x 792 pts (letter)" in sizes
    text = subprocess.run(["pdftotext", "-layout", out / "handover.pdf", "-"], capture_output=True, text=True).stdout
    for said in (
        "Handover: Sallow Beck Hatchery",
        "39 of 43 proven; 3 not started",
        "4711/26",
        "Signature",
        "26.11.2026, ",
    ):
        assert said in text
    assert re.search(r"OX-43 .*planned: 10\.84\.16\.43.* not started", text)
    assert re.search(r"OX-42 +Hall 2, 1\.42", text)
    table = tables.read_tables(out / "register.xlsx")[0].rows
    assert (table[0][:2], len(table), "subnet mask" in table[1][12]) == (["Tag", "MAC address"], 44, True)
    assert (table[43][0], table[43][11]) == ("OX-43", "not started")
