"""Stand-ins that speak field protocols in datagrams: BACnet, Art-Net, KNXnet/IP; and one that is read by Modbus/TCP."""

from ipaddress import IPv4Address, IPv4Interface

from askport.bench.field_devices import FieldDevice
from askport.bench.stand_in import Settings, Talk
from askport.core.addresses import UNSPECIFIED
from askport.core.formats import bacnet, ipprog, modbus, unreadable
from askport.core.formats import field_protocols as fp
from askport.core.formats.bacnet import ConfirmedService, Property
from askport.core.formats.packet import ends_of, frame_between, read_packet
from askport.core.formats.udp import Udp
from askport.core.plan.target import Target


class DatagramDevice(FieldDevice):
    """Answers at one UDP port whoever is in its subnet."""

    port: int
    moves_after_s = 0.3
    """How long it stays where it was after it was told, so that it can answer."""
    _now = 0.0

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        return self.host.announce()

    def receive(self, data: bytes, now: float) -> list[bytes]:
        self._now, packet = now, read_packet(data)
        udp, ends, at = packet.get(Udp), ends_of(packet), self.host.interface
        if self.up and udp and ends and at and udp.dst_port == self.port and ends.src in at.network:
            said = self._answer(udp.payload, at)
            back = ends.back._replace(src_mac=self.mac, src=at.ip)
            return [frame_between(back, Udp(src_port=self.port, dst_port=udp.src_port, payload=each)) for each in said]
        return super().receive(data, now)

    def _answer(self, payload: bytes, at: IPv4Interface) -> list[bytes]:
        raise NotImplementedError

    def _becomes(self, settings: Settings) -> None:
        self.saved, self.next_at = settings, self._now + self.moves_after_s

    def due(self, now: float) -> list[bytes]:
        if self.host.interface == self.saved.interface or self.saved.interface is None:
            return []
        self.host.take(self.saved.interface, self.saved.gateway)
        return self.host.announce()


class AirHandler(DatagramDevice):
    """AH-01: its network port is written over BACnet, and used once its changes are activated."""

    port = fp.PORT_BACNET
    _instance, _vendor, _network_port = 4711, 0x0FFE, 3

    def started(self, now: float) -> list[bytes]:
        self._written: dict[int, bytes] = {}
        return super().started(now)

    def _answer(self, payload: bytes, at: IPv4Interface) -> list[bytes]:
        said = fp.decode_bacnet(payload)
        if isinstance(said, fp.Bacnet) and said.service == fp.BacnetService.WHO_IS:
            return [fp.encode_bacnet(fp.Bacnet(fp.BacnetService.I_AM, self._instance, vendor_id=self._vendor))]
        if len(payload) < 10 or payload[5] != 4 or payload[6] >> 4:
            return []
        invoke, service, rest = payload[8], payload[9], payload[10:]
        values = bacnet.values_of(rest)
        if service == ConfirmedService.REINITIALIZE_DEVICE:
            self._activate(at)
            return [_npdu(bytes((0x20, invoke, service)))]
        number = int.from_bytes(values[1], "big") if len(values) > 1 else 0
        if service == ConfirmedService.READ_PROPERTY and (value := self._value(number, at)):
            head = bytes((0x30, invoke, service)) + rest[: rest.index(values[1], 5) + len(values[1])]
            return [_npdu(head + b"\x3e" + value + b"\x3f")]
        if service == ConfirmedService.WRITE_PROPERTY and b"\x3e" in rest:
            self._written[number] = rest[rest.index(b"\x3e") + 1 : rest.rindex(b"\x3f")]
            return [_npdu(bytes((0x20, invoke, service)))]
        return [_npdu(bytes((0x50, invoke, service, 0x91, 2, 0x91, 32)))]  # property: unknown

    def _value(self, number: int, at: IPv4Interface) -> bytes:
        named = (bacnet.NETWORK_PORT << 22 | self._network_port).to_bytes(4, "big")
        shown = {
            Property.OBJECT_IDENTIFIER: b"\xc4" + named,
            Property.IP_ADDRESS: bacnet.octets(at.ip.packed),
            Property.SUBNET_MASK: bacnet.octets(at.netmask.packed),
            Property.DEFAULT_GATEWAY: bacnet.octets((self.host.gateway or UNSPECIFIED).packed),
            Property.DNS_SERVER: b"".join(bacnet.octets(each.packed) for each in self.saved.dns),
            Property.DHCP_ENABLE: bacnet.boolean(value=False),
            Property.CHANGES_PENDING: bacnet.boolean(value=bool(self._written)),
        }
        return shown.get(Property(number), b"") if number in {*Property} else b""

    def _activate(self, at: IPv4Interface) -> None:
        def written(number: int) -> list[IPv4Address]:
            values = bacnet.values_of(self._written.get(number, b""))
            return [IPv4Address(each) for each in values if len(each) == 4]

        address, mask = written(Property.IP_ADDRESS) or [at.ip], written(Property.SUBNET_MASK) or [at.netmask]
        gateway = next(iter(written(Property.DEFAULT_GATEWAY)), UNSPECIFIED)
        interface = IPv4Interface(f"{address[0]}/{mask[0]}")
        self._becomes(Settings(interface, gateway if int(gateway) else None, tuple(written(Property.DNS_SERVER))))
        self._written = {}


def _npdu(apdu: bytes) -> bytes:
    npdu = b"\1\0" + apdu
    return b"\x81\x0a" + (4 + len(npdu)).to_bytes(2, "big") + npdu


class LaneLights(DatagramDevice):
    """LL-01: a node that is programmed by Art-Net."""

    port = fp.PORT_ART_NET

    def _answer(self, payload: bytes, at: IPv4Interface) -> list[bytes]:
        asked = fp.decode_art_net(payload)
        if isinstance(asked, fp.ArtNet) and asked.op == fp.ArtNetOp.POLL:
            return [fp.encode_art_net(fp.ArtNet(fp.ArtNetOp.POLL_REPLY, at.ip, b"lane lights", self.mac))]
        told = ipprog.decode_ip_prog(payload)
        if isinstance(told, unreadable.Unreadable) or told.is_reply:
            return []
        gateway = self.host.gateway or UNSPECIFIED
        shown = ipprog.IpProg(True, at.ip, at.netmask, gateway)
        if told.command != ipprog.ASK:
            gateway = told.gateway if told.command & 0x10 else gateway
            shown = ipprog.IpProg(True, told.address, told.mask, gateway)
            self._becomes(Settings(IPv4Interface(f"{told.address}/{told.mask}"), gateway if int(gateway) else None))
        return [ipprog.encode_ip_prog(shown)]


class BusGateway(DatagramDevice):
    """BG-01: says who it is by KNXnet/IP and Modbus/TCP, and is set at its keypad: the standards set nothing."""

    port = fp.PORT_KNX
    hand = "keypad"

    def started(self, now: float) -> list[bytes]:
        self.host.ports = (modbus.PORT_MODBUS,)
        return super().started(now)

    def _answer(self, payload: bytes, at: IPv4Interface) -> list[bytes]:
        asked = fp.decode_knx(payload)
        if isinstance(asked, unreadable.Unreadable) or asked.service not in _KNX_ANSWERS:
            return []
        told = fp.Knx(
            _KNX_ANSWERS[asked.service], at.ip, mac=self.mac, name=b"hatch bus", individual_address=0x1101,
            serial=b"\x0f\xfe" + self.mac[2:],
        )  # fmt: skip
        return [fp.encode_knx(told)]

    def talk(self, port: int) -> Talk | None:
        """Offer its identification."""
        return _Identification() if port == modbus.PORT_MODBUS else None

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Take what is typed into its keypad."""
        self._now = now
        self._becomes(Settings(target.interface, target.gateway))
        return "OK"


_KNX_ANSWERS: dict[int, fp.KnxService] = {
    fp.KnxService.SEARCH_REQUEST: fp.KnxService.SEARCH_RESPONSE,
    fp.KnxService.DESCRIPTION_REQUEST: fp.KnxService.DESCRIPTION_RESPONSE,
}
_NAMED = ((modbus.Part.VENDOR_NAME, b"Vesper Controls"), (modbus.Part.PRODUCT_CODE, b"BG-1"))


class _Identification:
    """One connection to a Modbus/TCP server that has the basic parts of an identification."""

    over = False

    def greets(self) -> bytes:
        """Return nothing: who connects speaks first."""
        return b""

    def receives(self, data: bytes, now: float) -> bytes:
        """Answer a request."""
        if len(data) < 11 or data[7:9] != b"\x2b\x0e":
            return b""
        basic = data[9] == modbus.ReadDevId.BASIC
        answer = modbus.Identification(
            int.from_bytes(data[:2], "big"), _NAMED if basic else (), None, 0 if basic else 3
        )
        return modbus.encode_identification(answer)
