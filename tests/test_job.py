"""The job file and what is read out of it: durable, append-only, and refused in one sentence where it is not one."""

import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from datetime import UTC, datetime
from ipaddress import IPv4Address

import pytest

from askport.core.addresses import MacAddress
from askport.core.errors import AskPortError, MachineRefused
from askport.core.register.entries import Found, Recorded
from askport.core.register.fold import fold
from askport.edges.jobfile import JobFile
from conftest import askport

NOW = datetime(2026, 3, 4, 5, 6, 7, tzinfo=UTC)


def found(unit=1, tag="TG-01", maker="Halden Fluidics"):
    mac = MacAddress(bytes((0, 0, 0x5E, 0, 0x53, unit)))
    return Found(
        unit=unit, tag=tag, mac=mac, maker=maker, address=IPv4Address("192.168.61.7"), belief="certain", because=()
    )


def test_what_append_returned_from_survives_kill_9(tmp_path):
    """A writer is killed in the middle of its work; every entry that it had said is there, and the chain is whole."""
    path = tmp_path / "job.askport"
    writer = subprocess.Popen(
        [sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True, env={**os.environ}
    )
    said = [writer.stdout.readline() for _ in range(25)]
    time.sleep(0.005)
    os.kill(writer.pid, signal.SIGKILL)
    said += writer.stdout.read().splitlines(keepends=True)
    writer.wait()
    whole = [line for line in said if line.endswith("\n")]
    assert len(JobFile(path, create=False).lines) >= len(whole) >= 25


WRITER = """
import sys
from datetime import UTC, datetime
from pathlib import Path
from askport.core.addresses import MacAddress
from askport.core.register.entries import Named
from askport.edges.jobfile import JobFile
job = JobFile(Path(sys.argv[1]), create=True)
for number in range(100000):
    job.append(Named(unit=1, mac=MacAddress(bytes(6)), tag=str(number)), datetime.now(UTC))
    print(number, flush=True)
"""


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


@pytest.mark.kernel
def test_a_full_disk_is_said_and_loses_nothing(tmp_path):
    if (
        os.geteuid() != 0
        or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "none", str(tmp_path)]).returncode
    ):
        pytest.skip("no small disk can be made here: a full one was not tested")
    try:
        job = JobFile(tmp_path / "job.askport", create=True)
        job.append(found(), NOW)
        with pytest.raises(MachineRefused, match="could not be written.*Nothing recorded before is lost"):
            for unit in range(2, 300):
                job.append(found(unit % 256, tag="x" * 40), NOW)
        kept = len(job.lines)
        shutil.copy(job.path, tmp_path.parent / "copy.askport")
    finally:
        subprocess.run(["umount", str(tmp_path)])
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


def test_errors_have_one_root():
    assert issubclass(MachineRefused, AskPortError)
