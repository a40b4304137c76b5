"""Comparing a MAC address on a label with one on the wire, digit by digit."""

from collections.abc import Iterable
from dataclasses import dataclass

from askport.core.addresses import MacAddress
from askport.core.errors import BadInput
from askport.core.phrases import phrase, phrase_of, together
from askport.core.text import display_text

_SEPARATORS = str.maketrans("", "", ":-. _/")
_DIGITS = 12
_NEAR = 2
"""Digits that differ where somebody has misread a label."""
_FEWEST = 3
"""Fewer last digits fit too many devices by chance: three are one in 4,096."""


@dataclass(frozen=True, slots=True)
class LabelMatch:
    """How a label compares with one device."""

    mac: MacAddress
    digits: str
    """What the label says, lower case, right-aligned with the MAC address."""
    different: tuple[int, ...]
    """Places of the MAC address's twelve digits that differ, from 0 on the left."""

    @property
    def fits(self) -> bool:
        """Whether every digit that the label gives is the device's."""
        return not self.different

    @property
    def aligned(self) -> tuple[str, str, str]:
        """The label over the device, digit over digit, and marks under the digits that differ."""
        label = self.digits.rjust(_DIGITS)
        marks = "".join("^" if place in self.different else " " for place in range(_DIGITS))
        verdict = phrase("it fits") if self.fits else _differ(len(self.different))
        rows = ("label  ", label, ":"), ("device ", self.mac.hex(), ":"), ("       ", marks, " ")
        one, other, under = (
            head + between.join(row[at : at + 2] for at in range(0, _DIGITS, 2)) for head, row, between in rows
        )
        return one.replace("  :", "   "), f"{other}   {verdict}", under

    @property
    def sentence(self) -> str:
        """Say how they compare."""
        if self.fits:
            said = "{mac} is what the label says."
            said = said if len(self.digits) == _DIGITS else "{mac} ends in {digits}, as the label says."
            return phrase(said, mac=self.mac, digits=self.digits)
        shown = self.mac.hex()
        offset = _DIGITS - len(self.digits)
        places = [
            phrase(
                "digit {place} is {shown} and not {digits}",
                place=place + 1,
                shown=shown[place],
                digits=self.digits[place - offset],
            )
            for place in self.different[:4]
        ]
        values = {"mac": self.mac, "places": ", ".join(places), "count": len(self.different) - 4}
        if len(self.different) > 4:
            return phrase("{mac} is not what the label says: {places} and {count} more differ.", **values)
        return phrase("{mac} is not what the label says: {places}.", **values)


def _differ(count: int) -> str:
    return phrase_of(count, "{count} digit differs", "{count} digits differ")


def label_digits(text: str) -> str:
    """Read the digits of a label in any notation, whole or the last ones; a barcode reader types the same.

    Raises:
        BadInput: there are other characters, too few digits or too many.
    """
    digits = text.strip().lower().removeprefix("mac").translate(_SEPARATORS)
    shown = display_text(text, 60)
    if not digits or any(each not in "0123456789abcdef" for each in digits):
        raise BadInput(
            "'{shown}' has other characters than hexadecimal digits: write the MAC address as it stands.", shown=shown
        )
    if not _FEWEST <= len(digits) <= _DIGITS:
        wanted = phrase(
            "write all {digits} of the MAC address, or the last {fewest} or more", digits=_DIGITS, fewest=_FEWEST
        )
        has = phrase_of(len(digits), "{count} digit", "{count} digits")
        raise BadInput("'{shown}' has {digits}: {wanted}.", shown=shown, digits=has, wanted=wanted)
    return digits


def compare_label(text: str, mac: MacAddress) -> LabelMatch:
    """Compare a label with a device.

    Raises:
        BadInput: the text cannot be a MAC address or its end.
    """
    digits = label_digits(text)
    offset = _DIGITS - len(digits)
    different = tuple(place for place in range(offset, _DIGITS) if mac.hex()[place] != digits[place - offset])
    return LabelMatch(mac, digits, different)


def unheard_label(label: MacAddress | None, macs: Iterable[MacAddress]) -> str:
    """Say that nobody was heard yet whose label this is, and who comes near it; nothing where somebody was."""
    known = list(macs)
    if label is None or label in known:
        return ""
    by_count = {each.mac: len(each.different) for each in (compare_label(str(label), mac) for mac in known)}
    fewest = min(by_count.values(), default=_DIGITS)
    near = [mac for mac, count in by_count.items() if count == fewest <= _NEAR]
    but = phrase("{near} comes near it: {differ}.", near=near[0], differ=_differ(fewest)) if len(near) == 1 else ""
    return together(phrase("{label}, by label or plan, was not heard yet.", label=label), but)


def match_label(text: str, macs: Iterable[MacAddress]) -> list[LabelMatch]:
    """Return the devices that a label fits, or the one nearest to it where it fits none.

    Raises:
        BadInput: the text cannot be a MAC address or its end.
    """
    compared = [compare_label(text, mac) for mac in macs]
    fitting = [each for each in compared if each.fits]
    return fitting or sorted(compared, key=lambda each: len(each.different))[:1]
