"""The job file and what is read out of it: durable, append-only, and refused in one sentence where it is not one."""

import contextlib
import csv
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import time
import unicodedata
from datetime import UTC, datetime
from ipaddress import IPv4Address
from random import Random

import pytest

from askport.cli.report import write_reports
from askport.core import addresses, errors
from askport.core.register.entries import Found, Noted, Recorded
from askport.core.register.fold import fold
from askport.edges import kept_frames
from askport.edges.jobfile import JobFile
from askport.edges.salvage import salvage
from conftest import askport, askport_in_bounds

NOW = datetime(2026, 3, 4, 5, 6, 7, tzinfo=UTC)
KILLS = int(os.environ.get("ASKPORT_ENDINGS", "20"))


def found(unit=1, tag="TG-01", maker="Halden Fluidics"):
    mac = addresses.MacAddress(bytes((0, 0, 0x5E, 0, 0x53, unit)))
    return Found(
        unit=unit, tag=tag, mac=mac, maker=maker, address=IPv4Address("192.168.61.7"), belief="certain", because=()
    )


def record_until_killed(path, said, first):
    """Record devices and say each; both the way of the screen: an entry for each thing that happens."""
    job = JobFile(path, create=True)
    for number in range(first, first + 10_000):
        unit, mac = job.new_unit(), addresses.MacAddress(b"\2\0" + number.to_bytes(4, "big"))
        come = found(tag=f"D-{number}").model_copy(update={"unit": unit, "mac": mac})
        for entry in (come, Noted(unit=unit, mac=mac, text="half way"), Recorded(unit=unit, mac=mac)):
            job.append(entry, datetime.now(UTC))
        os.write(said, f"D-{number}\n".encode())


def test_a_handover_is_of_one_moment_while_somebody_writes_on(tmp_path, monkeypatch):
    """The screen makes it in a thread, and records the next device meanwhile."""
    job = JobFile(tmp_path / "job.askport", create=True)
    job.append(found(), NOW)
    really = kept_frames.frames_fault

    def meanwhile(*of, **how):
        job.append(found(unit=job.count + 1, tag=f"TG-0{job.count + 1}"), NOW)
        return really(*of, **how)

    monkeypatch.setattr(kept_frames, "frames_fault", meanwhile)
    write_reports(job, "site", tmp_path / "papers", ["register.json"])
    monkeypatch.undo()
    told = json.loads((tmp_path / "papers" / "register.json").read_text())
    assert [each["tag"] for each in told["devices"]] == ["TG-01"]
    job.append(found(unit=9, tag="TG-09"), NOW)
    assert [row.tag for row in job.as_it_stands().checked()] == ["TG-01", "TG-02", "TG-09"]


@pytest.mark.long
def test_what_was_called_recorded_survives_kill_9(tmp_path):
    """A writer is killed over and over: all it had said is there, the chain holds, the register is the journal's."""
    path, random, said = tmp_path / "job.askport", Random(9), []
    for _ in range(KILLS):
        here, there = os.pipe()
        writer = os.fork()
        if writer == 0:
            try:
                record_until_killed(path, there, len(said) + 1)
            finally:
                os._exit(1)
        os.close(there)
        with os.fdopen(here) as heard:
            # Some are killed while they open the file, some behind what they have said, however slow the disk is.
            said += [heard.readline().strip() for _ in range(random.choice((0, 1, 2, 4)))]
            time.sleep(random.uniform(0.0, 0.05))
            os.kill(writer, signal.SIGKILL)
            os.waitpid(writer, 0)
            said += heard.read().split()
        if path.exists() and path.stat().st_size:
            JobFile(path, create=True).close()  # as the next start would
    rows = JobFile(path, create=False).checked()
    assert len(said) > KILLS
    assert set(said) <= {row.tag for row in rows if row.last.recorded_at}


def spoil_version(path):
    with sqlite3.connect(path) as database:
        database.execute("PRAGMA user_version = 99")


def spoil_journal(path):
    with sqlite3.connect(path) as database:
        database.execute("UPDATE journal SET body = replace(body, '192.168.61.7', '192.168.61.8')")


@pytest.mark.parametrize(
    ("spoil", "status", "said"),
    [
        (lambda path: path.write_text("not a job"), 2, "is not a job file"),
        (lambda path: sqlite3.connect(path).execute("CREATE TABLE x (y)"), 2, "is not a job file"),
        (spoil_version, 2, "newer Ask Port"),
        (spoil_journal, 2, "changed outside"),
        (lambda path: path.unlink(), 2, "There is no job file"),
        (lambda path: (path.unlink(), path.mkdir()), 3, "cannot be opened"),
    ],
)
def test_a_file_that_is_no_job_is_refused_in_a_sentence(tmp_path, spoil, status, said):
    path = tmp_path / "job.askport"
    if spoil not in (spoil_version, spoil_journal):
        path.touch()
    else:
        JobFile(path, create=True).append(found(), NOW)
    if path.stat().st_size == 0 and "CREATE" in str(spoil.__code__.co_consts):
        path.unlink()
    spoil(path)
    run = askport("register", "list", path)
    assert (run.returncode, run.stdout) == (status, "")
    assert said in run.stderr
    assert run.stderr.count("\n") == 1


def test_a_full_disk_is_said_and_loses_nothing(namespaces, tmp_path):
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k", "none", str(tmp_path)], check=True)
    try:
        with contextlib.closing(JobFile(tmp_path / "job.askport", create=True)) as job:
            job.append(found(), NOW)
            with pytest.raises(errors.MachineRefused, match="could not be written.*Nothing recorded before is lost"):
                for unit in range(2, 300):
                    job.append(found(unit % 256, tag="x" * 40), NOW)
            kept = len(job.lines)
            shutil.copy(job.path, tmp_path.parent / "copy.askport")
    finally:
        subprocess.run(["umount", str(tmp_path)], check=True)
    assert len(JobFile(tmp_path.parent / "copy.askport", create=False).lines) == kept > 1


def test_exports_hold_what_was_recorded_and_no_formula(tmp_path):
    path = tmp_path / "job.askport"
    job = JobFile(path, create=True)
    job.append(found(tag="=HYPERLINK(1)", maker='@evil, "inc"'), NOW)
    job.append(Recorded(unit=1, mac=found().mac), NOW)
    document = json.loads(askport("register", "export", path, "--json").stdout)
    device = document["devices"][0]
    assert (document["schema"], device["tag"], device["state"]) == ("askport.register/1", "=HYPERLINK(1)", "unproven")
    assert (device["as_found"]["address"], device["recorded_at"]) == ("192.168.61.7", "2026-03-04T05:06:07.000Z")
    out = tmp_path / "register.csv"
    assert askport("register", "export", path, "--csv", "--out", out).returncode == 0
    text = out.read_bytes().decode()
    assert '\r\n\'=HYPERLINK(1),00:00:5e:00:53:01,"\'@evil, ""inc""",192.168.61.7,' in text
    assert askport("register", "export", path).returncode == 2
    assert fold(JobFile(path, create=False).lines)[0].tag == "=HYPERLINK(1)"


@pytest.mark.parametrize("name", ["what?.askport", "100%.askport", "a%20b?mode=ro.askport", "#1.askport"])
def test_a_job_may_be_called_anything(tmp_path, name):
    JobFile(tmp_path / name, create=True).append(found(), NOW)
    assert [each.name for each in tmp_path.iterdir()] == [name]
    assert "TG-01" in askport("register", "list", tmp_path / name).stdout


def test_a_second_program_on_one_job_is_told(tmp_path):
    path = tmp_path / "job.askport"
    first = JobFile(path, create=True)
    with pytest.raises(errors.MachineRefused, match="in use by another run of Ask Port"):
        JobFile(path, create=True)
    first.append(found(), NOW)
    assert len(JobFile(path, create=False).lines) == 1, "reading is no use of it"
    first.close()
    JobFile(path, create=True).close()


def job_with_frames(path):
    job = JobFile(path, create=True)
    for unit in range(1, 6):
        job.append(found(unit, tag=f"TG-0{unit}"), NOW)
        job.keep(unit, [(NOW, bytes((unit, *range(60))) * 3)] * 4)
        job.append(Recorded(unit=unit, mac=found(unit).mac), NOW)
    job.close()
    return job.lines, captures(job)


def captures(job):
    return [job.capture(row.first.frames) for row in job.register.rows()]


@pytest.mark.long
def test_a_flipped_bit_is_found_or_changes_nothing(tmp_path):
    """What is read is what was written, frames too, or it is refused in a sentence and the rest is salvaged."""
    path, bent = tmp_path / "job.askport", tmp_path / "bent.askport"
    lines, frames = job_with_frames(path)
    rows = JobFile(path, create=False).checked()
    whole, random, refused = path.read_bytes(), Random(5), 0
    for _ in range(KILLS * 2):
        place, bit = random.randrange(len(whole)), 1 << random.randrange(8)
        bent.write_bytes(whole[:place] + bytes((whole[place] ^ bit,)) + whole[place + 1 :])
        try:
            job = JobFile(bent, create=False)
            assert job.lines == lines, place
            assert job.checked() == rows, place
            assert captures(job) == frames, place
        except errors.AskPortError as error:
            refused += 1
            assert error.message.count(chr(10)) == 0
            try:
                sound, lost = salvage(bent)
            except errors.BadInput as nothing:
                assert "can be read" in nothing.message
            else:
                assert len(sound) + len(lost) >= 1
    assert refused > KILLS / 5


@pytest.mark.parametrize("spoil", [
    "DELETE FROM journal WHERE number = (SELECT max(number) FROM journal)", "DELETE FROM journal", "DROP TABLE journal",
    "DROP TABLE captures", "UPDATE journal SET body = '{' WHERE number = 3",
    "UPDATE journal SET at = 'soon' WHERE number = 3",
    "UPDATE captures SET pcapng = pcapng || x'00'", "DELETE FROM captures", "DROP TABLE seal",
    "UPDATE journal SET body = x'ff00' WHERE number = 3", "UPDATE journal SET number = 99 WHERE number = 3",
])  # fmt: skip
def test_what_was_changed_outside_is_said_in_a_sentence(tmp_path, spoil):
    path = tmp_path / "job.askport"
    job_with_frames(path)
    with sqlite3.connect(path) as database:
        database.execute(spoil)
    run = askport("register", "list", path)
    assert (run.returncode, run.stdout, run.stderr.count("\n")) == (2, "", 1), run
    assert "fault of Ask Port" not in run.stderr


@pytest.mark.parametrize(
    "done",
    [
        "CREATE TRIGGER t BEFORE INSERT ON journal BEGIN SELECT RAISE(IGNORE); END",
        "ALTER TABLE journal RENAME TO j2; CREATE VIEW journal AS SELECT * FROM j2 WHERE number < 2",
        "CREATE TABLE beside (x)",
    ],
)
def test_a_job_with_parts_that_are_none_of_its_own_is_refused(tmp_path, done):
    path = tmp_path / "job.askport"
    JobFile(path, create=True).close()
    with contextlib.closing(sqlite3.connect(path)) as connection:
        connection.executescript(done)
    run = askport("register", "verify", path)
    assert (run.returncode, "none of its own" in run.stderr) == (1, True), run.stderr
    assert askport_in_bounds("register", "list", path).returncode == 2


def test_a_job_of_an_earlier_format_is_read_and_brought_up_to_date(tmp_path):
    path = tmp_path / "job.askport"
    lines, frames = job_with_frames(path)
    with sqlite3.connect(path) as database:
        for column in ("place", "after"):
            database.execute(f"ALTER TABLE journal DROP COLUMN {column}")
        database.execute("CREATE TABLE frames (unit INTEGER PRIMARY KEY, pcapng BLOB)")
        database.execute("INSERT INTO frames SELECT rowid, pcapng FROM captures")
        for table in ("seal", "captures", "devices", "search", "grown"):
            database.execute(f"DROP TABLE {table}")
        database.execute("PRAGMA user_version = 2")
    old = JobFile(path, create=False)
    assert (old.lines, captures(old), len(old.checked())) == (lines, frames, 5)
    job = JobFile(path, create=True)
    job.append(found(6), NOW)
    job.close()
    assert (JobFile(path, create=False).count, len(JobFile(path, create=False).checked())) == (len(lines) + 1, 6)


HOSTILE = "\x1b[2J\x1b]0;x\x07\u202eTG\u2066\x9b31m"


def test_text_of_a_job_that_somebody_handed_over_is_hostile_too(tmp_path):
    path = tmp_path / "job.askport"
    job = JobFile(path, create=True)
    starts = ["=1+1", " =1+1", chr(10) + "=1+1", "\uff1d1+1", "\t@x", "-1", "+1", HOSTILE]
    for unit, tag in enumerate(starts, 1):
        job.append(found(unit, tag=tag, maker=tag), NOW)
    job.close()
    table, listed = (askport("register", *each).stdout for each in (("export", path, "--csv"), ("list", path)))
    for text in (table, listed):
        assert text.replace("\r", "").replace(chr(10), "").isprintable()
    rows = list(csv.reader(table.splitlines()))
    assert len(rows) == 1 + len(starts)
    for row in rows[1:]:
        for cell in (row[0], row[2]):
            assert not unicodedata.normalize("NFKC", cell).strip().startswith(("=", "+", "-", "@")), cell
