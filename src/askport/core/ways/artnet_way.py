"""Art-Net: a node is asked for its address, and programmed (Art-Net 4, ArtIpProg)."""

from askport.core.addresses import UNSPECIFIED
from askport.core.formats import field_protocols, ipprog
from askport.core.formats.ipprog import IpProg
from askport.core.phrases import phrase
from askport.core.ways import conversation, datagrams, field_way
from askport.core.ways.start import Start


class ArtNetTalk(datagrams.Datagrams[IpProg]):
    """One packet and its reply."""

    port, protocol = field_protocols.PORT_ART_NET, "Art-Net"
    answers_from_port = False

    def __init__(self, start: Start, packet: IpProg, says: str) -> None:
        """Begin to ask.

        Raises:
            ValueError: it is not known where the node is, or the laptop does not reach it there.
        """
        super().__init__(start, [packet])
        self._says = says
        self.reply: IpProg | None = None

    def _question(self, step: IpProg) -> tuple[str, bool, list[bytes]]:
        return self._says, step.command != ipprog.ASK, [ipprog.encode_ip_prog(step)]

    def _take(self, payload: bytes, now: float) -> None:
        reply = ipprog.decode_ip_prog(payload)
        if self.done or not isinstance(reply, IpProg) or not reply.is_reply or not self._is_out:
            return
        packet = self._steps[0]
        if packet.command != ipprog.ASK and reply.address != packet.address:
            self._finish(
                conversation.Ended.REFUSED, phrase("it replied that its address is {address}", address=reply.address)
            )
            return
        self.reply = reply
        none = reply.gateway == UNSPECIFIED
        self._found = {
            "address": str(reply.address), "mask": str(reply.mask), "gateway": "none" if none else str(reply.gateway),
            "origin": "dhcp" if reply.by_dhcp else "static",
        }  # fmt: skip
        self._answered(now)


def read_by_art_net(start: Start) -> ArtNetTalk:
    """Return what asks a node for its address.

    Raises:
        ValueError: it is not known where the node is, or the laptop does not reach it there.
    """
    return ArtNetTalk(start, IpProg(is_reply=False), phrase("ask for its address"))


class SetByArtNet(field_way.SetByField):
    """Programs a node, and follows it; the reply is often lost with the move."""

    name, what = "artnet", "node"

    @classmethod
    def told(cls, start: Start) -> list[str]:
        """Return what programs it."""
        at, gateway = start.target.interface, start.target.gateway
        return [
            phrase(
                "program {ip} {netmask} gateway {gateway}" if gateway else "program {ip} {netmask}",
                ip=at.ip,
                netmask=at.netmask,
                gateway=gateway,
            )
        ]

    @classmethod
    def writes(cls, start: Start) -> tuple[str, ...]:
        """Return what its packet has room for."""
        return ("mask", *(("gateway",) if start.target.gateway else ()))

    def _arrived(self, now: float) -> None:
        """Claim to have given it what its reply confirms only."""
        talk, target = self._conversation, self.target
        reply = talk.reply if isinstance(talk, ArtNetTalk) else None
        confirmed = {
            "mask": reply is not None and reply.mask == target.interface.netmask,
            "gateway": reply is not None and target.gateway is not None and reply.gateway == target.gateway,
        }
        self.wrote = tuple(each for each in self.wrote or () if confirmed[each])
        super()._arrived(now)

    def _set(self) -> ArtNetTalk:
        target = self._start.target
        command = ipprog.SET_WITH_GATEWAY if target.gateway else ipprog.SET
        gateway = target.gateway or UNSPECIFIED
        packet = IpProg(False, target.interface.ip, target.interface.netmask, gateway, command)
        return ArtNetTalk(self._start, packet, self.told(self._start)[0])


ENTRY = field_way.field_entry(
    SetByArtNet,
    says=phrase("programs its Art-Net node (ArtIpProg), and follows it. Needs --at"),
    does="program it by Art-Net, and follow it to {target}",
    why=phrase("its node is programmed, and says itself what it has."),
    tells=("mask", "gateway"),
    reads=read_by_art_net,
)
