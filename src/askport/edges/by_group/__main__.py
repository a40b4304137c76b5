"""The keeper's process for one connection that systemd accepted: ``python -I … askport.edges.by_group``."""

import contextlib
import json
import os
import socket
import sys

from askport.edges.by_group.bounds import Bounded, note
from askport.edges.by_group.member import await_first, member_at
from askport.edges.keeper.__main__ import main as keep
from askport.edges.keeper.refusal import Refusal

_FIRST_DESCRIPTOR = 3  # sd_listen_fds(3)
_PATIENCE_S = 10.0


def main() -> int:
    """See who it is, and keep an adapter for them."""
    os.environ.clear()  # it says nothing that is needed, and programs are started
    control = socket.socket(fileno=_FIRST_DESCRIPTOR)
    who = "somebody"
    try:
        member = member_at(control)
        who = member.name
        member.take_turn()
        await_first(control, _PATIENCE_S)
    except (Refusal, OSError) as error:
        note(who, str(error))
        with contextlib.suppress(OSError):
            control.send(json.dumps({"error": str(error), "code": getattr(error, "code", "")}).encode())
        return 1
    return keep(control, Bounded(member))


if __name__ == "__main__":
    sys.exit(main())
