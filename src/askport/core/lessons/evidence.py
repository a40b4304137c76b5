"""What passed while a unit was set by hand, as it is kept with the job: without secrets, and of a bounded size."""

import json
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any
from urllib.parse import quote_plus

from askport.core.lessons.exchange import Exchange
from askport.core.lessons.page_lesson import computed, is_asset, secret_fields
from askport.core.lessons.tokens import LONG_TOKEN

BLANK = "blanked"
"""Stands where a name or a password stood."""
_DIGEST = "0" * 32
"""Stands where a password stood that a script had computed, so that it is not taken for a typed one."""
_MOST = 40
_MOST_TEXT = 20_000
"""Characters of an answer that are kept: a form and its hidden fields stand at its beginning."""
_PLAIN = 4
"""Characters: a shorter secret is blanked in its field only, because it stands elsewhere by chance."""


def blanked(exchanges: Sequence[Exchange]) -> list[Exchange]:
    """Return requests and answers without the names and passwords that were typed, and without what is no page."""
    pages = [each for each in exchanges if not is_asset(each)]
    found = [
        (key, text, _DIGEST if computed(each, pages[:place]) else BLANK)
        for place, each in enumerate(pages) for key, text in each.fields.items() if key in secret_fields(each, pages)
    ]  # fmt: skip
    kept = []
    for each in pages[:_MOST]:
        body, path, answer = each.body.decode("utf-8", "replace"), each.path, each.answer
        headers, lines = dict(each.headers), each.answer_headers
        for key, text, blank in found:
            if not text:
                continue
            body, path = _in_field(key, text, body, blank), _in_field(key, text, path, blank)
            if len(text) >= _PLAIN:
                for form in dict.fromkeys((text, quote_plus(text), json.dumps(text)[1:-1])):
                    body, path, answer, lines = (part.replace(form, blank) for part in (body, path, answer, lines))
                    headers = {name: value.replace(form, blank) for name, value in headers.items()}
        answer = answer[:_MOST_TEXT]
        made = replace(each, body=body.encode(), path=path, answer=answer, headers=headers, answer_headers=lines)
        kept.append(made)
    later = [kept[place:] for place in range(1, len(kept) + 1)]
    return [
        replace(each, answer_headers=_used_again(each.answer_headers, after))
        for each, after in zip(kept, later, strict=True)
    ]


def _used_again(lines: str, later: Sequence[Exchange]) -> str:
    """Return the header lines of which something was sent later: whatever else is in them is nobody's business."""
    sent = " ".join(text for each in later for text in (*each.headers.values(), *each.fields.values()))
    return "".join(
        line for line in lines.splitlines(keepends=True)
        if any(len(part) >= LONG_TOKEN and part in sent for part in re.split(r"[\s;,=]+", line.partition(":")[2]))
    )  # fmt: skip


def _in_field(key: str, text: str, whole: str, blank: str) -> str:
    """Blank a field of a form, of a query, of a JSON object or of a form of parts."""
    name, last = re.escape(quote_plus(key)), re.escape(key.rpartition(".")[2])
    whole = re.sub(rf"(?<![\w.]){name}={re.escape(quote_plus(text))}(?=&|$)", f"{quote_plus(key)}={blank}", whole)
    whole = re.sub(rf'"{last}"(\s*:\s*){re.escape(json.dumps(text))}', rf'"{key.rpartition(".")[2]}"\1"{blank}"', whole)
    head = rf'(name="{re.escape(key)}"[^\r\n]*\r\n(?:[^\r\n]+\r\n)*\r\n){re.escape(text)}(?=\r\n)'
    return re.sub(head, rf"\g<1>{blank}", whole)


def as_kept(exchange: Exchange) -> dict[str, Any]:
    """Return an exchange as the journal has it."""
    return {
        "method": exchange.method, "path": exchange.path, "type": exchange.content_type,
        "body": exchange.body.decode("utf-8", "replace"), "log_in": exchange.log_in, "status": exchange.status,
        "answer": exchange.answer, "told": exchange.answer_headers, "headers": json.dumps(dict(exchange.headers)),
        "cookie": int(exchange.sets_cookie),
    }  # fmt: skip


def as_passed(kept: dict[str, Any]) -> Exchange:
    """Return an exchange of the journal as it passed, but for its secrets."""
    return Exchange(
        method=kept["method"], path=kept["path"], content_type=kept["type"], body=kept["body"].encode(),
        log_in=kept["log_in"], status=kept["status"], answer=kept["answer"],
        answer_headers=kept.get("told", ""),
        headers=json.loads(kept.get("headers", "{}")), sets_cookie=bool(kept.get("cookie")),
    )  # fmt: skip
