"""The keeper's process: ``python -I -m askport.edges.keeper ADAPTER DESCRIPTOR``.

Messages are JSON objects in datagrams of a Unix socket pair, one answer to each: ``open`` (its answer carries the
packet socket), ``borrow`` with ``address``, ``give-back``, ``addresses``. Anything else is refused.
"""

import json
import signal
import socket
import sys
from collections.abc import Callable
from typing import Any

from askport.edges.keeper.adapter import Adapter, Refusal
from askport.edges.keeper.capabilities import drop_all_but_network

PROTOCOL = 1
MAX_MESSAGE = 4096
"""Bytes; the longest honest one has fewer than a hundred."""

Answer = tuple[dict[str, Any], list[socket.socket]]


def _serve(control: socket.socket, adapter: Adapter) -> None:
    """Answer requests until the other end closes."""

    def opened(_: dict[str, Any]) -> Answer:
        facts = {"mac": adapter.mac, "index": adapter.index, "on": adapter.switched_on, "restored": adapter.restored}
        return {**facts, "addresses": adapter.addresses()}, [adapter.open()]

    def borrow(request: dict[str, Any]) -> Answer:
        adapter.borrow(str(request.get("address", "")))
        return {}, []

    verbs: dict[str, Callable[[dict[str, Any]], Answer]] = {
        "open": opened,
        "borrow": borrow,
        "give-back": lambda _: ({"given": adapter.give_back()}, []),
        "addresses": lambda _: ({"addresses": adapter.addresses()}, []),
    }
    while message := control.recv(MAX_MESSAGE):
        sockets: list[socket.socket] = []
        try:
            request = json.loads(message)
            if not isinstance(request, dict) or request.get("verb") not in verbs:
                raise Refusal("The keeper does not know that verb.")
            answer, sockets = verbs[request["verb"]](request)
        except (Refusal, ValueError, RecursionError) as error:
            answer = {"error": str(error)}
        except OSError as error:
            answer = {"error": f"The machine would not: {error.strerror or error}."}
        try:
            socket.send_fds(control, [json.dumps(answer).encode()], [each.fileno() for each in sockets])
        except OSError:
            return
        finally:
            for each in sockets:
                each.close()


def main(name: str, descriptor: int) -> int:
    """Keep one adapter until the program at the other end is gone."""
    control = socket.socket(fileno=descriptor)
    # Ctrl-C and a closed terminal are the program's business; the keeper ends when the program has.
    for each in (signal.SIGINT, signal.SIGHUP, signal.SIGTSTP):
        signal.signal(each, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: control.shutdown(socket.SHUT_RD))
    try:
        drop_all_but_network()
        adapter = Adapter(name)
    except Refusal as error:
        control.send(json.dumps({"error": str(error)}).encode())
        return 1
    except OSError as error:
        control.send(json.dumps({"error": f"The keeper could not start: {error.strerror or error}."}).encode())
        return 1
    try:
        control.send(json.dumps({"protocol": PROTOCOL}).encode())
        _serve(control, adapter)
    except OSError:
        pass
    finally:
        adapter.give_back()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2])))
