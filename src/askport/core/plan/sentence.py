"""A device's planned values as one sentence that people type: ``10.84.16.40/22 via 10.84.19.254 dns 10.84.19.253``."""

from ipaddress import IPv4Address

from askport.core import addresses, errors, text
from askport.core.phrases import phrase
from askport.core.plan.target import Target

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
        raise errors.BadInput("Type the final address, such as: {example}", example=EXAMPLE)
    # Behind an address with its prefix nothing belongs to it; without, a mask or a prefix may follow.
    end = 1
    if "/" not in words[0] or words[0].endswith("/"):
        follows = words[1:3] if words[1:2] == ["/"] else words[1:2]
        end += len(follows) if follows and (follows[0].startswith("/") or addresses.is_mask(follows[0])) else 0
    interface = addresses.parse_interface(" ".join(words[:end]))
    gateway: IPv4Address | None = None
    dns: list[IPv4Address] = []
    rest = words[end:]
    while rest:
        word, *rest = rest
        if word == "via" and rest:
            gateway, rest = addresses.parse_address(rest[0], "gateway"), rest[1:]
        elif word == "dns" and rest:
            dns, rest = addresses.parse_list(rest, phrase("DNS server")), []
        else:
            raise errors.BadInput(
                "'{word}' is not understood here: write it like {example}",
                word=text.display_text(word, 40),
                example=EXAMPLE,
            )
    return Target(interface=interface, gateway=gateway, dns=tuple(dns))
