"""A device's planned values as one sentence that people type: ``10.84.16.40/22 via 10.84.19.254 dns 10.84.19.253``."""

from askport.core.addresses import parse_address, parse_interface
from askport.core.errors import BadInput
from askport.core.plan.target import Target
from askport.core.text import display_text

EXAMPLE = "10.84.16.40/22 via 10.84.19.254 dns 10.84.19.253"


def write_target(target: Target) -> str:
    """Return the sentence for these values."""
    parts = [str(target.interface)]
    if target.gateway:
        parts += ["via", str(target.gateway)]
    if target.dns:
        parts += ["dns", *(str(each) for each in target.dns)]
    return " ".join(parts)


def read_target(sentence: str) -> Target:
    """Read the values: the address with prefix, then ``via`` and the gateway, then ``dns`` and servers, both optional.

    Raises:
        BadInput: one part cannot be meant; the message names it.
    """
    words = sentence.split()
    if not words:
        raise BadInput(f"Type the final address, such as: {EXAMPLE}")
    interface, gateway, dns, rest = parse_interface(words[0]), None, [], words[1:]
    while rest:
        word, *rest = rest
        if word == "via" and rest:
            gateway, rest = parse_address(rest[0], "gateway"), rest[1:]
        elif word == "dns" and rest:
            dns, rest = [parse_address(each, "DNS server") for each in rest], []
        else:
            raise BadInput(f"'{display_text(word, 40)}' is not understood here: write it like {EXAMPLE}")
    return Target(interface=interface, gateway=gateway, dns=tuple(dns))
