"""The values as a person types them into a device of one kind."""

from dataclasses import replace
from ipaddress import IPv4Address

from askport.core.kinds.model import Kind
from askport.core.plan.target import Target


def typed(target: Target, kind: Kind | None) -> list[tuple[str, str]]:
    """Return the values in the device's notation, with the usual names of the fields."""
    if kind and kind.needs.gateway == "own-address" and target.gateway is None:
        target = replace(target, gateway=target.interface.ip)
    rows = target.typed()
    if kind is None or kind.needs.octets != "padded":
        return rows
    return [(name, ".".join(f"{octet:03}" for octet in IPv4Address(value).packed)) for name, value in rows]
