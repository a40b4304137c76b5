"""Values that a page gives out and takes back, and such as a script has computed."""

import re
from collections.abc import Iterator

LONG_TOKEN = 8
"""Characters: a shorter value stands somewhere by chance."""
EMPTY = r"(?<=[\"'])(?=[\"'])|(?<==)(?=[\s>])"
"""Finds a value that is empty, in quotes or without."""
_OPAQUE = 16
_DIGESTS = frozenset({32, 40, 56, 64, 96, 128})
"""Hexadecimal digits of MD5, SHA-1 and the lengths of SHA-2 (RFC 1321, 6234)."""
_BASE64_DIGESTS = frozenset({24, 28, 40, 44, 64, 88})
"""Characters of the same in base64, with padding (RFC 4648 section 4)."""


def named(key: str, held: str) -> Iterator[str]:
    """Yield expressions that find a value under its field's name, in a form or in a JSON object."""
    name = re.escape(key)
    yield rf"name=[\"']?{name}[\"']?[^>]*?value=[\"']?{held}"
    yield rf"value=[\"']?{held}[\"']?[^>]*?name=[\"']?{name}\b"
    yield rf"[\"']{name}[\"']\s*:\s*[\"']?{held}[\"']?"


def anywhere(token: str, answer: str, group: str) -> str:
    """Return an expression that finds a value by whatever name it stood under in an answer, or nothing."""
    text, held = answer, f"(?P<{group}>[^\"'<>;\\s]{{1,400}})"
    plain = re.escape(token)
    for before, after in (
        (rf"[\"']([\w-]{{1,60}})[\"']\s*:\s*[\"']{plain}", r"[\"']{name}[\"']\s*:\s*[\"']{held}"),
        (rf"name=[\"']?([\w-]{{1,60}})[\"']?[^>]*?(?:value|content)=[\"']?{plain}",
         r"name=[\"']?{name}[\"']?[^>]*?(?:value|content)=[\"']?{held}"),
        (rf"(?:value|content)=[\"']?{plain}[\"']?[^>]*?name=[\"']?([\w-]{{1,60}})",
         r"(?:value|content)=[\"']?{held}[\"']?[^>]*?name=[\"']?{name}\b"),
        (rf"([A-Za-z_]\w{{1,60}})\s*[=:]\s*[\"']{plain}", r"\b{name}\s*[=:]\s*[\"']{held}"),
        (rf"\bid=[\"']?([\w-]{{1,60}})[\"']?[^>]*>\s*{plain}", r"\bid=[\"']?{name}[\"']?[^>]*>\s*{held}"),
        (rf"(?im:^set-cookie:\s*([\w.-]{{1,60}})={plain})", r"(?im:^set-cookie:\s*{name}={held})"),
        (rf"(?m:^([\w-]{{1,60}}):[ \t]*(?:\w+[ \t]+)?{plain})", r"(?im:^{name}:[ \t]*(?:\w+[ \t]+)?{held})"),
    ):  # fmt: skip
        if found := re.search(before, text):
            pattern = after.format(name=re.escape(found[1]), held=held)
            again = re.search(pattern, text)
            if again and again[group] == token:
                return pattern
    return ""


def is_digest(text: str) -> bool:
    """Whether a text has the shape of a digest: hexadecimal or base64 of a digest's length."""
    if re.fullmatch(r"[0-9a-fA-F]+", text):
        return len(text) in _DIGESTS
    return len(text) in _BASE64_DIGESTS and text.endswith("=") and bool(re.fullmatch(r"[A-Za-z0-9+/]+={1,2}", text))


def is_opaque(text: str) -> bool:
    """Whether a text is nothing that a person or a page's author would write: long, and of letters and digits."""
    mixed = re.search(r"\d", text) and re.search(r"[A-Za-z]", text)
    return len(text) >= _OPAQUE and bool(mixed) and bool(re.fullmatch(r"[A-Za-z0-9+/=_.~-]+", text))
