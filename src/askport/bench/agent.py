"""UP-01: its SNMP agent takes an address into its table; the only one that it has is the last one (RFC 4293)."""

from bisect import bisect_right
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface
from typing import Any

from askport.bench.datagram_devices import DatagramDevice
from askport.bench.stand_in import Settings
from askport.core.ways import snmp_talk as snmp
from askport.core.ways.snmp_engine import Oid, Value

COMMUNITY = "hatchery"
_NO_SUCH_NAME, _NOT_WRITABLE = 2, 17


class StandbySupply(DatagramDevice):
    """Says what it has to whoever knows its community, and moves where a row is made."""

    port = snmp.PORT_SNMP
    moves_after_s = 1.0

    def _answer(self, payload: bytes, at: IPv4Interface) -> list[bytes]:
        from pyasn1.codec.ber import decoder, encoder
        from pyasn1.error import PyAsn1Error
        from pysnmp.proto.api import v2c

        try:
            message, _ = decoder.decode(payload, asn1Spec=v2c.Message())
            request = v2c.apiMessage.get_pdu(message)
            asked = [(tuple(name), value) for name, value in v2c.apiPDU.get_varbinds(request)]
        except PyAsn1Error:
            return []
        if bytes(v2c.apiMessage.get_community(message)) != COMMUNITY.encode():
            return []
        answer = v2c.apiPDU.get_response(request)
        told: list[tuple[Any, Any]] = []
        fault = 0
        if request.isSameTypeWith(v2c.SetRequestPDU()):
            told, fault = asked, self._take(dict(asked), at)
        else:
            is_next = request.isSameTypeWith(v2c.GetNextRequestPDU())
            for name, _ in asked:
                found, value = self._find(name, at, is_next=is_next)
                told.append((found, _typed(value)))
        v2c.apiPDU.set_varbinds(answer, told)
        v2c.apiPDU.set_error_status(answer, fault)
        v2c.apiPDU.set_error_index(answer, 1 if fault else 0)
        v2c.apiMessage.set_pdu(message, answer)
        return [encoder.encode(message)]

    def _find(self, name: Oid, at: IPv4Interface, *, is_next: bool) -> tuple[Oid, Value | None]:
        values = self._values(at)
        if not is_next:
            return name, values.get(name)
        names = sorted(values)
        place = bisect_right(names, name)
        return (names[place], values[names[place]]) if place < len(names) else (name, None)

    def _values(self, at: IPv4Interface) -> dict[Oid, Value]:
        gateway = self.host.gateway
        row: Callable[[int], Oid] = lambda column: snmp.row(column, at.ip)  # noqa: E731 - it is said four times
        values: dict[Oid, Value] = {
            snmp.SYS_NAME: b"standby-1", row(snmp.IF_INDEX): 1, row(snmp.ORIGIN): 2,
            row(snmp.STORAGE): snmp.NON_VOLATILE, (*snmp.OLD_MASK, *at.ip.packed): at.netmask,
        }  # fmt: skip
        network = at.network
        here = (1, 4, *network.network_address.packed, network.prefixlen, 2, 0, 0, 1, 4, 0, 0, 0, 0)
        values[(*snmp.ROUTE, snmp.ROUTE_IF_INDEX, *here)] = 1
        if gateway:
            values[(*snmp.ROUTE, snmp.ROUTE_IF_INDEX, *snmp.route_index(gateway))] = 1
        return values

    def _take(self, told: dict[Oid, Any], at: IPv4Interface) -> int:
        """Take a row of addresses or a route; return the error status."""
        for name in told:
            if name[:-6] == (*snmp.IP_ADDRESS, snmp.ROW_STATUS):
                self._becomes(Settings(IPv4Interface(f"{IPv4Address(bytes(name[-4:]))}/{at.network.prefixlen}")))
                return 0
            if name[: len(snmp.ROUTE) + 1] == (*snmp.ROUTE, snmp.ROUTE_STATUS):
                self._becomes(Settings(self.saved.interface, IPv4Address(bytes(name[-4:]))))
                return 0
        return 0 if all(name[:-6] == (*snmp.IP_ADDRESS, snmp.STORAGE) for name in told) else _NOT_WRITABLE


def _typed(value: Value | None) -> Any:
    from pysnmp.proto import rfc1902, rfc1905

    if value is None:
        return rfc1905.noSuchInstance
    if isinstance(value, IPv4Address):
        return rfc1902.IpAddress(str(value))
    return rfc1902.OctetString(value) if isinstance(value, bytes) else rfc1902.Integer32(value)
