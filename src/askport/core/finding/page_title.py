"""The title of a page, by which people know a device."""

import re

from askport.core.text import display_text

_TITLE = re.compile(r"<title[^>]*>(.{0,200}?)</title", re.IGNORECASE | re.DOTALL)


_REALM = re.compile(r"(?im)^www-authenticate:.*?\brealm\s*=\s*\"([^\"\r\n]{1,200})\"")
ASKS_LOG_IN = (401, 407)
"""Statuses by which a page asks for a log-in (RFC 9110 sections 15.5.2 and 15.5.8)."""


def name_of(status: int, text: str, headers: str) -> str:
    """Return what a page calls itself, cleaned: its title, or what it asks a log-in for (RFC 9110 section 11.5)."""
    if status not in ASKS_LOG_IN:
        return title_of(text)
    found = _REALM.search(headers)
    return display_text(" ".join(found[1].split()), 120) if found else ""


def title_of(text: str) -> str:
    """Return the title of a page, cleaned; an empty text where it has none."""
    found = _TITLE.search(text)
    return display_text(" ".join(found[1].split()), 120) if found else ""
