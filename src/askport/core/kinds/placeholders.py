"""Placeholders in what is sent to a device: ``{address}``, one octet of it, padded, and the rest."""

import re
from collections.abc import Iterable, Mapping
from difflib import get_close_matches
from ipaddress import IPv4Address

from askport.core.addresses import MacAddress, mask_of_prefix
from askport.core.errors import BadInput, Wants
from askport.core.phrases import phrase
from askport.core.plan.target import Target

_PLACEHOLDER = re.compile(r"\{(plan\.[^{}]{1,60}|[A-Za-z][A-Za-z0-9_.:]*)\}")
_ADDRESSES = ("address", "mask", "gateway", "dns1", "dns2", "dns3")
_PLAIN = ("prefix", "name", "mac", "user", "password")
KNOWN = (*_ADDRESSES, *_PLAIN)
"""What can stand in a kind file without having been found or planned."""
SECRET = "password"  # noqa: S105 - the name of a placeholder
BLANK = "•••"
"""Stands where a secret is not shown."""


def placeholders(text: str) -> list[str]:
    """Return the names in braces, as they are written."""
    return _PLACEHOLDER.findall(text)


def base_of(placeholder: str) -> str:
    """Return what a placeholder is about: ``address`` of ``address.1`` and of ``address:padded``."""
    return placeholder if placeholder.startswith("plan.") else re.split(r"[.:]", placeholder, maxsplit=1)[0]


def wrote_by(texts: Iterable[str]) -> tuple[str, ...]:
    """Return which of mask, gateway and dns are written by what is sent."""
    said = {base_of(each) for text in texts for each in placeholders(text)}
    tells = {"mask": {"mask", "prefix"}, "gateway": {"gateway"}, "dns": {"dns1", "dns2", "dns3"}}
    return tuple(name for name, about in tells.items() if said & about)


def check_placeholders(text: str) -> None:
    """See that octets and padding are asked of addresses only.

    Raises:
        ValueError: they are not; the message says what was probably meant.
    """
    for each in placeholders(text):
        base, rest = base_of(each), each[len(base_of(each)) :]
        if base.startswith("plan.") or not rest:
            continue
        if base not in _ADDRESSES and base in _PLAIN:
            raise ValueError(
                phrase("{{{each}}} asks for a part of what has none: write {{{base}}}", each=each, base=base)
            )
        if rest not in (".1", ".2", ".3", ".4", ":padded"):
            raise ValueError(
                phrase(
                    "{{{each}}} is not known: an address has {{{base}.1}} to {{{base}.4}} and {{{base}:padded}}",
                    each=each,
                    base=base,
                )
            )


def unknown(text: str, found: Mapping[str, object] | frozenset[str]) -> str | None:
    """Say which placeholder nothing gives a value for, and what was probably meant, or return None."""
    for each in placeholders(text):
        base = base_of(each)
        if base in KNOWN or base.startswith("plan.") or base in found:
            continue
        close = get_close_matches(base, [*KNOWN, *found], n=1)
        meant = (
            phrase("write {{{close}}}", close=close[0])
            if close
            else phrase("name it in a find before, or write one of the known ones")
        )
        return phrase("{{{each}}} stands for nothing: {meant}", each=each, meant=meant)
    return None


def values_of(
    target: Target, mac: MacAddress, *, name: str = "", padded: bool = False, own_gateway: bool = False
) -> dict[str, str]:
    """Return what the placeholders of the plan stand for.

    Args:
        padded: whether it writes its octets with three digits.
        own_gateway: whether it wants its own address as gateway where the site has none.
    """
    gateway = target.gateway or (target.interface.ip if own_gateway else IPv4Address(0))
    dns = (*target.dns, *[IPv4Address(0)] * 3)[:3]
    prefix = target.interface.network.prefixlen
    addresses = {"address": target.interface.ip, "mask": mask_of_prefix(prefix), "gateway": gateway}
    addresses |= {f"dns{place}": each for place, each in enumerate(dns, 1)}
    values = {"prefix": str(prefix), "name": name, "mac": str(mac)}
    for key, address in addresses.items():
        digits = [f"{octet:03}" for octet in address.packed]
        values[f"{key}:padded"] = ".".join(digits)
        values[key] = values[f"{key}:padded"] if padded else str(address)
        octets = digits if padded else [str(octet) for octet in address.packed]
        values |= {f"{key}.{place}": octet for place, octet in enumerate(octets, 1)}
    return values


def fill(text: str, values: Mapping[str, str]) -> str:
    """Return the text with every placeholder filled in.

    Raises:
        BadInput: one has no value.
    """

    def value(match: re.Match[str]) -> str:
        if match[1] not in values:
            code = Wants.LOG_IN if match[1] in ("user", SECRET) else ""
            raise BadInput("'{{{match}}}' has no value: {remedy}.", match=match[1], remedy=_remedy(match[1]), code=code)
        return values[match[1]]

    return _PLACEHOLDER.sub(value, text)


def _remedy(placeholder: str) -> str:
    if placeholder in ("user", SECRET):
        name = "give its log-in name with --user"
        return phrase(name if placeholder == "user" else "give its password with --password-from")
    if placeholder.startswith("plan."):
        return phrase("the plan has no column {placeholder}", placeholder=placeholder[5:])
    return phrase("the device did not say it")
