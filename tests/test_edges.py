"""Where the program meets the world: waiting, sending, the keeper's client, doors, and hostile files."""

import asyncio
import contextlib
import hashlib
import http.server
import itertools
import json
import os
import pwd
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
import urllib.request
from ipaddress import IPv4Address
from pathlib import Path
from types import SimpleNamespace
from unittest.mock import Mock

import pytest

from askport.bell import Bell
from askport.core import channels, errors, wire
from askport.core.addresses import MacAddress
from askport.core.formats.arp import arp_question
from askport.core.formats.capture import pcapng_start
from askport.edges import capture_file, keeper_client, learning_door, shared_wire, two_clocks
from askport.edges import door as doors
from askport.edges.browser import open_page
from askport.edges.door import Door
from askport.edges.keeper import relay
from askport.edges.streams import Streams
from askport.edges.transports.http_sockets import _Stream
from askport.edges.transports.tcp_socket import OverAdapter
from askport.tui.laptop_watch import page_port
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


@pytest.mark.parametrize("turns", range(5))
def test_reading_never_swallows_that_it_was_called_off(turns):
    """What comes at the moment of Ctrl-C is no reason for a door to stay open: a connection would be waited for."""

    async def race():
        reader = asyncio.StreamReader()
        task = asyncio.ensure_future(_Stream(reader, None).read(99, 30.0))
        for _ in range(3):
            await asyncio.sleep(0)
        reader.feed_data(b"at this very moment")
        for _ in range(turns):
            await asyncio.sleep(0)
        called_off = task.cancel()
        await asyncio.wait([task])
        return called_off, task.cancelled()

    called_off, cancelled = asyncio.run(race())
    assert cancelled is called_off


def test_an_adapter_that_vanishes_while_it_is_asked_ends_the_program_at_once(cable):
    """Signalled in the middle, too: no loop goes round a socket in error."""
    program = cable.start("laptop", *cable.command("find", "zl0", "--seconds", 60))
    assert wait_for(lambda: program.poll() is None and children(program.pid))
    time.sleep(1.0)
    cable.ip("link", "del", "zl0", at="laptop")
    assert program.wait(60) == 3


def test_every_question_is_sent_where_the_queue_is_short(cable):
    """A slow adapter takes 2,000 frames a second: all 1,024 asked for go out, none is only counted."""
    cable.in_laptop("tc", "qdisc", "add", "dev", "zl0", "root", "tbf", "rate", "1mbit", "burst", "2kb", "limit", "1mb")
    received = lambda: int(json.loads(cable.ip("-j", "-s", "link", "show", "zd0"))[0]["stats64"]["rx"]["packets"])  # noqa: E731
    before = received()
    run = cable.askport("find", "zl0", "--loudness", "sweep", "--within", "10.9.0.0/22", "--rate", 100000, "--json")
    assert json.loads(run.stdout)["swept"]["questions"] == 1024
    assert wait_for(lambda: received() - before >= 1024), received() - before


def test_a_refusal_is_read_though_the_keeper_was_gone_before_it_read_what_was_asked():
    """The kernel tells first that the other end is gone, and then what it had said (unix(7))."""
    keeper = FakeKeeper()
    keeper.client._send("addresses", {})
    keeper.theirs.send(b'{"id": 1, "error": "sten is not in the group"}')
    keeper.theirs.close()
    with pytest.raises(errors.MachineRefused, match="sten is not in the group"):
        keeper.client._await(1)


class FakeKeeper:
    """The other end of a keeper's socket."""

    def __init__(self):
        ours, self.theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        ours.setblocking(False)
        self.client = keeper_client.Keeper.__new__(keeper_client.Keeper)
        self.client.adapter, self.client._control, self.client._number = "zl0", ours, 0
        self.client._turn, self.client._awaited, self.client._early = asyncio.Lock(), set(), {}

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
    """It answers once ten other things were done, or after half a minute if nothing else goes on."""
    keeper = FakeKeeper()
    answers = {"given": [], "left": ["its network manager (it is busy)"]}

    async def others():
        for _ in range(10):
            await asyncio.sleep(0.01)
        at_last.cancel()
        keeper.answer(1, **answers)

    async def ask():
        going = asyncio.ensure_future(others())
        try:
            await keeper.client.give_back()
        finally:
            assert going.done()

    at_last = threading.Timer(30, keeper.answer, (1,), answers)
    at_last.start()
    with pytest.raises(errors.MachineRefused, match=r"Not given back on zl0: its network manager \(it is busy\)"):
        asyncio.run(ask())


@pytest.mark.long
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
        door = Door(OverAdapter("lo"), channels.TcpPort(IPv4Address("127.0.0.1"), server.sockets[0].getsockname()[1]))
        await door.open()
        for _ in range(100):
            reader, writer = await asyncio.open_connection(*door.host.split(":"))
            writer.write_eof()
            assert await asyncio.wait_for(reader.read(), 60.0) == b"page"
            writer.close()
        await asyncio.sleep(0.1)
        assert not door._open
        assert len(held) == 100
        await door.close()
        server.close()

    asyncio.run(scene())


class Taking(http.server.BaseHTTPRequestHandler):
    """A page that takes whatever is sent, said by its length or in chunks, and answers with its digest."""

    protocol_version = "HTTP/1.1"

    def do_POST(self):
        """Read all of it."""
        digest, left = hashlib.sha256(), int(self.headers.get("Content-Length", 0))
        while left and (data := self.rfile.read(min(left, 65_536))):
            digest.update(data)
            left -= len(data)
        while "chunked" in self.headers.get("Transfer-Encoding", ""):
            size = int(self.rfile.readline(), 16)
            digest.update(self.rfile.read(size))
            self.rfile.readline()
            if not size:
                break
        text = digest.hexdigest().encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)

    def log_message(self, *_):
        """Say nothing."""


@contextlib.contextmanager
def page(handler):
    """Serve on a loopback port, in a thread."""
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_address[1]
        server.shutdown()


@pytest.mark.night  # its flood is everybody's load; by day the rule is tried in test_finding
def test_a_device_that_never_stops_talking_hides_nobody(cable):
    """A quiet device's one word is found under 20,000 frames a second; what is shed is counted."""
    flood = Path(__file__).parent.parent / "benchmarks/flood.py"
    babbler = cable.start("device", sys.executable, str(flood), "--seconds", "8")
    finding = cable.start("laptop", *cable.command("find", "zl0", "--loudness", "listen", "--seconds", "5", "--json"),
                          stdout=subprocess.PIPE, text=True)  # fmt: skip
    quiet = arp_question(MacAddress.parse("02:00:00:00:00:77"), IPv4Address("10.3.0.1"), sender=IPv4Address("10.3.0.7"))
    word = (
        "import socket, sys; wire = socket.socket(17, 3); wire.bind(('zd0', 0)); wire.send(bytes.fromhex(sys.argv[1]))"
    )
    while finding.poll() is None:  # however late it begins to listen
        cable.in_device(sys.executable, "-c", word, quiet.hex())
        time.sleep(0.7)
    document = json.loads(finding.communicate(timeout=60)[0])
    babbler.wait(60)
    found = {each["mac"]: [held["address"] for held in each["addresses"]] for each in document["devices"]}
    assert found["02:00:00:00:00:77"] == ["10.3.0.7"]
    assert {f"02:00:00:00:09:0{n}" for n in range(4)} <= set(found)
    frames = document["frames"]
    assert frames["shed"]["arp"] > 1_000 < frames["shed"]["ipv4"]
    assert sum(frames["shed"].values()) < frames["seen"]


@pytest.mark.parametrize("in_chunks", [False, True], ids=["with its length", "in chunks"])
def test_a_large_upload_passes_the_learning_door_whole(in_chunks):
    """Firmware and backups are larger than what is held to be looked at."""
    data = os.urandom(1 << 20) * 20

    async def scene(port):
        door = learning_door.LearningDoor(
            OverAdapter("lo"), channels.TcpPort(IPv4Address("127.0.0.1"), port), secure=False, now=time.monotonic
        )
        await door.open()
        body = (data[at : at + 100_000] for at in range(0, len(data), 100_000)) if in_chunks else data
        request = urllib.request.Request(door.hand_out(), data=body, headers={"Content-Type": "application/x-tar"})
        with await asyncio.to_thread(urllib.request.urlopen, request, timeout=60) as answer:
            text = answer.read().decode()
        await door.close()
        return text, door.exchanges

    with page(Taking) as port:
        text, exchanges = asyncio.run(scene(port))
    assert text == hashlib.sha256(data).hexdigest()
    assert [(each.method, each.status) for each in exchanges] == [("POST", 200)]
    assert len(exchanges[0].body) < len(data), "what is kept is cut"


def test_pages_are_let_go_of_when_the_channels_are_closed():
    """What holds connections to a device's pages is closed with all else, also in the midst of an answer."""

    class Never(Taking):
        def do_GET(self):
            """Begin an answer, and never end it; see the other side go."""
            self.send_response(200)
            self.send_header("Content-Length", "1000")
            self.end_headers()
            begun.set()
            if self.rfile.read(1) == b"":
                ended.set()

    begun, ended = threading.Event(), threading.Event()

    async def scene(port):
        streams = Streams(OverAdapter("lo"), lambda: None)
        streams.fetch(channels.PageCall(channels.HttpPort(IPv4Address("127.0.0.1"), port), "GET", "/"))
        await asyncio.to_thread(begun.wait, 5)
        (client,) = streams._clients.values()
        streams.close_channels()
        await asyncio.to_thread(ended.wait, 5)
        return client.is_closed

    with page(Never) as port:
        assert asyncio.run(scene(port))
    assert ended.is_set()


def capture(tmp_path, data):
    path = tmp_path / "x.pcap"
    path.write_bytes(data)
    return capture_file.CaptureFile(path)


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
        with pytest.raises((errors.BadInput, errors.MachineRefused)):
            capture_file.CaptureFile(Path(path))
    fifo = tmp_path / "pipe"
    os.mkfifo(fifo)
    opener = threading.Thread(target=lambda: os.close(os.open(fifo, os.O_WRONLY)))
    opener.start()
    with pytest.raises(errors.BadInput, match="not a regular file"):
        capture_file.CaptureFile(fifo)
    opener.join()
    holes = tmp_path / "zeros"
    with holes.open("wb") as file:
        file.truncate(1 << 30)
    with pytest.raises(errors.BadInput, match="neither a pcap nor a pcapng"):
        capture_file.CaptureFile(holes)
    with holes.open("r+b") as file:
        file.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        file.truncate(1 << 26)
    assert list(capture_file.CaptureFile(holes).frames()) == []


def test_a_browser_that_would_take_the_terminal_is_not_opened(monkeypatch, tmp_path):
    """Without a screen of its own none is; with one, it is left to the desktop and says nothing into ours."""
    for name in ("DISPLAY", "WAYLAND_DISPLAY"):
        monkeypatch.delenv(name, raising=False)
    opener = tmp_path / "xdg-open"
    opener.write_text(f"#!/bin/sh\necho $$ > {tmp_path}/opened; echo noise; exec sleep 900\n")
    opener.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:/usr/bin:/bin")
    assert open_page("http://127.0.0.1:9") is False
    monkeypatch.setenv("DISPLAY", ":7")
    assert open_page("http://127.0.0.1:9") is True  # and not only once the opener has ended, after a quarter of an hour
    assert wait_for(lambda: (tmp_path / "opened").exists() and (tmp_path / "opened").read_text())
    os.kill(int((tmp_path / "opened").read_text()), signal.SIGKILL)


def test_a_device_without_a_page_has_no_door():
    session = SimpleNamespace(device=SimpleNamespace(chosen=SimpleNamespace(services=()), open_ports=[23]))
    assert page_port(session) is None
    session.device.chosen.services = (SimpleNamespace(transport="tcp", port=443),)
    assert page_port(session) == 443


def test_whoever_called_sudo_keeps_the_groups_that_open_serial_ports(namespaces, tmp_path):
    code = "import os; from askport.edges.invoker import drop_to_invoker; drop_to_invoker(); print(os.getgroups())"
    user, groups = pwd.getpwnam("games"), tmp_path / "group"
    groups.write_text(Path("/etc/group").read_text() + "serial:x:4711:games\n")
    as_member = ["unshare", "-m", "sh", "-c", f'mount --bind {groups} /etc/group; exec "$@"', "sh"]
    run = subprocess.run([*as_member, sys.executable, "-c", code], capture_output=True, text=True,
                         env={**os.environ, "SUDO_UID": str(user.pw_uid), "SUDO_GID": str(user.pw_gid)})  # fmt: skip
    assert "4711" in run.stdout, run.stderr


def test_a_stamp_of_the_wall_clock_is_the_moment_it_was_made_at_however_often_the_clock_is_set():
    clocks = two_clocks.TwoClocks(100.0, 1_000.0)
    clocks.see(110.0, 1_010.0)
    assert clocks.monotonic(1_004.0, after=103.0, now=110.0) == 104.0
    clocks.see(111.0, 4_611.0)  # an hour ahead, since the look at 110
    assert clocks.monotonic(1_010.25, after=104.0, now=111.0) == 110.25
    assert clocks.monotonic(4_610.75, after=110.25, now=111.0) == 110.75
    clocks.see(120.0, 1_020.0)  # and back, while 9 s lay unread
    assert clocks.monotonic(4_612.0, after=110.75, now=120.0) == 112.0
    assert clocks.monotonic(1_019.0, after=112.0, now=120.0) == 119.0
    assert clocks.monotonic(9_999.0, after=119.0, now=120.0) == 119.0  # set twice between two looks
    assert [clocks.wall(at).timestamp() for at in (105.0, 115.0, 125.0)] == [1_005.0, 4_615.0, 1_025.0]


def test_what_one_looks_up_for_another_waits_for_nobodys_deadline():
    """On a shared cable: the other one is told at once, and not at the next frame."""

    class Wire(Mock):
        found = [wire.Frame(at=0.0, data=b"for the first")]

        def now(self):
            return 0.0

        def look(self):
            found, self.found = self.found, []
            return found

        async def wait(self, deadline):
            assert deadline == 0.0, "nothing else comes: this would wait for a minute"
            return []

    async def run():
        shared = shared_wire.SharedWire(Wire())
        first, second = shared.view(), shared.view()
        second.wants = lambda _: False
        shared._running = {first, second}
        waiting = asyncio.ensure_future(first.wait(60.0))
        await asyncio.sleep(0)
        assert second.look() == []
        await second.wait(60.0)
        return await waiting

    assert [each.data for each in asyncio.run(run())] == [b"for the first"]


class Stamped:
    """A packet socket whose frames came at certain moments, without an end where they are endless."""

    def __init__(self, stamps):
        self.stamps = iter(stamps)

    def setblocking(self, _):
        pass

    def getsockopt(self, *_):
        return bytes(8)

    def recvmsg(self, *_):
        at = next(self.stamps, None)
        if at is None:
            raise BlockingIOError
        return b"frame", [(socket.SOL_SOCKET, 35, struct.pack("ll", int(at), int(at % 1 * 1e9)))], 0, None


@pytest.mark.parametrize("endless", [False, True])
def test_how_far_a_relay_has_read_is_told_behind_all_that_had_come_before(endless):
    """In a flood without an end too; and of nothing that came later."""
    began = time.time() + 100
    stamps = (began + number / 1000 for number in (itertools.count() if endless else range(300)))
    near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    passes = relay.Relay(Stamped(stamps), far)
    passes._asked = 7.0, began + 0.2
    seen = []
    while passes._asked:
        passes._read()
        message = near.recv(relay.MAX_MESSAGE)
        until, place = relay.HEAD.unpack_from(message)[4], relay.HEAD.size
        while place < len(message):
            at, length = relay.FRAME.unpack_from(message, place)
            seen.append(at - began)
            place += relay.FRAME.size + length
    assert until == 7.0
    assert 0.2 <= max(seen) <= 0.3
    assert len(seen) >= 200


@pytest.mark.parametrize("torn", [b"", b"HTTP/1.1 200 OK\r\nContent-Length: 400\r\n\r\n<title>half"])
def test_a_device_that_tears_its_answer_as_it_moves_keeps_no_browser_waiting(torn):
    """What it was told stands at once, for who follows it; the browser is told where it has moved."""

    async def scene():
        told = asyncio.Event()

        async def device(reader, writer):
            await reader.readuntil(b"255.0")
            writer.write(torn)
            await writer.drain()
            told.set()
            await asyncio.sleep(3600)

        server = await asyncio.start_server(device, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        door = learning_door.LearningDoor(
            OverAdapter("lo"), channels.TcpPort(IPv4Address("127.0.0.1"), port), secure=False, now=lambda: 0.0
        )
        await door.open()
        reader, writer = await asyncio.open_connection(*door.host.split(":"))
        path, _, body = door.hand_out().removeprefix(f"http://{door.host}"), "", b"ip=10.84.16.31&mask=255.255.255.0"
        head = f"POST {path} HTTP/1.1\r\nHost: {door.host}\r\nContent-Type: application/x-www-form-urlencoded\r\n"
        writer.write(head.encode() + b"Content-Length: %d\r\n\r\n" % len(body) + body)
        await told.wait()
        assert door.told[0] == IPv4Address("10.84.16.31")
        door.follow(channels.TcpPort(IPv4Address("10.84.16.31"), port))
        page = await asyncio.wait_for(reader.readuntil(b"</html>"), 30.0)
        assert b"It has moved to 10.84.16.31" in page
        (kept,) = door.exchanges
        assert kept.fields == {"ip": "10.84.16.31", "mask": "255.255.255.0"}
        await door.close()
        server.close()

    asyncio.run(scene())
