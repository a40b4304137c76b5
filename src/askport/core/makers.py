"""A table of makers beside the official registry: one line each, the beginning of a MAC address, a tab, the maker.

The beginning may have any number of hexadecimal digits (24, 28 and 36 bits are what the IEEE gives out: 6, 7 and 9
digits), with or without separators. Empty lines and lines that begin with ``#`` say nothing.
"""

from askport.core import addresses, errors
from askport.core.text import display_text

_SEPARATORS = str.maketrans("", "", ":-. ")
_MAX_MAKERS = 100_000
MAX_NAME = 60
"""Characters of a maker's name that are shown."""

Makers = dict[str, str]
"""The beginning of a MAC address in lower-case digits, and the maker."""


def read_makers(text: str, name: str) -> Makers:
    """Read a table.

    Raises:
        BadInput: a line is not a beginning of a MAC address, a tab and a maker.
    """
    table: Makers = {}
    for number, line in enumerate(text.splitlines()[:_MAX_MAKERS], 1):
        if not line.strip() or line.startswith("#"):
            continue
        start, _, maker = line.partition("\t")
        digits = start.lower().translate(_SEPARATORS)
        if not 1 <= len(digits) <= 12 or any(each not in "0123456789abcdef" for each in digits) or not maker.strip():
            shown = display_text(line, 40)
            raise errors.BadInput(
                "Line {number} of {name}, '{shown}', cannot be read. Write the first digits of a MAC "
                "address, a tab and the maker.",
                number=number,
                name=name,
                shown=shown,
            )
        table[digits] = display_text(maker.strip(), MAX_NAME)
    return table


def maker_in(table: Makers, mac: addresses.MacAddress) -> str | None:
    """Return the maker with the longest beginning that fits, or None."""
    digits = mac.hex()
    return next((table[digits[:size]] for size in range(12, 0, -1) if digits[:size] in table), None)
