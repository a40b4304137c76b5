"""The ways that speak a field protocol: what each needs, and when it fits."""

from collections.abc import Callable
from ipaddress import IPv4Address

from askport.core.finding.device import Device
from askport.core.kinds.model import Kind
from askport.core.ways.artnet_way import SetByArtNet, shown_program
from askport.core.ways.bacnet_way import SetByBacnet, shown_properties
from askport.core.ways.cip_way import SetByCip
from askport.core.ways.cip_way import shown_steps as shown_objects
from askport.core.ways.dcp_way import SetByDcp, shown_values
from askport.core.ways.onvif_way import SetByOnvif, shown_calls
from askport.core.ways.own_word_talk import BY_MAC
from askport.core.ways.snmp_way import SetBySnmp
from askport.core.ways.snmp_way import shown_values as shown_rows
from askport.core.ways.way_entry import WayEntry

Fits = Callable[[Device | None, IPv4Address | None, Kind | None], str | None]


def _speaks(protocol: str, why: str) -> Fits:
    """Return what fits a device that was heard to speak a protocol, where it can be reached by that."""

    def fits(device: Device | None, there: IPv4Address | None, _: Kind | None) -> str | None:
        reached = there is not None or protocol in BY_MAC
        return why if device is not None and reached and device.speaks(protocol) else None

    return fits


def _lets_in_by_snmp(_: Device | None, there: IPv4Address | None, kind: Kind | None) -> str | None:
    if kind is None or there is None or kind.way_by("snmp") is None:
        return None
    return "The agent of its kind takes an address by SNMP: no mask and no DNS, and the old address may stay beside it."


FIELD: dict[str, WayEntry] = {
    entry.name: entry
    for entry in (
        WayEntry(
            name=SetByDcp.name,
            title="by PROFINET DCP",
            done="by PROFINET DCP",
            says="tells it by PROFINET DCP at its MAC address, to be kept; --temporary for now only. No address needed",
            fits=_speaks("dcp", "It speaks PROFINET DCP: it is told at its MAC address and needs no other."),
            by_mac=True,
            enter_does="tell it by PROFINET DCP, and follow it to {target}",
            says_lines=shown_values,
            tells=lambda _: SetByDcp.wrote,
            begin=SetByDcp,
        ),
        WayEntry(
            name=SetByCip.name,
            title="by EtherNet/IP",
            done="by EtherNet/IP",
            says="makes its configuration static and tells it over EtherNet/IP (CIP), and follows it. Needs --at",
            fits=_speaks("cip", "It speaks EtherNet/IP: its interface object is told, and says itself what it has."),
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by EtherNet/IP, and follow it to {target}",
            says_lines=shown_objects,
            begin=SetByCip,
        ),
        WayEntry(
            name=SetByOnvif.name,
            title="by ONVIF",
            done="by ONVIF",
            says="tells its ONVIF device service, has it restart where it asks for that, and follows it. Needs --at",
            fits=_speaks("onvif", "It speaks ONVIF: its device service is told, and says itself what it has."),
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by ONVIF, and follow it to {target}",
            says_lines=shown_calls,
            begin=SetByOnvif,
        ),
        WayEntry(
            name=SetByBacnet.name,
            title="by BACnet",
            done="by BACnet",
            says="writes its BACnet network port, has the changes used, and follows it. Needs --at",
            fits=_speaks("bacnet", "It speaks BACnet: its network port is written, and says itself what it has."),
            needs_laptop=True,
            needs_reach=True,
            enter_does="tell it by BACnet, and follow it to {target}",
            says_lines=shown_properties,
            begin=SetByBacnet,
        ),
        WayEntry(
            name=SetByArtNet.name,
            title="by Art-Net",
            done="by Art-Net",
            says="programs its Art-Net node (ArtIpProg), and follows it. Needs --at",
            fits=_speaks("artnet", "It speaks Art-Net: its node is programmed, and says itself what it has."),
            needs_laptop=True,
            needs_reach=True,
            enter_does="program it by Art-Net, and follow it to {target}",
            says_lines=shown_program,
            tells=lambda _: ("mask", "gateway"),
            begin=SetByArtNet,
        ),
        WayEntry(
            name=SetBySnmp.name,
            title="by SNMP",
            done="by SNMP",
            says=(
                "adds the address to the table of its SNMP agent, and follows it; no mask, no DNS, and the old address "
                "may stay. Needs --at and its community, or --user and a password"
            ),
            fits=_lets_in_by_snmp,
            needs_laptop=True,
            needs_reach=True,
            enter_does="add {target} by SNMP, and follow it there",
            says_lines=shown_rows,
            tells=lambda _: ("gateway",),
            begin=SetBySnmp,
        ),
    )
}
"""By name."""
