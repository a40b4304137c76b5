"""What a device is to become, as the options of a command give it."""

from collections.abc import Sequence

from askport.core.addresses import parse_address, parse_interface, parse_list
from askport.core.phrases import phrase
from askport.core.plan.target import Target, require_sound


def target_of(to: str, gateway: str | None = None, dns: Sequence[str] | None = None) -> Target:
    """Return the settings that were named.

    Raises:
        BadInput: one of them is no address, or they do not go together.
    """
    where = parse_address(gateway, "gateway") if gateway else None
    target = Target(
        interface=parse_interface(to), gateway=where, dns=tuple(parse_list(dns or [], phrase("DNS server")))
    )
    require_sound(target)
    return target
