"""A request that a browser sent, as a step of a kind file."""

import json
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import parse_qsl, quote, urlsplit

from askport.core.lessons.exchange import Exchange


def request_as_step(exchange: Exchange, made: Mapping[str, str]) -> dict[str, Any]:
    """Return a request as a step; ``made`` has its fields, with placeholders where values of the plan stood."""
    step: dict[str, Any] = {}
    path = urlsplit(exchange.path)
    query = (
        "&".join(f"{quote(key, safe='[]')}={_quoted(made[key])}" for key in made) if exchange.in_query else path.query
    )
    step[exchange.method.lower()] = f"{path.path or '/'}{'?' + query if query else ''}"
    if exchange.status not in (0, 200):
        step["status"] = sorted({200, exchange.status})
    kind = exchange.content_type.lower()
    if not exchange.body:
        return step
    if "json" in kind:
        try:
            document = json.loads(exchange.body)
        except (ValueError, RecursionError):  # it only says that it is
            return step | {"body": exchange.body.decode("utf-8", "replace"), "type": exchange.content_type}
        if isinstance(document, dict) and all(isinstance(each, str) for each in document.values()):
            step["json"] = dict(made)
        else:
            step["body"], step["type"] = _filled_json(document, made), "application/json"
    elif "multipart" in kind:
        text = exchange.body.decode("utf-8", "replace")
        for key, value in exchange.fields.items():
            if made[key] != value:
                head = rf"(name=\"{re.escape(key)}\"[^\r\n]*\r\n(?:[^\r\n]+\r\n)*\r\n){re.escape(value)}(?=\r\n)"
                text = re.sub(head, lambda found, key=key: found[1] + made[key], text)  # type: ignore[misc]
        step["body"], step["type"] = text, exchange.content_type
    else:
        query_names = dict(parse_qsl(path.query, keep_blank_values=True))
        step["form"] = {key: text for key, text in made.items() if key not in query_names}
    return step


def _quoted(text: str) -> str:
    """Quote what stands in a query, and leave placeholders as they are."""
    return quote(text, safe="{}.:/")


def _filled_json(document: object, made: Mapping[str, str]) -> str:
    """Return a JSON document with placeholders; one that stood for a number stands without quotes."""
    bare: list[str] = []

    def fill(value: object, name: str) -> object:
        if isinstance(value, dict):
            return {key: fill(part, f"{name}.{key}" if name else str(key)) for key, part in value.items()}
        if isinstance(value, list):
            return [fill(part, f"{name}.{place}") for place, part in enumerate(value)]
        text = made.get(name)
        if text is None or "{" not in text:
            return value
        if not isinstance(value, str):
            bare.append(text)
        return text

    text = json.dumps(fill(document, ""), ensure_ascii=False)
    for each in bare:
        text = text.replace(f'"{each}"', each)
    return text
