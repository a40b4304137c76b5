"""By what the next unit of a sort is known again: what this one showed before anybody logged in."""

import re
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from askport.core.addresses import MacAddress
from askport.core.finding.clues import Identity

_OUI_DIGITS = 8
"""Of a MAC address as it is written: its maker's part."""
_ITS_OWN = re.compile(r"\S*\d\S*")
"""A word with a digit: a serial number, a version, an address or a tag, which the next unit has otherwise."""
_EVERYBODYS = re.compile(
    r"\b(?:log-?\s?in|user\s?name|username|password|welcome|index|home|untitled|page|unauthorized|to|of|the)\b[:\s]*",
    re.IGNORECASE,
)
_FEWEST_LETTERS = 4


@dataclass(frozen=True, slots=True)
class Marks:
    """What one unit showed."""

    mac: MacAddress | None
    texts: Collection[str] = ()
    """The first text of its console, its page's title, and what its page calls what it asks a log-in for."""
    identities: Collection[Identity] = ()
    ports: Collection[int] = ()
    """TCP ports that opened; they count where it showed nothing else."""

    def recognise(self) -> dict[str, Any]:
        """Return how a kind file recognises it: at the least by the maker's part of its MAC address."""
        known: dict[str, Any] = {"mac": [str(self.mac)[:_OUI_DIGITS]]} if self.mac else {}
        if banner := [pattern for text in self.texts if (pattern := _pattern(text))]:
            known["banner"] = list(dict.fromkeys(banner))
        if any((each.vendor, each.product) != (None, None) for each in self.identities):
            known["identity"] = [
                {"protocol": each.protocol}
                | {key: number for key in ("vendor", "product") if (number := getattr(each, key)) is not None}
                for each in self.identities
                if (each.vendor, each.product) != (None, None)
            ]
        if self.ports and not known.keys() & {"banner", "identity"}:
            known["ports"] = sorted(self.ports)
        return known | ({"sure": False} if known.keys() == {"mac"} else {})


def _pattern(text: str) -> str:
    """Return what of a text is the same at the next unit, or nothing where that says little."""
    plain = re.sub(r"[*?\[\]]+", "*", _ITS_OWN.sub("*", text))
    if sum(map(str.isalpha, _EVERYBODYS.sub("", plain))) < _FEWEST_LETTERS:
        return ""
    return re.sub(r"(?:\s*\*\s*)+", "*", f"*{' '.join(plain.split())}*")
