"""Stand-ins that speak open field protocols: one by PROFINET DCP without any address, one by EtherNet/IP."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface
from struct import pack

from askport.bench.stand_in import Settings, StandIn, Talk
from askport.core.addresses import UNSPECIFIED
from askport.core.errors import Refused
from askport.core.formats import cip
from askport.core.formats.cip import Attribute, CipService, Command, Configuration
from askport.core.formats.dcp import ETHERTYPE_PROFINET, PERMANENT, Block, Dcp, DcpService, FrameId, encode_dcp
from askport.core.formats.ethernet import Ethernet, encode_ethernet
from askport.core.formats.field_protocols import PORT_ETHERNET_IP, EtherNetIp, decode_ethernet_ip, encode_ethernet_ip
from askport.core.formats.packet import Packet, ends_of, frame_between, read_packet
from askport.core.formats.udp import Udp
from askport.core.formats.unreadable import Unreadable
from askport.core.plan.target import Target

_NO_ERROR = 0
_NOTHING_TO_TYPE = "It has neither page nor keypad: it is told over the cable, in its own field protocol."


class FieldDevice(StandIn):
    """Has nothing to type into."""

    boot_s = 6.0
    hand = "ping"

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """There is nothing to type into."""
        raise Refused(_NOTHING_TO_TYPE)


class FlowComputer(FieldDevice):
    """FL-01: has no address, and is told one by PROFINET DCP; it keeps what it is told to keep."""

    _type, _vendor, _product = b"Flow computer", 0x0FFE, 0x0102
    blinks = 0
    """How often it showed itself."""
    called = b""
    """What it is called."""

    def receive(self, data: bytes, now: float) -> list[bytes]:
        """Answer what stations are asked (IEC 61158-6-10 clause 4.3)."""
        packet = read_packet(data)
        message, ethernet = packet.get(Dcp), packet.get(Ethernet)
        if not self.up or message is None or ethernet is None or message.service_type != 0:
            return super().receive(data, now)
        told: tuple[tuple[int, bytes], ...] = ()
        if message.frame_id == FrameId.IDENTIFY_REQUEST:
            numbers = pack("!HHH", 0, self._vendor, self._product)
            described = (Block.TYPE_OF_STATION, b"\0\0" + self._type)
            told = (described, self._name_block, (Block.DEVICE_ID, numbers), self._ip_block)
        elif message.service_id == DcpService.GET and ethernet.dst == self.mac:
            told = (self._ip_block, self._name_block)
        elif message.service_id == DcpService.SET and ethernet.dst == self.mac:
            told = tuple((Block.CONTROL_RESPONSE, pack("!HB", kind, _NO_ERROR)) for kind, _ in message.blocks)
            self.blinks += any(kind == Block.SIGNAL for kind, _ in message.blocks)
            for kind, value in message.blocks:
                if kind == Block.IP and len(value) >= 14:
                    self._take(value)
                elif kind == Block.NAME_OF_STATION:
                    self.called = value[2:]
        if not told:
            return []
        frame_id = FrameId.IDENTIFY_RESPONSE if message.service_id == DcpService.IDENTIFY else FrameId.GET_SET
        answer = Dcp(frame_id, message.service_id, 1, message.xid, blocks=told)
        payload = encode_dcp(answer)
        frame = Ethernet(dst=ethernet.src, src=self.mac, ethertype=ETHERTYPE_PROFINET, payload=payload)
        return [encode_ethernet(frame)]

    @property
    def _name_block(self) -> tuple[int, bytes]:
        return Block.NAME_OF_STATION, b"\0\0" + self.called

    @property
    def _ip_block(self) -> tuple[int, bytes]:
        at, gateway = self.host.interface, self.host.gateway or UNSPECIFIED
        values = (at.ip, at.netmask, gateway) if at else (UNSPECIFIED,) * 3
        return Block.IP, pack("!H", 1 if at else 0) + b"".join(each.packed for each in values)

    def _take(self, value: bytes) -> None:
        address, mask, gateway = (IPv4Address(value[at : at + 4]) for at in (2, 6, 10))
        interface = IPv4Interface(f"{address}/{mask}")
        self.host.take(interface, gateway if gateway not in (UNSPECIFIED, address) else None)
        if int.from_bytes(value[:2], "big") == PERMANENT:
            self.saved = Settings(interface, self.host.gateway)


class ValveIsland(FieldDevice):
    """FL-02: its TCP/IP Interface object is set over EtherNet/IP, once its configuration control is static."""

    _vendor, _product, _name = 0x0F1E, 0x0203, b"Valve island"
    _control, _now = cip.STATIC, 0.0
    _moves_after_s = 0.3
    """How long it stays where it was after it was told, so that it can answer."""

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.ports = (PORT_ETHERNET_IP,)
        self._control = cip.STATIC
        return self.host.announce()

    def receive(self, data: bytes, now: float) -> list[bytes]:
        self._now = now
        packet = read_packet(data)
        return self._identity(packet) or super().receive(data, now)

    def _identity(self, packet: Packet) -> list[bytes]:
        udp, ends, at = packet.get(Udp), ends_of(packet), self.host.interface
        if not self.up or udp is None or ends is None or at is None or udp.dst_port != PORT_ETHERNET_IP:
            return []
        asked = decode_ethernet_ip(udp.payload)
        if isinstance(asked, Unreadable) or asked.address is not None or ends.src not in at.network:
            return []
        told = EtherNetIp(
            address=at.ip, vendor_id=self._vendor, serial=int.from_bytes(self.mac[2:], "big"), product=self._name,
            product_code=self._product,
        )  # fmt: skip
        answer = Udp(src_port=PORT_ETHERNET_IP, dst_port=udp.src_port, payload=encode_ethernet_ip(told))
        back = ends.back
        return [frame_between(back._replace(src_mac=self.mac, src=at.ip), answer)]

    def talk(self, port: int) -> Talk | None:
        """Offer its interface object."""
        return _InterfaceObject(self._serve) if port == PORT_ETHERNET_IP else None

    def _serve(self, service: int, attribute: int, data: bytes) -> tuple[int, bytes]:
        at, dns = self.host.interface or IPv4Interface(0), (*self.saved.dns, UNSPECIFIED, UNSPECIFIED)[:2]
        if service == CipService.GET:
            shown = Configuration(at.ip, at.netmask, self.host.gateway or UNSPECIFIED, (dns[0], dns[1]))
            answers = {
                Attribute.STATUS: pack("<I", 1), Attribute.CAPABILITY: pack("<I", cip.SETTABLE),
                Attribute.CONTROL: pack("<I", self._control), Attribute.HOST_NAME: bytes(2),
                Attribute.CONFIGURATION: cip.encode_configuration(shown),
            }  # fmt: skip
            return (0, answers[Attribute(attribute)]) if attribute in answers else (0x14, b"")
        if attribute == Attribute.CONTROL and len(data) >= 4:
            self._control = data[0]
            return 0, b""
        value = cip.decode_configuration(data)
        if attribute != Attribute.CONFIGURATION or isinstance(value, Unreadable):
            return 0x09, b""
        if self._control & cip.METHOD != cip.STATIC:
            return 0x0C, b""
        gateway = value.gateway if value.gateway != UNSPECIFIED else None
        servers = tuple(each for each in value.dns if each != UNSPECIFIED)
        self.saved = Settings(IPv4Interface(f"{value.address}/{value.mask}"), gateway, servers)
        self.next_at = self._now + self._moves_after_s
        return 0, b""

    def due(self, now: float) -> list[bytes]:
        if self.host.interface == self.saved.interface:
            return []
        self.host.take(self.saved.interface, self.saved.gateway)
        return self.host.announce()


class _InterfaceObject:
    """One session with a TCP/IP Interface object."""

    over = False

    def __init__(self, serve: Callable[[int, int, bytes], tuple[int, bytes]]) -> None:
        self._serve, self._came = serve, b""

    def greets(self) -> bytes:
        """Return nothing: who connects speaks first."""
        return b""

    def receives(self, data: bytes, now: float) -> bytes:
        """Take a part of a message; answer each that is whole."""
        self._came += data
        said = b""
        while not self.over:
            taken = cip.take_message(self._came)
            if isinstance(taken, Unreadable):
                self.over = True
                break
            message, self._came = taken
            if message is None:
                break
            if message.command == Command.REGISTER_SESSION:
                said += cip.encapsulate(Command.REGISTER_SESSION, 1, message.body)
            elif len(message.body) >= 24:
                request = message.body[16:]
                service, attribute = request[0], request[7]
                status, told = self._serve(service, attribute, request[8:])
                said += cip.unconnected(message.session, bytes((service | 0x80, 0, status, 0)) + told)
        return said
