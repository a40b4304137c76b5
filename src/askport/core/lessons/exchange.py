"""What passed between a browser and a device's page: requests with their fields, and what was answered."""

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from urllib.parse import parse_qsl, urlsplit

MAX_BODY = 200_000
"""Bytes of a request, and characters of an answer, that are looked at."""
_MAX_FIELDS = 400


def searched(text: str, headers: str) -> str:
    """Return what of an answer is searched: the text, and behind it the lines of its header."""
    return f"{text[:MAX_BODY]}\n{headers}" if headers else text[:MAX_BODY]


@dataclass(frozen=True, slots=True, kw_only=True)
class Exchange:
    """One request and its answer."""

    method: str
    path: str
    """With its query, as the device was asked."""
    content_type: str = ""
    body: bytes = b""
    log_in: str = ""
    """The scheme of an Authorization header (RFC 9110 section 11.6.2), in small letters; what was in it is not kept."""
    headers: Mapping[str, str] = field(default_factory=dict)
    """What a script of the page has added to the browser's own."""
    sets_cookie: bool = False
    """Whether the answer gave the browser a cookie, which a later request may want."""
    status: int = 0
    """0 where it was not answered."""
    answer: str = ""
    """The text of the answer."""
    answer_headers: str = ""
    """The lines of the answer's header."""
    at: float = 0.0
    """When the request was sent, in seconds of the wire."""

    @property
    def shown(self) -> str:
        """What the answer said, as a step's ``find`` searches it: its text, and the lines of its header behind that."""
        return searched(self.answer, self.answer_headers)

    @property
    def place(self) -> str:
        """The path without its query."""
        return urlsplit(self.path).path or "/"

    @property
    def fields(self) -> dict[str, str]:
        """What it tells, by the names of the fields: of the query, of a form, or of a JSON object, whose parts have a
        point between their names.
        """
        found = dict(parse_qsl(urlsplit(self.path).query, keep_blank_values=True)[:_MAX_FIELDS])
        body, kind = self.body[:MAX_BODY], self.content_type.lower()
        if "json" in kind:
            found |= dict(_json_fields(body))
        elif "multipart/form-data" in kind:
            found |= dict(_parts(body, self.content_type))
        elif body:
            pairs = parse_qsl(body.decode("utf-8", "replace"), keep_blank_values=True)
            found |= dict(pairs[:_MAX_FIELDS])
        return found

    @property
    def in_query(self) -> bool:
        """Whether its fields stand in its path."""
        return not self.body and bool(urlsplit(self.path).query)


def _json_fields(body: bytes) -> Iterator[tuple[str, str]]:
    try:
        document = json.loads(body)
    except (ValueError, RecursionError):
        return
    yield from _leaves(document, "")


def _leaves(value: object, name: str) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        for key, part in list(value.items())[:_MAX_FIELDS]:
            yield from _leaves(part, f"{name}.{key}" if name else str(key))
    elif isinstance(value, list):
        for place, part in enumerate(value[:_MAX_FIELDS]):
            yield from _leaves(part, f"{name}.{place}")
    elif isinstance(value, str):
        yield name, value
    elif value is not None:
        yield name, json.dumps(value)


def _parts(body: bytes, content_type: str) -> Iterator[tuple[str, str]]:
    """Read a form of parts (RFC 7578) with the parser for mail, whose syntax it has."""
    try:
        message = message_from_bytes(b"Content-Type: " + content_type.encode() + b"\r\n\r\n" + body, policy=policy.HTTP)
    except (ValueError, UnicodeError):
        return
    for part in list(message.iter_parts() if message.is_multipart() else ())[:_MAX_FIELDS]:
        name = part.get_param("name", header="content-disposition")
        if isinstance(name, str):
            content = part.get_payload(decode=True)
            yield name, content.decode("utf-8", "replace") if isinstance(content, bytes) else ""
