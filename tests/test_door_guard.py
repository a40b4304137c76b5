"""Whom a door lets in, before anything reaches the device."""

import h11
import pytest

from askport.edges.door_guard import is_foreign
from askport.edges.door_talk import Message

DOOR = "127.4.5.6:41000"


@pytest.mark.parametrize(
    ("headers", "because"),
    [
        ({}, ""),
        ({"origin": f"http://{DOOR}"}, ""),
        ({"sec-fetch-site": "cross-site", "sec-fetch-mode": "navigate"}, ""),
        ({"host": "evil.example:41000"}, "another name"),
        ({"origin": "http://evil.example"}, "another page"),
        ({"origin": "null"}, "another page"),
        ({"sec-fetch-site": "cross-site", "sec-fetch-mode": "no-cors"}, "another page"),
    ],
)
def test_only_its_own_pages_are_let_in(headers, because):
    """A rebound name, a page of another origin, and what it loads without asking are refused."""
    request = h11.Request(method="GET", target="/", headers=list(({"host": DOOR} | headers).items()))
    said = is_foreign(Message(request), DOOR)
    assert because in said
    assert bool(said) is bool(because)
