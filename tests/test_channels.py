"""Streams as effects: the same machine over the bench's TCP, over a kernel's, and over a cable that is cut."""

import asyncio
import subprocess
import sys
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from unittest.mock import AsyncMock, Mock

import asyncssh
import pytest

from askport.bench import page_device, scenario
from askport.bench.bench import Bench
from askport.core.channels import Channel, CloseChannel, Closed, OpenChannel, Opened, Received, SendOn, SshPort, TcpPort
from askport.core.machine import Machine
from askport.edges.driver import Driver
from askport.edges.streams import Streams
from askport.edges.transports import ssh, tcp_socket
from askport.edges.transports.tcp_socket import OverAdapter

IT = IPv4Address("192.168.61.7")


class Asker(Machine):
    """Opens a channel, says hello to whoever greets, and notes what comes of it."""

    def __init__(self, far, quits=False):
        super().__init__()
        self.said, self._quits = [], quits
        self._channel = Channel(far)
        self._effects.append(OpenChannel(self._channel))

    @property
    def done(self):
        return bool(self.said) and self.said[-1].startswith(("closed", "quit"))

    def channel_event(self, event, now):
        assert event.channel is self._channel
        match event:
            case Opened():
                self.said.append("opened")
            case Received(_, b"who?"):
                self._effects.append(SendOn(self._channel, b"me"))
            case Received(_, data):
                self.said.append(data.decode())
                if self._quits:
                    self.said.append("quit")
                    self._effects.append(CloseChannel(self._channel))
            case Closed(_, because):
                self.said.append(f"closed {because}".strip())


class Doorman:
    """Asks who is there, and is done with whoever says so."""

    over = False

    def greets(self):
        return b"who?"

    def receives(self, data, now):
        self.over = True
        return b"hello " + data


def quiet_wire():
    """A wire on which nothing happens, in real time."""
    return Bench(scenario.LAPTOP_MAC, pace=1.0)


def on_the_bench(monkeypatch, port, *, reach=True, cut=False):
    monkeypatch.setattr(page_device.PageDevice, "talk", lambda self, port: None if cut else Doorman())
    bench = Bench(scenario.LAPTOP_MAC)
    if reach:
        asyncio.run(bench.borrow(IPv4Interface("192.168.61.9/24")))
    bench.plug(scenario.stand_in("TG-01"))
    asyncio.run(Driver(Machine(), bench).run(until=lambda: False, longest_until=7.0))
    asker = Asker(TcpPort(IT, port))
    driver = Driver(asker, bench, channels=bench.streams)
    if cut:
        asyncio.run(driver.run(until=lambda: bool(asker.said)))
        bench.power(False)
    asyncio.run(driver.run(until=lambda: asker.done, longest_until=bench.now() + 30))
    return asker.said


@pytest.mark.parametrize(
    ("how", "said"),
    [
        ({"port": 80}, ["opened", "hello me", "closed"]),
        ({"port": 23}, ["closed connection refused"]),
        ({"port": 80, "reach": False}, ["closed nothing came back"]),
        ({"port": 80, "cut": True}, ["opened", "closed connection timed out"]),
    ],
)
def test_a_machine_talks_over_the_bench(monkeypatch, how, said):
    assert on_the_bench(monkeypatch, **how) == said


@pytest.mark.parametrize(
    ("quits", "listens", "said"),
    [
        (False, True, ["opened", "hello me", "closed"]),
        (True, True, ["opened", "hello me", "quit"]),
        (False, False, ["closed connection refused"]),
    ],
)
def test_the_same_machine_talks_over_a_real_connection(quits, listens, said):
    async def scene():
        ended = asyncio.Event()

        async def device(reader, writer):
            writer.write(b"who?")
            writer.write(b"hello " + await reader.read(9))
            if quits:
                assert await reader.read() == b""
            writer.close()
            ended.set()

        server = await asyncio.start_server(device, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        if not listens:
            server.close()
        wire, asker = quiet_wire(), Asker(TcpPort(IPv4Address("127.0.0.1"), port), quits)
        streams = Streams(OverAdapter("lo"), wire.wake)
        await asyncio.wait_for(Driver(asker, wire, channels=streams).run(until=lambda: asker.done), 60.0)
        if quits:
            await asyncio.wait_for(ended.wait(), 60.0)
        server.close()
        return asker.said

    assert asyncio.run(scene()) == said


CUT = """
import asyncio, sys
sys.path.insert(0, sys.argv[1])
from ipaddress import IPv4Address
from test_channels import Asker, Driver, OverAdapter, Streams, TcpPort, quiet_wire

async def scene():
    wire, asker = quiet_wire(), Asker(TcpPort(IPv4Address("192.168.61.7"), 23))
    driver = Driver(asker, wire, channels=Streams(OverAdapter("zl0"), wire.wake))
    await driver.run(until=lambda: bool(asker.said))
    print("ready", flush=True)
    await asyncio.wait_for(driver.run(until=lambda: asker.done), 60.0)
    print(asker.said[-1])

asyncio.run(scene())
"""


def test_a_cable_that_is_cut_is_noticed_in_seconds(cable):
    """The device's end goes away without a word, as when its power is pulled behind a switch."""
    cable.ip("addr", "add", "192.168.61.7/24", "dev", "zd0")
    cable.ip("addr", "add", "192.168.61.9/24", "dev", "zl0", at="laptop")
    listener = "import socket, time; s = socket.create_server(('', 23)); c = s.accept(); time.sleep(60)"
    cable.start("device", sys.executable, "-c", listener)
    cable.listens(23)
    here = str(Path(__file__).parent)
    run = cable.start("laptop", sys.executable, "-c", CUT, here, stdout=subprocess.PIPE, stderr=None, text=True)
    assert run.stdout.readline() == "ready\n"
    cable.ip("addr", "flush", "dev", "zd0")
    assert run.stdout.read() == "closed connection timed out\n"


@pytest.mark.parametrize("end", [asyncssh.ChannelOpenError(1, "no shell"), asyncio.CancelledError()])
def test_an_ssh_connection_that_gets_no_shell_is_closed(monkeypatch, end):
    """Refused, or called off, between connecting and opening its session."""
    session = Mock(open_session=AsyncMock(side_effect=end))
    monkeypatch.setattr(asyncssh, "connect", AsyncMock(return_value=session))
    monkeypatch.setattr(tcp_socket, "connected_socket", AsyncMock())
    monkeypatch.setattr(tcp_socket, "watch", lambda each: each)
    with pytest.raises((ConnectionError, asyncio.CancelledError)):
        asyncio.run(ssh.connect(None, SshPort(IPv4Address("10.84.16.40"), 22, user="admin", password="secret")))
    session.abort.assert_called_once()
