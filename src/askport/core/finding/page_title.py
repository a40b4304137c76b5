"""The title of a page, by which people know a device."""

import re

from askport.core.text import display_text

_TITLE = re.compile(r"<title[^>]*>(.{0,200}?)</title", re.IGNORECASE | re.DOTALL)


def title_of(text: str) -> str:
    """Return the title of a page, cleaned; an empty text where it has none."""
    found = _TITLE.search(text)
    return display_text(" ".join(found[1].split()), 120) if found else ""
