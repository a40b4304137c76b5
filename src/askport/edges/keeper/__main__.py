"""The keeper's process: ``python -I … askport.edges.keeper DESCRIPTOR``.

Messages are JSON objects in datagrams of a Unix socket pair, one answer to each. The first is ``take`` with the
``adapter``, the only one from then on. Then come ``open`` (its answer carries one end of a relay, see there), ``speak``
before the first frame is sent, ``borrow`` with ``address`` and ``instead``, ``pin`` with ``address`` and ``mac``,
``route`` with ``to`` and ``via``, ``give-back``, ``addresses`` and ``switch-on``. ``claim`` with ``place`` and ``macs``
has a MAC address for a place beside the adapter, which ``enter`` makes; with ``place`` the verbs above go there, and so
do ``ipv6``, ``leave``, ``socket`` with ``family`` and ``kind`` and ``namespace``, whose answers carry one. Anything
else is refused. An answer carries the ``id`` of its request.
"""

import contextlib
import json
import os
import signal
import socket
import sys
from collections.abc import Callable
from struct import pack
from typing import Any

from askport.edges.keeper.adapter import Adapter
from askport.edges.keeper.place import Place
from askport.edges.keeper.refusal import Refusal
from askport.edges.kernel.capabilities import NET_ADMIN, NET_RAW, SYS_ADMIN, get_no_more, keep_only

_REFUSED = (Refusal, ValueError, LookupError, TypeError, ArithmeticError, RecursionError, OSError)
_LONGEST_SEND_S = 10
"""How long one that does not read what it is told is waited for, before it counts as gone."""
MAX_MESSAGE = 8192  # bytes; the longest honest one carries the packet filter

Answer = tuple[dict[str, Any], list[int]]
"""What is told, and the descriptors that go with it; they are closed here afterwards."""


class Caller:
    """Whoever asks: the program that started this process may have all that is possible; others: ``edges/by_group``."""

    def permit(self, request: dict[str, Any]) -> None:
        """See that it may have this done; raise a refusal otherwise."""

    def refused(self, error: Exception) -> dict[str, Any]:
        """Return what it is told of a refusal."""
        why = str(error) if isinstance(error, Refusal) else f"The keeper would not: {error}."
        return {"error": why, "code": getattr(error, "code", "")}


def _serve(control: socket.socket, adapter: Adapter, caller: Caller) -> None:
    """Answer requests until the other end closes."""

    def opened(request: dict[str, Any]) -> Answer:
        facts = {each: getattr(adapter, each) for each in ("mac", "index", "switched_on", "restored", "left")}
        program = bytes.fromhex(str(request.get("filter", "")))
        return {**facts, "addresses": adapter.addresses()}, [adapter.open(program).detach()]

    def place(request: dict[str, Any]) -> Place:
        return adapter.places[int(request["place"])]

    beside: dict[str, Callable[[dict[str, Any]], Answer | None]] = {
        "claim": lambda each: ({"mac": adapter.claim(int(each["place"]), [str(mac) for mac in each["macs"]])}, []),
        "enter": lambda each: adapter.enter(int(each["place"])),
        "leave": lambda each: ({"given": adapter.leave(int(each["place"]))}, []),
        "borrow": lambda each: place(each).borrow(str(each["address"])),
        "pin": lambda each: place(each).pin(str(each["address"]), str(each["mac"])),
        "route": lambda each: place(each).route(str(each["to"]), str(each["via"])),
        "addresses": lambda each: ({"addresses": place(each).addresses()}, []),
        "ipv6": lambda each: ({"scope": place(each).apart.speak_ipv6()}, []),
        "socket": lambda each: ({}, [place(each).open_socket(int(each["family"]), int(each["kind"])).detach()]),
        "namespace": lambda each: ({}, [os.dup(place(each).apart.namespace)]),
    }
    verbs: dict[str, Callable[[dict[str, Any]], Answer | None]] = {
        "open": opened,
        "borrow": lambda each: adapter.borrow(str(each["address"]), instead=each.get("instead") is True),
        "pin": lambda each: adapter.pin(str(each["address"]), str(each["mac"])),
        "route": lambda each: adapter.route(str(each["to"]), str(each["via"])),
        "give-back": lambda request: (
            dict(zip(("given", "left"), adapter.give_back(places="on_adapter" not in request), strict=True)),
            [],
        ),
        "addresses": lambda _: ({"addresses": adapter.addresses()}, []),
        "switch-on": lambda _: adapter.switch_on(),
        "speak": lambda _: adapter.let_send(),
    }
    while message := control.recv(MAX_MESSAGE):
        request: Any = None
        try:
            request = json.loads(message)
            known = beside if isinstance(request, dict) and "place" in request else verbs
            if not isinstance(request, dict) or request.get("verb") not in known:
                raise Refusal("The keeper does not know that verb.")
            caller.permit(request)
            answer, handed = known[request["verb"]](request) or ({}, [])
        except _REFUSED as error:
            answer, handed = caller.refused(error), []
        answer["id"] = request.get("id") if isinstance(request, dict) else None
        try:
            socket.send_fds(control, [json.dumps(answer).encode()], handed)
        except OSError:
            return
        finally:
            for each in handed:
                os.close(each)


def main(control: socket.socket, caller: Caller) -> int:
    """Keep one adapter until the program at the other end is gone; Ctrl-C and a closed terminal are its business."""
    for each in (signal.SIGINT, signal.SIGHUP, signal.SIGTSTP):
        signal.signal(each, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: control.shutdown(socket.SHUT_RDWR))  # nothing waits for one that reads not
    control.setsockopt(socket.SOL_SOCKET, socket.SO_SNDTIMEO, pack("ll", _LONGEST_SEND_S, 0))
    try:
        keep_only((NET_ADMIN, NET_RAW, SYS_ADMIN))  # none to files; the last is for setns(2) only
        get_no_more()
        if not (first := control.recv(MAX_MESSAGE)):
            return 0
        request = json.loads(first)
        caller.permit(request)
        adapter = Adapter(str(request["adapter"]))
    except _REFUSED as error:
        with contextlib.suppress(OSError):  # whoever asked may be gone
            control.send(json.dumps(caller.refused(error)).encode())
        return 1
    try:
        control.send(json.dumps({"ready": True}).encode())
        _serve(control, adapter, caller)
    except OSError:
        pass
    finally:
        adapter.give_back()
        adapter.close()
    return 0


if __name__ == "__main__":
    sys.exit(main(socket.socket(fileno=int(sys.argv[1])), Caller()))
