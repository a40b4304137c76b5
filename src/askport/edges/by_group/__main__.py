"""The group's service: ``python -I … askport.edges.by_group``, with the listening socket that systemd hands over.

One process looks at who connects, and refuses at once whoever has too much already: a keeper is forked for the others
only, so that nobody who connects in a loop keeps anybody else from theirs (sd_listen_fds(3), unix(7)).
"""

import contextlib
import json
import os
import socket
import sys
from typing import NoReturn

from askport.edges.by_group.bounds import Bounded, note
from askport.edges.by_group.member import MOST_AT_ONCE, Member, await_first, member_at
from askport.edges.keeper.__main__ import main as keep
from askport.edges.keeper.refusal import Refusal

_FIRST_DESCRIPTOR = 3
_MOST = 64
"""Connections of everybody: four users who have all that one can have."""
_PATIENCE_S = 10.0


def main() -> NoReturn:
    """Let in who may come, until the service is stopped."""
    os.environ.clear()  # it says nothing that is needed, and programs are started
    listening = socket.socket(fileno=_FIRST_DESCRIPTOR)
    listening.setblocking(True)
    keepers: dict[int, int] = {}
    while True:
        control, _ = listening.accept()
        with control:
            while keepers and (ended := os.waitpid(-1, os.WNOHANG)[0]):
                keepers.pop(ended, None)
            who = "somebody"
            try:
                member = member_at(control)
                who = member.name
                _require_room(member, keepers)
            except (Refusal, OSError) as error:
                _refuse(control, who, error)
                continue
            if child := os.fork():
                keepers[child] = member.uid
            else:
                listening.close()
                os._exit(_keep(control, member))


def _require_room(member: Member, keepers: dict[int, int]) -> None:
    if list(keepers.values()).count(member.uid) >= MOST_AT_ONCE:
        text = f"{member.name} has {MOST_AT_ONCE} connections to the keeper already: end some."
        raise Refusal(text, "too-many")
    if len(keepers) >= _MOST:
        raise Refusal("There are too many connections to the keeper: have somebody end theirs.", "too-many")


def _keep(control: socket.socket, member: Member) -> int:
    """Keep an adapter for a member, in a process of its own; return its exit status."""
    try:
        await_first(control, _PATIENCE_S)
        return keep(control, Bounded(member))
    except (Refusal, OSError) as error:
        _refuse(control, member.name, error)
        return 1
    except Exception as error:  # noqa: BLE001 - it is one member's, and the service goes on for the others
        note(member.name, f"a fault of the keeper: {error!r}")
        return 1
    finally:
        sys.stderr.flush()


def _refuse(control: socket.socket, who: str, error: Exception) -> None:
    """Say why not, to whoever asked, without waiting for them, and to the system's log."""
    note(who, str(error))
    control.setblocking(False)
    with contextlib.suppress(OSError):
        control.send(json.dumps({"error": str(error), "code": getattr(error, "code", "")}).encode())


if __name__ == "__main__":
    main()
