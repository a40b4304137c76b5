"""A person at a browser: opens a page's form, types the planned values into it, and saves."""

import re
from collections.abc import Callable
from ipaddress import IPv4Address
from urllib.parse import urlencode

from askport.bench.pages import WebTalk, exchange
from askport.core.lessons.exchange import Exchange
from askport.core.plan.target import Target

_INPUT = re.compile(r'name="(\w+)" value="([^"]*)"')
_FORM = "application/x-www-form-urlencoded"
_NONE = IPv4Address(0)


def fill_in(talk: Callable[[], WebTalk], at: str, target: Target, now: float) -> list[Exchange]:
    """Fill in the form at a path and save it.

    Args:
        at: the path of the form, which is also where it is sent.

    Returns:
        What passed between browser and page.
    """
    form = exchange(talk(), "GET", at, "device", b"", _FORM, now)
    shown = form.body if form else ""
    dns = (*target.dns, _NONE, _NONE)[:2]
    typed = {"ip": target.interface.ip, "mask": target.interface.netmask, "gw": target.gateway or _NONE}
    typed |= {f"dns{place}": each for place, each in enumerate(dns, 1)}
    fields = dict(_INPUT.findall(shown))
    for name in fields:
        stem, _, place = name.partition("_")
        if stem in typed:
            fields[name] = str(typed[stem].packed[int(place) - 1]) if place else str(typed[stem])
    body = urlencode(fields).encode()
    saved = exchange(talk(), "POST", at, "device", body, _FORM, now)
    return [
        Exchange(method="GET", path=at, status=form.status if form else 0, answer=shown, at=now),
        Exchange(
            method="POST", path=at, content_type=_FORM, body=body, status=saved.status if saved else 0,
            answer=saved.body if saved else "", at=now,
        ),
    ]  # fmt: skip
