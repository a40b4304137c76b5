"""Art-Net: a node is asked for its address, and programmed (Art-Net 4, ArtIpProg)."""

from askport.core.addresses import UNSPECIFIED
from askport.core.formats import ipprog
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.field_protocols import PORT_ART_NET
from askport.core.formats.ipprog import IpProg
from askport.core.formats.packet import Ends, frame_between
from askport.core.formats.udp import Udp
from askport.core.ways.conversation import Conversation, Ended, Spoken
from askport.core.ways.start import Start
from askport.core.ways.talking import FieldTerms, Talking
from askport.core.wire import Heard

_ANSWER_S = 1.5
_ATTEMPTS = 3


class ArtNetTalk(Conversation):
    """One packet and its reply, from the laptop's address beside the node."""

    def __init__(self, start: Start, packet: IpProg, says: str) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the node is, or the laptop does not reach it there.
        """
        super().__init__({})
        if start.old is None or start.beside is None:
            raise ValueError("Art-Net reaches a node where it is")
        self._ends = Ends(src_mac=start.laptop_mac, src=start.beside.ip, dst_mac=start.mac, dst=start.old)
        self._packet, self._says = packet, says
        self._asked, self._next_at = 0, start.now

    @property
    def has_said_all(self) -> bool:
        """Whether it was sent."""
        return self._asked > 0

    def receive(self, heard: Heard) -> None:
        """Take its reply."""
        ethernet, udp = heard.packet.get(Ethernet), heard.packet.get(Udp)
        if self.done or not ethernet or not udp or ethernet.src != self._ends.dst_mac or not self._asked:
            return
        reply = ipprog.decode_ip_prog(udp.payload)
        if isinstance(reply, IpProg) and reply.is_reply:
            self._replied(reply)

    def _replied(self, reply: IpProg) -> None:
        if self._packet.command != ipprog.ASK and reply.address != self._packet.address:
            self._finish(Ended.REFUSED, f"it replied that its address is {reply.address}")
            return
        self.spoken[-1].acknowledged = True
        none = reply.gateway == UNSPECIFIED
        self._found = {
            "address": str(reply.address), "mask": str(reply.mask), "gateway": "none" if none else str(reply.gateway),
            "origin": "dhcp" if reply.by_dhcp else "static",
        }  # fmt: skip
        self._finish(Ended.WELL, "")

    def handle_timer(self, now: float) -> None:
        """Ask, or give up."""
        if self.done or now < self._next_at:
            return
        if self._asked == _ATTEMPTS:
            self._finish(Ended.UNREACHED, f"it did not reply {_ATTEMPTS} times")
            return
        payload = ipprog.encode_ip_prog(self._packet)
        self._send(frame_between(self._ends, Udp(src_port=PORT_ART_NET, dst_port=PORT_ART_NET, payload=payload)))
        self.spoken = [Spoken(self._says)]
        self._asked, self._next_at = self._asked + 1, now + _ANSWER_S

    def next_deadline(self) -> float | None:
        """Return when to ask next."""
        return None if self.done else self._next_at


def read_by_art_net(start: Start) -> ArtNetTalk:
    """Return what asks a node for its address.

    Raises:
        ValueError: it is not known where the node is, or the laptop does not reach it there.
    """
    return ArtNetTalk(start, IpProg(is_reply=False), "ask for its address")


class SetByArtNet(Talking):
    """Programs a node, and follows it; the reply is often lost with the move."""

    name = "artnet"
    what = "node"

    def __init__(self, start: Start) -> None:
        """Begin to talk.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        super().__init__(start, start.kind, FieldTerms(shown_program(start)), [])
        self.wrote = ("mask", *(("gateway",) if start.target.gateway else ()))

    def _set(self) -> ArtNetTalk:
        target = self._start.target
        command = ipprog.SET_WITH_GATEWAY if target.gateway else ipprog.SET
        gateway = target.gateway or UNSPECIFIED
        packet = IpProg(False, target.interface.ip, target.interface.netmask, gateway, command)
        return ArtNetTalk(self._start, packet, shown_program(self._start)[0])


def shown_program(start: Start) -> list[str]:
    """Return what it is told."""
    at, gateway = start.target.interface, start.target.gateway
    return [f"program {at.ip} {at.netmask}{f' gateway {gateway}' if gateway else ''}"]
