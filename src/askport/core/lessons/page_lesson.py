"""A lesson on a page: the requests that mattered while a unit was set by hand, with placeholders where values stood."""

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface
from typing import Any

from askport.core.errors import Refused
from askport.core.finding.page_title import ASKS_LOG_IN, name_of
from askport.core.kinds import model, placeholders
from askport.core.lessons.exchange import MAX_BODY, Exchange
from askport.core.lessons.page_step import request_as_step
from askport.core.lessons.tokens import EMPTY, LONG_TOKEN, anywhere, is_digest, is_opaque, named
from askport.core.lessons.values import Stood, held_in, meant_by, plain_address, still_in, templates
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.text import display_text

_SECRET = re.compile(r"pass|pwd|\bpw\b|secret|\bpin\b", re.IGNORECASE)
_USER = re.compile(r"user|login|account|\bname\b", re.IGNORECASE)
_PASSWORD_INPUT = re.compile(r"<input\b[^>]*type\s*=\s*[\"']?password[^>]*>", re.IGNORECASE)
_NAME = re.compile(r"\bname\s*=\s*[\"']?([^\"'\s>]+)", re.IGNORECASE)
_SHORTEST_TOKEN = 4
"""Characters: a shorter value that stood in an answer before stands there by chance."""
_ASSETS = re.compile(r"\.(css|js|png|jpe?g|gif|svg|ico|woff2?|ttf|map)$", re.IGNORECASE)
_OK = 200
_READ = ("address", "mask", "prefix", "gateway", "dns1", "dns2", "dns3")
_NONCE = re.compile(r"nonce|challenge|salt|\brand(om)?\b", re.IGNORECASE)
_NONCE_IN = re.compile(r"[\"'](?:\w*nonce|challenge|salt)[\"']", re.IGNORECASE)
_LOG_IN_PATH = re.compile(r"log-?_?in|auth|session|sign-?_?in", re.IGNORECASE)
_MOST_IN_LOG_IN = 4
"""Texts in a request that does nothing but log in."""
_MOST_STEPS = 40
_MOST_COOKIES = 3
_PADDED = 3
"""Digits of an octet that is written with zeros before it; a 0 alone is none."""


@dataclass(slots=True)
class PageLesson:
    """What was learned; ``why_not`` says why nothing was, as a sentence."""

    login: list[dict[str, Any]] = field(default_factory=list)
    """Steps as a kind file has them."""
    set: list[dict[str, Any]] = field(default_factory=list)
    stood: list[Stood] = field(default_factory=list)
    target: Target | None = None
    secrets: list[str] = field(default_factory=list)
    """The fields that are asked for at every unit: names and passwords."""
    title: str = ""
    """Of its page."""
    read: list[dict[str, Any]] = field(default_factory=list)
    """The page that showed the settings as they were, to read them by."""
    found: IPv4Interface | None = None
    """Where it was, with the mask that its own page showed."""
    by_header: str = ""
    """The scheme by which the page itself asked for a log-in, or an empty text."""
    pads_octets: bool = False
    """Whether octets in fields of their own were written with three digits."""
    why_not: str = ""

    @property
    def words(self) -> str:
        """What it is, in a few words: ``3 requests, 5 values put in, 1 secret asked for``."""
        count = len(self.login) + len(self.set)  # what is only read is shown, not told
        secrets = len(self.secrets) + bool(self.by_header)
        parts = [_counted(count, "request"), phrase("{counted} put in", counted=_counted(len(self.stood), "value"))]
        return ", ".join(
            [*parts, *([phrase("{counted} asked for", counted=_counted(secrets, "secret"))] if secrets else [])]
        )


def _counted(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def learn(
    exchanges: Sequence[Exchange], *, present: IPv4Address, target: Target | None = None, name: str = "",
    seen: IPv4Address | None = None,
) -> PageLesson:  # fmt: skip
    """Return what a run through a door shows.

    Args:
        exchanges: all that passed, in order.
        present: where the device was.
        target: what it became, where that is known; else it is read out of what was sent.
        seen: where it was seen to be afterwards, if it was.
    """
    # What was refused for want of a log-in was sent again with one.
    looked_at = [
        each for each in exchanges
        if not is_asset(each) and each.status not in ASKS_LOG_IN and each.method in model.METHODS
    ]  # fmt: skip
    title = _shown_to_all(exchanges)
    telling = [each for each in looked_at if each.fields and not _is_log_in(each, looked_at)]
    told = {key: value for each in telling for key, value in each.fields.items()}
    if target and seen and target.interface.ip != seen:
        why = phrase(
            "It was set to {seen}, and not to {ip}: nothing is learned from that.", seen=seen, ip=target.interface.ip
        )
        return PageLesson(title=title, why_not=why)
    try:
        target = target or meant_by(told, present, seen)
    except Refused as error:
        return PageLesson(title=title, why_not=error.message)
    if target is None:
        return PageLesson(
            title=title, why_not=phrase("No request told an address and a mask: nothing can be learned from it.")
        )
    setting = [place for place, each in enumerate(looked_at) if each in telling and templates(each.fields, target)[1]]
    if not setting:
        return PageLesson(
            title=title, why_not=phrase("No request told {ip}: nothing can be learned from it.", ip=target.interface.ip)
        )
    first, last = setting[0], _end_of(looked_at, setting[-1])
    by_header = next((each.log_in for each in looked_at if each.log_in in ("basic", "digest")), "")
    lesson = PageLesson(target=target, title=title, by_header=by_header)
    logins = [place for place, each in enumerate(looked_at[:first]) if _is_log_in(each, looked_at)]
    wanted = [
        *([] if logins else _cookies(looked_at[:first])),
        *logins[-1:],
        *(place for place in range(first, last + 1) if looked_at[place] in telling or looked_at[place].method != "GET"),
    ]
    if why_not := next(filter(None, (computed(looked_at[place], looked_at[:place]) for place in wanted)), ""):
        return PageLesson(title=title, why_not=why_not)
    try:
        steps = _steps(lesson, looked_at, wanted[:_MOST_STEPS], logins, name)
    except Refused as error:
        return PageLesson(title=title, why_not=error.message)
    if why_not := _not_understood(lesson, [made for place, made in steps if place in setting]):
        return PageLesson(title=title, why_not=why_not)
    read, lesson.found = shown_before(lesson.stood, looked_at[:first], present)
    given = [] if logins else [made for place, made in steps if place in _cookies(looked_at[:first])]
    lesson.read = [*(each for each in given if each.get("get") != read[0]["get"]), *read] if read else []
    for place, step in sorted(steps, key=lambda each: each[0]):
        before_login = bool(logins) and place <= logins[-1]
        (lesson.login if before_login else lesson.set).append(step)
    return lesson


def _shown_to_all(exchanges: Sequence[Exchange]) -> str:
    """Return what its page calls itself to whoever has not logged in: the next unit is known again by that."""
    for each in exchanges:
        if each.log_in or _is_log_in(each, exchanges):
            return ""
        if found := name_of(each.status, each.answer, each.answer_headers):
            return found
    return ""


def _not_understood(lesson: PageLesson, setting: Iterable[Mapping[str, Any]]) -> str:
    """Say which field would tell the next unit this one's address, or nothing where all were understood."""
    assert lesson.target is not None  # noqa: S101 - for the type checker
    address = lesson.target.interface.ip
    for step in setting:
        for fields in (each for each in step.values() if isinstance(each, dict)):
            texts = {key: text for key, text in fields.items() if isinstance(text, str)}
            if held := still_in(texts, address):
                return phrase("{held}, which was not understood: the next unit would get the same address.", held=held)
    told = {re.sub(r"^\{|[:}].*$", "", each.placeholder) for each in lesson.stood}
    if "address" not in told and not {f"address.{place}" for place in range(1, 5)} <= told:
        return phrase(
            "Which field told it {address} was not understood: nothing can be learned from it.", address=address
        )
    return ""


def _steps(
    lesson: PageLesson, looked_at: Sequence[Exchange], wanted: Sequence[int], logins: Sequence[int], name: str
) -> list[tuple[int, dict[str, Any]]]:
    """Return the requests that are wanted as steps, each with its place; the lesson takes in what stood in them.

    A value that an earlier answer held (a token, a field of the form) is found there at run time: that answer's
    request becomes a step too, or gets the expression that finds it.

    Raises:
        Refused: a script of the page computes what nothing that passed holds.
    """
    target = lesson.target
    assert target is not None  # noqa: S101 - for the type checker
    sources: dict[int, dict[str, str]] = {}
    steps: list[tuple[int, dict[str, Any]]] = []
    for place in wanted:
        exchange = looked_at[place]
        made, stood = templates(exchange.fields, target, name)
        secret = secret_fields(exchange, looked_at, with_user=place in logins)
        lesson.secrets += secret
        made |= secret
        headers: dict[str, str] = {}
        for key, text in exchange.headers.items():
            token = text.rpartition(" ")[2]
            source = _stood_in(token, looked_at[:place])
            if source is not None:
                sources.setdefault(source, {})[key] = anywhere(token, looked_at[source].shown, _group(key))
                headers[key] = text.replace(token, f"{{{_group(key)}}}")
            elif is_opaque(token):
                raise Refused(
                    "Its page sends “{key}”, which came out of nothing that passed: a script computes it, and "
                    "that cannot be learned.",
                    key=display_text(key, 40),
                )
            else:
                headers[key] = text
        for key, text in exchange.fields.items():
            source = _came_from(key, text, looked_at[:place]) if made[key] == text else None
            if source is not None:
                answer = looked_at[source].shown
                sources.setdefault(source, {})[key] = _where(key, text, answer) or anywhere(text, answer, _group(key))
                made[key] = f"{{{_group(key)}}}"
            elif stood and (form := _form_of(key, looked_at[:place])) is not None:
                sources.setdefault(form, {}).setdefault(key, _there(key))
        lesson.stood += stood
        octets = [each.value for each in stood if re.search(r"\.\d\}$", each.placeholder)]
        lesson.pads_octets |= any(len(each) == _PADDED and each[0] == "0" for each in octets)
        steps.append((place, request_as_step(exchange, made) | ({"headers": headers} if headers else {})))
    for place in sorted(sources):
        step = next((made for at, made in steps if at == place), None)
        if step is None:
            step = request_as_step(looked_at[place], looked_at[place].fields)
            steps.append((place, step))
        step["find"] = _all_of(sources[place].values())
    return steps


def _cookies(before: Sequence[Exchange]) -> list[int]:
    """Return which pages gave the browser a cookie before anything was set; a form may refuse whoever has none."""
    return [place for place, each in enumerate(before) if each.sets_cookie and each.method == "GET"][:_MOST_COOKIES]


def _end_of(exchanges: Sequence[Exchange], last: int) -> int:
    """Return the last request that changes something: a wizard saves at its end, without a value of the target."""
    posts = [place for place, each in enumerate(exchanges) if each.method != "GET" and place > last]
    return posts[-1] if posts else last


def _is_log_in(exchange: Exchange, all_of: Sequence[Exchange]) -> bool:
    """Whether it tells a password, and no address with it."""
    return bool(_passwords(exchange, all_of)) and not held_in(exchange.fields)


def _passwords(exchange: Exchange, all_of: Sequence[Exchange]) -> list[str]:
    """Return the fields that are passwords; where a script sends a log-in under names of its own, the last text."""
    fields = exchange.fields
    found = [key for key in fields if _is_secret(key, all_of)]
    if found or not _LOG_IN_PATH.search(exchange.place) or exchange.method == "GET":
        return found
    body = exchange.body.decode("utf-8", "replace") if "json" in exchange.content_type.lower() else ""
    texts = [key for key, text in fields.items() if text and (not body or json.dumps(text) in body)]
    return texts[-1:] if len(texts) <= _MOST_IN_LOG_IN else []


def _is_secret(key: str, exchanges: Sequence[Exchange]) -> bool:
    """Whether a field is a password: by its name, or because a page shows it as one."""
    if _SECRET.search(key):
        return True
    own = key.rpartition(".")[2]
    shown = (each for page in exchanges for each in _PASSWORD_INPUT.findall(page.answer[:MAX_BODY]))
    return any((found := _NAME.search(each)) and found[1] in (key, own) for each in shown)


def is_asset(exchange: Exchange) -> bool:
    """Whether it is a picture, a script or the like, of which nothing is learned."""
    return bool(_ASSETS.search(exchange.place))


def secret_fields(exchange: Exchange, exchanges: Sequence[Exchange], *, with_user: bool = True) -> dict[str, str]:
    """Return the fields of names and passwords with the placeholders that ask for them.

    Args:
        exchanges: all that passed: a page says which field is a password.
        with_user: whether the name beside the password is one of them.
    """
    keys = list(exchange.fields)
    # One that was left empty says that the password stays as it is.
    typed = (key for key in _passwords(exchange, exchanges) if exchange.fields[key])
    made = dict.fromkeys(typed, "{password}")
    if made and with_user:
        # What is called like a name, or else what is typed right before the password.
        before = keys[: keys.index(next(iter(made)))]
        user = next((key for key in keys if key not in made and _USER.search(key)), next(reversed(before), None))
        made |= {user: "{user}"} if user else {}
    return made


def _came_from(key: str, text: str, before: Sequence[Exchange]) -> int | None:
    """Return which answer a value came out of, the latest first, or None."""
    if len(text) < _SHORTEST_TOKEN:
        return None
    for place in range(len(before) - 1, -1, -1):
        if text in before[place].shown and _where(key, text, before[place].shown):
            return place
    return _stood_in(text, before) if is_opaque(text) else None


def _stood_in(token: str, before: Sequence[Exchange]) -> int | None:
    """Return which answer a value stood in under any name, the latest first, or None."""
    if len(token) < LONG_TOKEN:
        return None
    places = (place for place in range(len(before) - 1, -1, -1) if token in before[place].shown)
    return next((place for place in places if anywhere(token, before[place].shown, "token")), None)


def computed(exchange: Exchange, before: Sequence[Exchange]) -> str:
    """Say why a password in a request is not what was typed, or an empty text where nothing shows that.

    A script that turns it into a digest sends something of a digest's length, or takes a nonce from an answer and sends
    it beside.
    """
    for key in _passwords(exchange, (*before, exchange)):
        text = exchange.fields[key]
        beside = [name for name in exchange.fields if name != key and _NONCE.search(name)]
        asked = [each for each in before if _NONCE_IN.search(each.answer[:MAX_BODY])]
        if text and (is_digest(text) or beside or (asked and len(text) >= LONG_TOKEN and is_opaque(text))):
            return phrase(
                "Its page's script computes the password in “{key}” before it is sent. That cannot be "
                "learned, and the typed one must not go out in its place.",
                key=display_text(key, 40),
            )
    return ""


def _where(key: str, text: str, answer: str) -> str:
    """Return an expression that finds a value where it stands in an answer under its field's name, or nothing."""
    group = _group(key)
    for pattern in named(key, rf"(?P<{group}>(?<=[\"'])[^\"'<>]{{0,400}}(?=[\"'])|[^\"'<>\s]{{1,400}}|{EMPTY})"):
        found = re.search(pattern, answer[:MAX_BODY], re.IGNORECASE)
        if found and found[group] == text:
            return pattern
    return ""


def _group(key: str) -> str:
    """Return a field's name as a name that an expression may find it under."""
    plain = re.sub(r"\W", "_", key).strip("_") or "found"
    return f"f_{plain}" if plain[0].isdigit() or plain in placeholders.KNOWN else plain


def _there(key: str) -> str:
    """Return an expression that finds a field of a form, or of a JSON object, by its name."""
    name = re.escape(key.rpartition(".")[2])
    return rf"(?P<has_{_group(key)}>name=[\"']?{name}(?=[\"'>\s/])|\"{name}\"\s*:)"


def _form_of(key: str, before: Sequence[Exchange]) -> int | None:
    """Return which answer has a field of this name, the latest first: what differs there stops the lesson in time."""
    pattern = re.compile(_there(key))
    last = key.rpartition(".")[2]
    places = (place for place in range(len(before) - 1, -1, -1) if last in before[place].shown)
    return next((place for place in places if pattern.search(before[place].shown)), None)


def shown_before(
    stood: Sequence[Stood], before: Sequence[Exchange], present: IPv4Address
) -> tuple[list[dict[str, Any]], IPv4Interface | None]:
    """Return the step that reads the settings from the form that showed them, and what it showed of address and mask.

    Only a form that showed the address which the device really had is one: the control of the names of its fields.
    """
    for exchange in reversed(before):
        if exchange.method != "GET" or exchange.status != _OK or not exchange.answer:
            continue
        text, shown, patterns = exchange.answer[:MAX_BODY], dict[str, str](), dict[str, str]()
        for each in stood:
            key = each.placeholder.strip("{}").removesuffix(":padded")
            if key not in _READ or key in shown:
                continue
            # A gateway or a server that is not there is an empty field, and a value too.
            empty = f"|{EMPTY}" if key.startswith(("gateway", "dns")) else ""
            held = rf"(?P<{key}>[\d.]{{1,15}}{empty})"
            for pattern in named(each.field.rpartition(".")[2], held):
                if found := re.search(pattern, text, re.IGNORECASE):
                    shown[key], patterns[key] = found[key], pattern
                    break
        if plain_address(shown.get("address", "")) == present:
            step = {"get": exchange.path, "find": _all_of(patterns.values())}
            return [step], _interface(present, shown.get("prefix") or shown.get("mask", ""))
    return [], None


def _interface(address: IPv4Address, length: str) -> IPv4Interface | None:
    try:
        return IPv4Interface(f"{address}/{length}") if length else None
    except ValueError:
        return None


def _all_of(patterns: Iterable[str]) -> str:
    """Return one expression that finds each, wherever it stands."""
    each = list(dict.fromkeys(patterns))
    return each[0] if len(each) == 1 else "(?s)" + "".join(f"(?=.*?{pattern})" for pattern in each)
