"""The laptop is looked over: what can be used, what not and why, and nothing of it changes by that."""

import json
import os
import pwd
import time

import pytest

from askport.edges import keeper_start, looking_over
from askport.edges.kernel.capabilities import NET_RAW
from askport.edges.looking_over import look_over
from conftest import LAPTOP, askport


def seen(*, missing=()):
    return {each.name: each for each in look_over() if each.name not in missing}


def test_a_laptop_that_can_do_the_job_is_told_so_and_is_as_before(cable):
    before = cable.adapter(), cable.ip("link", at="laptop")
    done = cable.askport("doctor", "--json")
    told = json.loads(done.stdout)
    well = {each["name"]: each["well"] for each in told["seen"]}
    assert (done.returncode, told["schema"], told["can_work"]) == (0, "askport.doctor/1", True), done
    assert [well[each] for each in ("rights", "adapters", "namespace", "filter", "macvlan", "jobs")] == [True] * 6
    assert (cable.adapter(), cable.ip("link", at="laptop")) == before
    private = (LAPTOP, os.uname().nodename, os.environ.get("USER", "nobody-else"))
    assert not [each for each in private if each in done.stdout], "it can be sent to somebody"


def test_an_adapter_that_is_switched_off_is_named_with_the_line_that_mends_it(cable):
    cable.ip("link", "set", "zl0", "down", at="laptop")
    done = cable.askport("doctor")
    assert (done.returncode, "The main job cannot run yet." in done.stdout) == (1, True), done
    assert "zl0 is switched off." in done.stdout
    assert "▸ sudo ip link set zl0 up" in done.stdout


def test_what_is_missing_is_said_in_a_sentence(monkeypatch, tmp_path):
    """Rights, a place for jobs; whatever cannot be seen is not called well."""
    monkeypatch.setattr(looking_over.os, "geteuid", lambda: 1000)
    monkeypatch.setattr(looking_over, "user_data_path", lambda _: tmp_path / "no" / "place")
    monkeypatch.setattr(looking_over.tempfile, "TemporaryFile", refuses)
    found = seen()
    assert (found["rights"].is_well, found["rights"].mend) == (False, "sudo askport")
    assert (found["macvlan"].is_well, found["macvlan"].mend) == (None, "sudo askport doctor")
    assert (found["jobs"].is_well, found["jobs"].says) == (False, "Jobs cannot be kept: Read-only file system.")
    assert {each.name for each in found.values() if each.is_needed and each.is_well is False} >= {"rights", "jobs"}


def refuses(**_):
    raise OSError(30, "Read-only file system")


@pytest.mark.parametrize("tried", [frozenset(), frozenset({"namespace", "filter"})])
def test_a_kernel_that_cannot_is_told_from_one_that_was_not_tried(monkeypatch, tried):
    monkeypatch.setattr(looking_over.os, "geteuid", lambda: 0)
    monkeypatch.setattr(looking_over, "_trial", lambda: tried)
    found = seen()
    assert found["filter"].is_well is ("filter" in tried)
    assert (found["macvlan"].is_well, found["macvlan"].is_needed) == (False, False)
    assert "It is borrowed on the adapter, and given back." in found["macvlan"].says
    assert askport("doctor", "--help").returncode == 0


@pytest.mark.parametrize(
    ("years", "says"),
    [(-0.8, "but this program was installed on"), (9, "years after anything here was written"), (0, None)],
)
def test_a_clock_is_held_against_what_was_surely_before(monkeypatch, years, says):
    """And no line that mends it names a time, which would be wrong."""
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now + years * 365 * 86_400)
    look = looking_over._clock()
    assert (look.is_well, says is None or says in look.says, "20" in look.mend) == (says is None, True, False), look


def test_root_without_its_capabilities_is_told_so_and_sudo_s_jobs_are_at_home_with_who_called_it(monkeypatch):
    monkeypatch.setattr(looking_over.os, "geteuid", lambda: 0)
    monkeypatch.setattr(looking_over, "_trial", frozenset)
    monkeypatch.setattr(keeper_start, "effective", lambda: 1 << NET_RAW)
    rights = seen()["rights"]
    assert (rights.is_well, rights.is_needed) == (False, True)
    assert "it lacks CAP_NET_ADMIN." in rights.says
    assert rights.mend.startswith("Start the container")
    daemon = pwd.getpwnam("daemon")
    monkeypatch.setenv("SUDO_UID", str(daemon.pw_uid))
    monkeypatch.delenv("XDG_DATA_HOME", raising=False)
    assert looking_over._jobs_at().is_relative_to(daemon.pw_dir)
