"""Where the program meets the world: waiting, sending, the keeper's client, doors, and hostile files."""

import asyncio
import grp
import json
import os
import pwd
import socket
import struct
import subprocess
import sys
import threading
import time
from ipaddress import IPv4Address
from pathlib import Path
from types import SimpleNamespace

import pytest

from askport.bell import Bell
from askport.core.channels import TcpPort
from askport.core.errors import BadInput, MachineRefused
from askport.core.formats.capture import pcapng_start
from askport.edges import door as doors
from askport.edges.browser import open_page
from askport.edges.capture_file import CaptureFile
from askport.edges.door import Door
from askport.edges.keeper_client import Keeper
from askport.tui.laptop import page_port
from conftest import children, wait_for


def test_waiting_never_swallows_that_it_was_called_off():
    """It rings at the very moment of the cancelling: whoever waits in a loop must end all the same."""

    async def wait_for_ever(bell):
        while True:
            await bell.wait(30.0)

    async def race(ring_first):
        bell = Bell()
        task = asyncio.ensure_future(wait_for_ever(bell))
        await asyncio.sleep(0)
        for act in (bell.ring, task.cancel) if ring_first else (task.cancel, bell.ring):
            act()
        done, _ = await asyncio.wait([task], timeout=1.0)
        assert done
        assert task.cancelled()

    for ring_first in (True, False):
        asyncio.run(race(ring_first))


@pytest.mark.kernel
def test_an_adapter_that_vanishes_while_it_is_asked_ends_the_program_at_once(cable):
    """Signalled in the middle, too: no loop goes round a socket in error."""
    program = cable.start("laptop", *cable.command("find", "zl0", "--seconds", 60))
    assert wait_for(lambda: program.poll() is None and children(program.pid), 10)
    time.sleep(1.0)
    cable.ip("link", "del", "zl0", at="laptop")
    assert program.wait(5) == 3


@pytest.mark.kernel
def test_every_question_is_sent_where_the_queue_is_short(cable):
    """A slow adapter takes 2,000 frames a second: all 1,024 asked for go out, none is only counted."""
    cable.in_laptop("tc", "qdisc", "add", "dev", "zl0", "root", "tbf", "rate", "1mbit", "burst", "2kb", "limit", "1mb")
    received = lambda: int(json.loads(cable.ip("-j", "-s", "link", "show", "zd0"))[0]["stats64"]["rx"]["packets"])  # noqa: E731
    before = received()
    run = cable.askport("find", "zl0", "--loudness", "sweep", "--within", "10.9.0.0/22", "--rate", 100000, "--json")
    assert json.loads(run.stdout)["swept"]["questions"] == 1024
    assert wait_for(lambda: received() - before >= 1024, 3.0), received() - before


class FakeKeeper:
    """The other end of a keeper's socket."""

    def __init__(self):
        ours, self.theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        ours.setblocking(False)
        self.client = Keeper.__new__(Keeper)
        self.client.adapter, self.client._control, self.client._number = "zl0", ours, 0
        self.client._turn = asyncio.Lock()

    def answer(self, number, **content):
        self.theirs.send(json.dumps({"id": number, **content}).encode())


def test_a_late_answer_serves_no_later_request():
    keeper = FakeKeeper()

    async def ask():
        keeper.answer(0, addresses=["192.0.2.1/24"])  # to a request that was given up
        keeper.answer(1, addresses=["10.84.16.9/22"])
        return await keeper.client.addresses()

    assert asyncio.run(ask()) == ["10.84.16.9/22"]


def test_everything_else_goes_on_while_the_keeper_works():
    keeper = FakeKeeper()
    ticks = []

    async def tick():
        while True:
            ticks.append(1)
            await asyncio.sleep(0.01)

    async def ask():
        ticking = asyncio.ensure_future(tick())
        threading.Timer(0.3, keeper.answer, (1,), {"given": [], "left": ["its network manager (it is busy)"]}).start()
        try:
            await keeper.client.give_back()
        finally:
            ticking.cancel()

    with pytest.raises(MachineRefused, match=r"Not given back on zl0: its network manager \(it is busy\)"):
        asyncio.run(ask())
    assert len(ticks) > 10


def test_a_door_lets_go_of_what_is_half_closed(monkeypatch):
    """A device that never ends its side: a hundred connections one after the other all get through."""
    monkeypatch.setattr(doors, "_HALF_OPEN_S", 0.02)

    async def scene():
        held = []

        async def device(reader, writer):
            held.append(writer)
            writer.write(b"page")
            await writer.drain()

        server = await asyncio.start_server(device, "127.0.0.1", 0)
        door = Door("lo", TcpPort(IPv4Address("127.0.0.1"), server.sockets[0].getsockname()[1]))
        await door.open()
        for _ in range(100):
            reader, writer = await asyncio.open_connection(*door.host.split(":"))
            writer.write_eof()
            assert await asyncio.wait_for(reader.read(), 2.0) == b"page"
            writer.close()
        await asyncio.sleep(0.1)
        assert not door._open
        assert len(held) == 100
        await door.close()
        server.close()

    asyncio.run(scene())


def capture(tmp_path, data):
    path = tmp_path / "x.pcap"
    path.write_bytes(data)
    return CaptureFile(path)


def test_a_time_stamp_that_no_calendar_has_is_read(tmp_path):
    head = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
    start = pcapng_start()
    late = struct.pack("<IIIII", 0, 0xFFFFFFFF, 0xFFFFFFFF, 60, 60) + bytes(60)
    block = struct.pack("<II", 6, 12 + len(late)) + late + struct.pack("<I", 12 + len(late))
    for data in (head + struct.pack("<IIII", 0xFFFFFFFF, 0, 60, 60) + bytes(60), start + block):
        file = capture(tmp_path, data)
        (frame,) = file.frames()
        assert file.wall(frame.at).year >= 2106


def test_what_is_no_capture_is_refused_before_it_is_read(tmp_path):
    for path in ("/dev/zero", "/proc/self/mem"):
        with pytest.raises((BadInput, MachineRefused)):
            CaptureFile(Path(path))
    fifo = tmp_path / "pipe"
    os.mkfifo(fifo)
    opener = threading.Thread(target=lambda: os.close(os.open(fifo, os.O_WRONLY)))
    opener.start()
    with pytest.raises(BadInput, match="no regular file"):
        CaptureFile(fifo)
    opener.join()
    holes = tmp_path / "zeros"
    with holes.open("wb") as file:
        file.truncate(1 << 30)
    with pytest.raises(BadInput, match="neither a pcap nor a pcapng"):
        CaptureFile(holes)
    with holes.open("r+b") as file:
        file.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        file.truncate(1 << 26)
    assert list(CaptureFile(holes).frames()) == []


def test_a_browser_that_would_take_the_terminal_is_not_opened(monkeypatch, tmp_path):
    """Without a screen of its own none is; with one, it is left to the desktop and says nothing into ours."""
    for name in ("DISPLAY", "WAYLAND_DISPLAY"):
        monkeypatch.delenv(name, raising=False)
    opener = tmp_path / "xdg-open"
    opener.write_text(f"#!/bin/sh\necho $1 > {tmp_path}/opened; echo noise; sleep 30\n")
    opener.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:/usr/bin:/bin")
    assert open_page("http://127.0.0.1:9") is False
    monkeypatch.setenv("DISPLAY", ":7")
    began = time.monotonic()
    assert open_page("http://127.0.0.1:9") is True
    assert time.monotonic() - began < 5
    assert wait_for(lambda: (tmp_path / "opened").exists(), 5)


def test_a_device_without_a_page_has_no_door():
    session = SimpleNamespace(device=SimpleNamespace(chosen=SimpleNamespace(services=()), open_ports=[23]))
    assert page_port(session) is None
    session.device.chosen.services = (SimpleNamespace(transport="tcp", port=443),)
    assert page_port(session) == 443


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody else")
def test_whoever_called_sudo_keeps_the_groups_that_open_serial_ports():
    code = (
        "import os; from askport.edges.keeper_client import drop_to_invoker; drop_to_invoker(); print(os.getgroups())"
    )
    groups = grp.getgrall()
    member = next(((pwd.getpwnam(each), one.gr_gid) for one in groups for each in one.gr_mem if each != "root"), None)
    if member is None:
        pytest.skip("nobody here is in a second group: keeping groups was not tested")
    user, group = member
    run = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True,
                         env={**os.environ, "SUDO_UID": str(user.pw_uid), "SUDO_GID": str(user.pw_gid)})  # fmt: skip
    assert str(group) in run.stdout, run.stderr
