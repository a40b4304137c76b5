"""A door that learns: what passes to a device's page and back is kept for a lesson."""

from collections.abc import Callable

import h11

from askport.core.channels import TcpPort
from askport.core.lessons.exchange import MAX_BODY, Exchange
from askport.edges import door, door_talk
from askport.edges.transports.tcp_socket import Sockets

_MOST_EXCHANGES = 2_000
_MOST_HEADER = 8_000
"""Characters of an answer's header that are looked at."""
_BROWSERS_OWN = frozenset({
    "host", "connection", "content-length", "content-type", "user-agent", "origin", "referer", "cookie",
    "authorization", "cache-control", "pragma", "upgrade-insecure-requests", "dnt", "te", "priority", "save-data",
    "purpose", "range", "transfer-encoding", "keep-alive", "expect", "upgrade",
})  # fmt: skip
"""Headers that a browser sends by itself; what begins with ``accept``, ``sec-`` or ``if-`` is one too."""


class LearningDoor(door.Door):
    """Keeps what the requests that pass tell."""

    def __init__(self, over: Sockets, far: TcpPort, *, secure: bool, now: Callable[[], float]) -> None:
        """Prepare to forward.

        Args:
            secure: whether the page is secured (HTTPS).
        """
        super().__init__(over, far, secure=secure)
        self._now, self.first = now, far
        self.exchanges: list[Exchange] = []
        """What passed, in order; bodies and answers are cut to what is looked at."""

    def kept(self, request: door_talk.Message, target: str, response: door_talk.Message | None, at: TcpPort) -> None:
        """Keep a request with its answer."""
        head = request.head
        if len(self.exchanges) >= _MOST_EXCHANGES or at != self.first or not isinstance(head, h11.Request):
            return
        kind = response.header(b"content-type") if response else ""
        readable = response is not None and (not kind or kind.startswith(("text/", "application/json")))
        answer = bytes(response.body[:MAX_BODY]).decode("utf-8", "replace") if response and readable else ""
        scheme, _, credentials = request.header(b"authorization").partition(" ")
        headers = {name: value for name, value in _own(head) if not _is_browsers(name)}
        if scheme and scheme.lower() not in ("basic", "digest"):
            headers["Authorization"] = f"{scheme} {credentials}"  # a script's own; the other two are asked for anew
        self.exchanges.append(
            Exchange(
                method=head.method.decode("latin-1"), path=target, content_type=request.header(b"content-type"),
                body=bytes(request.body[:MAX_BODY]), log_in=scheme.lower(), headers=headers,
                status=response.head.status_code if response and isinstance(response.head, h11.Response) else 0,
                answer=answer, answer_headers=_lines(response) if response else "", at=self._now(),
                sets_cookie=bool(response and response.header(b"set-cookie")),
            )
        )  # fmt: skip


def _lines(response: door_talk.Message) -> str:
    """Return the lines of an answer's header."""
    lines = (f"{name.decode('latin-1')}: {value.decode('latin-1')}\r\n" for name, value in response.head.headers)
    return "".join(lines)[:_MOST_HEADER]


def _own(head: h11.Request) -> list[tuple[str, str]]:
    raw = head.headers.raw_items()
    return [(name.decode("latin-1"), value.decode("latin-1")) for name, value in raw]


def _is_browsers(name: str) -> bool:
    plain = name.lower()
    return plain in _BROWSERS_OWN or plain.startswith(("accept", "sec-", "if-"))
