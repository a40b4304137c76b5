"""Measuring a device's mask and gateway from outside.

A question sent to its MAC and IP address from a source inside its subnet makes it ask for that source by ARP; from a
source outside, it asks for its gateway, or stays silent where it has none. Halving the distance over the source finds
the prefix length.
"""

from collections.abc import Collection, Generator
from dataclasses import dataclass, replace
from enum import Enum, auto
from ipaddress import IPv4Address

from askport.core.addresses import LINK_LOCAL, MacAddress, common_prefix, host_fault_of
from askport.core.finding.beliefs import Measurement
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.icmp import Icmp, IcmpType
from askport.core.formats.ipv4 import IPv4
from askport.core.formats.packet import STAYS_ON_LINK, Ends, frame_between
from askport.core.formats.tcp import Tcp, TcpFlag
from askport.core.formats.udp import Udp
from askport.core.machine import Machine
from askport.core.wire import Heard, Link

_OUTERMOST, _INNERMOST = 7, 30
"""A source that shares 7 bits is outside of every private subnet; one that shares 30 is inside of all that have
room for two hosts."""
_NEAR = 28
_GATEWAY_LIKE = frozenset({1, 254})
"""Last octets that gateways have: a device that has asked for its gateway already shows no ARP for it."""
_ASK_FIRST_S = 0.15
"""How long anybody may take to say that a source is theirs."""
_REACT_S = 0.6
"""How long the first reaction may take; later ones get four times what the first took, and this at the least half."""
_SETTLE_S = 0.12
"""After it asked for another address than the source, the source may still follow."""
_LOW_BITS = (1, 2, 5, 6, 9, 10, 13, 14, 17, 18, 21, 22, 25, 26, 33, 34)
"""Host bits of sources: the last two are 01 or 10, and so never all ones or all zeros, whatever the prefix."""
MAX_QUESTIONS = 10


class Kind(Enum):
    """Kinds of question; no one of them works on every stack."""

    ECHO = auto()
    TCP = auto()
    UDP = auto()


class Reaction(Enum):
    """What a device did."""

    ASKED_SOURCE = auto()
    """It asked for the source: the source is inside its subnet."""
    ASKED_OTHER = auto()
    """It asked for another address, which is its gateway: the source is outside."""
    ANSWERED = auto()
    """It answered to the laptop's MAC address without asking: by a gateway it has asked for, or without any ARP."""
    SILENT = auto()


_WHY_HIDDEN = {
    Reaction.SILENT: "It reacted to neither ping, TCP nor UDP from addresses beside its own.",
    Reaction.ANSWERED: "It answers straight to the sender's MAC address without asking for anybody by ARP.",
    Reaction.ASKED_OTHER: "Even the address next to its own is outside its subnet.",
}


@dataclass(frozen=True, slots=True)
class Question:
    """One question: how many leading bits its source shares with the device's address, which of the sources that do,
    and its kind."""

    shared: int
    variant: int
    kind: Kind


def source_sharing(address: IPv4Address, shared: int, variant: int = 0) -> IPv4Address | None:
    """Return a source that shares exactly this many leading bits with an address, or None where no more are left."""
    below = 31 - shared
    base = (int(address) >> below ^ 1) << below
    if below == 1:
        # Host bits 01 and 10 are the two that a /30 has room for.
        return IPv4Address(base | (base >> 1 & 1 ^ 1)) if variant == 0 else None
    lows = [each for each in _LOW_BITS if each < (1 << below) - 1]
    return IPv4Address(base | lows[variant]) if variant < len(lows) else None


class Measuring(Machine):
    """Measures one address of one device, on a wire that carries this device alone."""

    def __init__(
        self,
        laptop_mac: MacAddress,
        mac: MacAddress,
        address: IPv4Address,
        *,
        now: float,
        avoid: Collection[IPv4Address] = (),
        ours: Collection[IPv4Address] = (),
        asked_from: set[IPv4Address] | None = None,
    ) -> None:
        """Begin now.

        Args:
            laptop_mac: the asking end.
            mac: the device.
            address: its address.
            now: the wire's time.
            avoid: addresses that it has asked for already, or that somebody is known to hold.
            ours: the laptop's addresses, which the device may look for meanwhile and which are no gateway of its.
            asked_from: where each source is put before it is used, so that nobody who listens takes it for a gateway.
        """
        super().__init__()
        self._laptop_mac, self.mac, self.address = laptop_mac, mac, address
        self._avoid, self._ours = set(avoid) | set(ours), set(ours)
        self._asked_from = asked_from if asked_from is not None else set()
        self.sources: set[IPv4Address] = set()
        """Addresses that were used as sources: what the device asks of these, it was made to ask."""
        self.result: Measurement | None = None
        self.questions = 0
        self._gateways: list[IPv4Address] = []
        self._outside_seen = 0
        """Reactions by which it sent, or tried to send, through a gateway."""
        self._search = self._halve()
        self._source: IPv4Address | None = None
        self._taken: set[IPv4Address] = set()
        self._asked_other: IPv4Address | None = None
        self._answered = False
        self._asked_at = now
        self._reacts_s = _REACT_S
        self._deadline: float | None = now
        self._question: Question | None = None
        self._is_asking = False
        try:
            self._prepare(next(self._search), now)
        except StopIteration as end:
            self._finish(end.value)

    @property
    def done(self) -> bool:
        """Whether there is a result."""
        return self.result is not None

    # The search

    def _halve(self) -> Generator[Question, Reaction, Measurement]:
        if self.address in LINK_LOCAL:
            return self._found(16, None, "A link-local address always has /16 and no gateway (RFC 3927).")
        # From a source that is surely inside of all but the smallest subnets, and is nobody's idea of a gateway.
        kind, reaction = Kind.ECHO, Reaction.SILENT
        for kind in Kind:
            reaction = yield Question(_NEAR, 1, kind)
            if reaction is not Reaction.SILENT:
                break
        outside, inside = _OUTERMOST, _NEAR
        if reaction is Reaction.ASKED_OTHER and self._asked_other:
            # Its gateway is always inside, and may be the only other address there.
            outside, inside = _NEAR, min(_INNERMOST, common_prefix(self.address, self._asked_other))
        elif reaction is not Reaction.ASKED_SOURCE:
            for each in Kind if reaction is Reaction.SILENT else (kind,):
                kind, reaction = each, (yield Question(_INNERMOST, 0, each))
                if reaction is not Reaction.SILENT:
                    break
            if reaction in _WHY_HIDDEN:
                return self._hidden(_WHY_HIDDEN[reaction])
            outside, inside = _NEAR, _INNERMOST
        while inside - outside > 1:
            middle = (inside + outside) // 2
            reaction = yield Question(middle, 0, kind)
            if reaction is Reaction.ASKED_SOURCE:
                inside = middle
            else:
                outside = middle
        return (yield from self._verify(inside, kind))

    def _verify(self, prefix: int, kind: Kind) -> Generator[Question, Reaction, Measurement]:
        """Ask again from just outside, in more than one way, before believing where the subnet ends."""
        others = [each for each in Kind if each is not kind]
        for variant, each in enumerate((kind, *others), 1):
            if self.questions >= MAX_QUESTIONS:
                break
            reaction = yield Question(prefix - 1, variant, each)
            if reaction is Reaction.ASKED_SOURCE:
                if prefix == _OUTERMOST + 1:
                    return self._hidden("It asks by ARP for every address, whether in its subnet or not.")
                return self._hidden(f"It asked for one source that shares {prefix - 1} bits and not for another.")
            if self._outside_seen > 1:
                break
        if self._outside_seen and not self._gateways and prefix == _INNERMOST:
            self._gateways.append(source_sharing(self.address, _INNERMOST) or self.address)  # nobody else has room
        if self._outside_seen and not self._gateways:
            text = f"Its mask was measured: /{prefix}. It sends through a gateway that it had asked for before."
            return self._found(prefix, None, text)
        if not self._gateways:
            text = f"Its mask was measured: /{prefix}. To addresses outside it stays silent: it has no gateway."
            return replace(self._found(prefix, None, text), has_gateway=False)
        gateway = max(set(self._gateways), key=self._gateways.count)
        text = f"Its mask was measured: /{prefix}; its gateway: {gateway}."
        return self._found(prefix, gateway, text)

    def _found(self, prefix: int, gateway: IPv4Address | None, because: str) -> Measurement:
        return Measurement(prefix=prefix, gateway=gateway, because=because, questions=self.questions)

    def _hidden(self, because: str) -> Measurement:
        text = f"Its mask cannot be measured from outside. {because}"
        return Measurement(prefix=None, gateway=None, because=text, questions=self.questions)

    # One question after the other

    def _prepare(self, question: Question, now: float) -> None:
        """Ask whether anybody holds the source, before it is used; it is never announced."""
        self._question, self._is_asking = question, False
        self._asked_other, self._answered = None, False
        self._source = self._unused(question)
        if self._source is None:  # no answer may be made of a question that was not asked
            self._finish(self._hidden("Every address that it could be asked from is somebody's."))
            return
        self.sources.add(self._source)
        self._asked_from.add(self._source)
        self._send(arp_question(self._laptop_mac, self._source))
        self._deadline = now + _ASK_FIRST_S

    def _unused(self, question: Question) -> IPv4Address | None:
        for variant in range(question.variant, len(_LOW_BITS)):
            source = source_sharing(self.address, question.shared, variant)
            if source is None:
                break
            like_a_gateway = int(source) & 0xFF in _GATEWAY_LIKE and question.shared < _INNERMOST - 1
            wrong = like_a_gateway or source in LINK_LOCAL or host_fault_of(source)
            if not wrong and source not in self._avoid | self._taken | self.sources | set(self._gateways):
                return source
        # Where every other source was used up, one that was asked for in another way may be used again.
        again = source_sharing(self.address, question.shared, 0)
        return again if again not in self._taken | self._avoid | set(self._gateways) else None

    def _ask(self, now: float) -> None:
        if self._question is None or self._source is None:
            return
        ends = Ends(src_mac=self._laptop_mac, src=self._source, dst_mac=self.mac, dst=self.address)
        self.questions += 1
        port = 49152 + self.questions
        messages: dict[Kind, Icmp | Tcp | Udp] = {
            Kind.ECHO: Icmp(
                type=IcmpType.ECHO, identifier=0x4150, sequence_number=self.questions, data=b"askport " * 4
            ),
            Kind.TCP: Tcp(src_port=port, dst_port=80, seq=port, flags=TcpFlag.SYN, window=1024),
            Kind.UDP: Udp(src_port=port, dst_port=33434, payload=b"askport"),
        }
        self._send(frame_between(ends, messages[self._question.kind], STAYS_ON_LINK))
        self._is_asking, self._asked_at = True, now
        self._deadline = now + self._reacts_s

    def _go_on(self, reaction: Reaction, now: float) -> None:
        if reaction is not Reaction.SILENT:
            self._reacts_s = max(_REACT_S / 2, min(_REACT_S * 4, 4 * (now - self._asked_at)))
        self._outside_seen += reaction in (Reaction.ASKED_OTHER, Reaction.ANSWERED)
        if reaction is Reaction.ASKED_OTHER and self._asked_other:
            self._gateways.append(self._asked_other)
        try:
            self._prepare(self._search.send(reaction), now)
        except StopIteration as end:
            self._finish(end.value)

    def _finish(self, result: Measurement) -> None:
        self.result, self._deadline = result, None

    # The machine

    def link_changed(self, link: Link, now: float) -> None:
        """Give up: what answers after this may be another device."""
        if not self.done:
            self._finish(self._hidden("The link went down meanwhile."))

    def receive(self, heard: Heard) -> None:
        """See what the device does."""
        ethernet, arp = heard.packet.get(Ethernet), heard.packet.get(Arp)
        if self.done or ethernet is None or ethernet.src == self._laptop_mac:
            return
        if ethernet.src != self.mac:
            if arp and arp.op == Op.REPLY and arp.spa == self._source:
                self._taken.add(arp.spa)
            self._finish(self._hidden(f"{ethernet.src} is on this wire too, and its neighbours would be disturbed."))
            return
        if arp:
            self._hear_arp(arp, heard.at)
            return
        ipv4 = heard.packet.get(IPv4)
        if ipv4 and self._is_asking and ipv4.dst == self._source and ethernet.dst == self._laptop_mac:
            self._answered = True
            self._settle(heard.at)

    def _hear_arp(self, arp: Arp, at: float) -> None:
        if arp.op == Op.REPLY and arp.spa == self._source and not self._is_asking:
            self._taken.add(arp.spa)  # the device holds it too
            if self._question:
                self._prepare(self._question, at)
            return
        if arp.op != Op.REQUEST or arp.spa != self.address or arp.tpa == self.address:
            return
        # Its question is answered, or it would ask on and its late questions look like answers to the next of ours.
        reply = Arp(op=Op.REPLY, sha=self._laptop_mac, spa=arp.tpa, tha=self.mac, tpa=arp.spa)
        if arp.tpa == self._source and self._is_asking:
            self._send(arp_frame(reply, to=self.mac))
            self._go_on(Reaction.ASKED_SOURCE, at)
        elif arp.tpa not in self.sources | self._ours and self._is_asking:
            self._send(arp_frame(reply, to=self.mac))
            self._asked_other = arp.tpa
            self._settle(at)

    def _settle(self, at: float) -> None:
        self._deadline = min(self._deadline or at, at + _SETTLE_S)

    def next_deadline(self) -> float | None:
        """Return when the question under way is over."""
        return self._deadline

    def handle_timer(self, now: float) -> None:
        """Ask, or take what has come."""
        if self._deadline is None or now < self._deadline:
            return
        if not self._is_asking:
            self._ask(now)
        elif self._asked_other:
            self._go_on(Reaction.ASKED_OTHER, now)
        else:
            self._go_on(Reaction.ANSWERED if self._answered else Reaction.SILENT, now)
