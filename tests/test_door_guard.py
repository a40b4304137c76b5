"""Whom a door lets in, before anything reaches the device."""

import asyncio
from ipaddress import IPv4Address
from types import SimpleNamespace
from urllib.parse import urlsplit

import h11
import pytest

from askport.core.channels import TcpPort
from askport.edges.door import Door
from askport.edges.door_guard import Guard, is_foreign
from askport.edges.door_talk import Message
from askport.tui import laptop_watch

DOOR = "127.4.5.6:41000"


@pytest.mark.parametrize(
    ("headers", "because"),
    [
        ({}, ""),
        ({"origin": f"http://{DOOR}"}, ""),
        ({"sec-fetch-site": "none", "sec-fetch-mode": "navigate"}, ""),
        ({"sec-fetch-site": "cross-site", "sec-fetch-mode": "navigate"}, "another page"),
        ({"sec-fetch-site": "same-site", "sec-fetch-mode": "navigate"}, "another page"),
        ({"host": "evil.example:41000"}, "another name"),
        ({"origin": "http://evil.example"}, "another page"),
        ({"origin": "null"}, "another page"),
        ({"sec-fetch-site": "cross-site", "sec-fetch-mode": "no-cors"}, "another page"),
    ],
)
def test_only_its_own_pages_are_let_in(headers, because):
    """A rebound name, a page of another origin, and what it loads without asking are refused."""
    said = is_foreign(asked("/", **headers), DOOR, enters=False)
    assert because in said
    assert bool(said) is bool(because)


def asked(target, method="GET", **headers):
    return Message(h11.Request(method=method, target=target, headers=list(({"host": DOOR} | headers).items())))


def navigating(site):
    return {"sec-fetch-site": site, "sec-fetch-mode": "navigate"}


def test_whoever_was_handed_an_address_of_the_door_may_come_from_anywhere_once():
    """Once it was let in; what is refused uses nothing up, nor does what only looks ahead."""
    guard = Guard()
    target = guard.hand_out()
    assert is_foreign(asked(target, **navigating("cross-site")), DOOR, enters=True) == ""
    assert guard.behind(asked(target, method="HEAD"), target) is None
    for _ in range(3):
        assert guard.behind(asked(target), target) == "/"
    guard.use(target)
    assert guard.behind(asked(target), target) is None


def test_those_who_say_nothing_keep_no_browser_out():
    """As many connections as there may be, of which nothing comes: the ones that wait longest make room."""

    async def crowd():
        door = Door(None, TcpPort(IPv4Address("192.168.61.7"), 80))
        await door.open()
        url = urlsplit(door.hand_out())
        silent = [await asyncio.open_connection(url.hostname, url.port) for _ in range(200)]
        reader, writer = await asyncio.open_connection(url.hostname, url.port)
        writer.write(f"GET {url.path} HTTP/1.1\r\nHost: {url.netloc}\r\nSec-Fetch-Mode: navigate\r\n"
                     "Sec-Fetch-Site: none\r\n\r\n".encode())  # fmt: skip
        answer = await reader.readline()
        for _, each in [*silent, (reader, writer)]:
            each.close()
        await door.close()
        return answer

    assert b"303" in asyncio.run(crowd())


def test_two_quick_keys_open_one_door(monkeypatch):
    async def both():
        monkeypatch.setattr(laptop_watch, "page_at", lambda _: TcpPort(IPv4Address("192.168.61.7"), 80))
        watch = laptop_watch.LaptopWatch(object(), asleep=lambda: 0.0)
        session = SimpleNamespace(device=SimpleNamespace(unit=1))
        first, second = await asyncio.gather(watch.door(session, lambda: 0.0), watch.door(session, lambda: 0.0))
        for each in (first, second):
            await each.close()
        return first is second

    assert asyncio.run(both())
