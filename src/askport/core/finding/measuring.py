"""Measuring a device's mask and gateway from outside.

A question goes to its MAC and IP address from a source that nobody has. Its answer goes straight to a source inside
its subnet, and to its gateway for a source outside; which of the two, the MAC address says that the answer goes to
(``questioning.stand_in_mac``). Halving the distance over the source finds the prefix length.

ARP requests alone decide nothing: a device asks for servers of its own meanwhile, asks late and again, and asks for
nobody whom it remembers. They are only answered, so that it can answer in its turn.
"""

from collections.abc import Callable, Collection, Generator
from dataclasses import replace
from ipaddress import IPv4Address

from askport.core.addresses import LINK_LOCAL, MacAddress, common_prefix, host_fault_of
from askport.core.finding.beliefs import Measurement
from askport.core.finding.questioning import (
    Kind,
    Probe,
    Reaction,
    broadcasts_of,
    closing_frame,
    question_frame,
    sources_sharing,
    stand_in_mac,
    stood_in_for,
)
from askport.core.formats.arp import Arp, Op, arp_frame, arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.machine import Machine
from askport.core.wire import Heard, Link

_OUTERMOST, _INNERMOST = 7, 30
"""A source that shares 7 bits is outside of every private subnet; one that shares 30 is inside of all that have
room for two hosts."""
_NEAR = 28
_GATEWAY_LIKE = frozenset({1, 254})
"""Last octets that gateways have: nobody's address is asked from where it can be helped."""
_ASK_FIRST_S = 0.15
"""How long anybody may take to say that a source is theirs."""
_REACT_S = 0.6
"""How long the first reaction may take; later ones get four times what the first took, within these bounds."""
_LEAST_S, _MOST_S = 0.2, 2.4
_REPEATS = 2
"""How often a question is put before it counts as unanswered: some drop what they first have to ask a next hop for."""
_REMEMBERS_S = 3.0
"""How long it is waited before asking again one that sends through a MAC address which it remembers of a gateway; its
next check of that neighbour says whose it is, or ends with asking everybody (RFC 4861 section 7.3.3, kernels for IPv4
too)."""
_REMEMBERED = 4
_MOST_ASKED = 12
"""Addresses that it is answered for beside sources: its gateway and servers that it looks for."""
MAX_QUESTIONS = 64
_WIDEST_BESIDE = 16
"""Masks beside are looked for from here on; no device of the trade has a wider one as its narrower."""

_Due = Probe | float | tuple[IPv4Address, ...]
"""What comes next: a question, so many seconds of waiting, or sources that are to be asked about beforehand."""
_Search = Generator[_Due, Reaction, Measurement]


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
        seed: int = 0,
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
            seed: which sources come first: another in each run.
        """
        super().__init__()
        self._laptop_mac, self.mac, self.address, self._seed = laptop_mac, mac, address, seed
        self._avoid, self._ours = set(avoid) | set(ours), set(ours)
        self._asked_from = asked_from if asked_from is not None else set()
        self.sources: set[IPv4Address] = set()
        """Addresses that were used as sources: what the device asks of these, it was made to ask."""
        self.result: Measurement | None = None
        self.questions = 0
        """Those of the search; those that look for another mask beside count for themselves."""
        self._controls = 0
        self._gateways: list[IPv4Address | MacAddress] = []
        """The next hop of each answer that went to another than its source, by its address where that is known."""
        self._owners: dict[MacAddress, IPv4Address] = {}
        """Of MAC addresses that the device remembers, whose they are: it asks them straight now and then."""
        self._asked_for: set[IPv4Address] = set()
        self._taken: set[IPv4Address] = set()
        self._is_nobodys: set[IPv4Address] = set()
        """Addresses that were asked for, and that nobody has answered for."""
        self._reacts_s, self._asked_at = _REACT_S, now
        self._source: IPv4Address | None = None
        self._question: Probe | None = None
        self._is_asking = self._asks_by_arp = self._has_answered = False
        self._times = 0
        self._deadline: float | None = now
        self._search = self._halve()
        self._go_on(lambda: next(self._search), now)

    @property
    def done(self) -> bool:
        """Whether there is a result."""
        return self.result is not None

    # The search

    def _halve(self) -> _Search:
        if self.address in LINK_LOCAL:
            return self._found(16, None, "A link-local address always has /16 and no gateway (RFC 3927).")
        # From a source that is surely inside of all but the smallest subnets.
        kind, reaction = Kind.ECHO, Reaction.SILENT
        for kind in Kind:
            reaction = yield Probe(_NEAR, kind)
            if reaction is not Reaction.SILENT:
                break
        outside, inside = _OUTERMOST, _NEAR
        if reaction is Reaction.THROUGH:
            hop = self._gateways[-1]
            # Its gateway is always inside, and may be the only other address there.
            inside = common_prefix(self.address, hop) if isinstance(hop, IPv4Address) else _INNERMOST
            outside, inside = _NEAR, min(_INNERMOST, inside)
            if inside <= outside:
                return self._hidden("Even the address next to its own goes through its gateway.")
        elif reaction is Reaction.SILENT:
            for kind in Kind:
                reaction = yield Probe(_INNERMOST, kind)
                if reaction is not Reaction.SILENT:
                    break
            if not _is_inside(reaction):
                return self._hidden(_WHY_HIDDEN[reaction])
            outside, inside = _NEAR, _INNERMOST
        while inside - outside > 1:
            middle = (inside + outside) // 2
            if _is_inside((yield Probe(middle, kind))):
                inside = middle
            else:
                outside = middle
        return (yield from self._verify(inside, kind))

    def _verify(self, prefix: int, kind: Kind) -> _Search:
        """Ask again on both sides of the end, from other sources and in more than one way, before believing it."""
        others = [each for each in Kind if each is not kind]
        if prefix < _INNERMOST and not _is_inside((yield Probe(prefix, kind, 1))):
            return self._hidden(f"It answered one source that shares {prefix} bits and not another.")
        # Only what was asked in every way stays for "silent", and only what came twice is its gateway.
        for variant, each in enumerate((kind, *others), 1):
            reaction = yield Probe(prefix - 1, each, variant)
            if _is_inside(reaction):
                if prefix == _OUTERMOST + 1:
                    return self._hidden(_WHY_HIDDEN[reaction])
                return self._hidden(f"It answered one source that shares {prefix - 1} bits and not another.")
            if len(self._gateways) > 1:
                break
        if hidden := (yield from self._mask_beside(prefix, kind)):
            return hidden
        yield from self._ask_until_named(prefix, kind)
        return self._conclude(prefix)

    def _mask_beside(self, prefix: int, kind: Kind) -> Generator[_Due, Reaction, Measurement | None]:
        """See whether a longer mask stands beside: its broadcast address gets no answer, though the mask has room.

        A device with two addresses answers all that either subnet holds, so that the wider hides the narrower. But no
        host answers the broadcast address of any of its subnets (RFC 1122 section 3.2.1.3), and hosts do answer the
        same address one subnet further, unless they take every address like it for a broadcast.
        """
        pairs = {each: broadcasts_of(self.address, each) for each in range(max(prefix + 1, _WIDEST_BESIDE), _INNERMOST)}
        # The broadcast address of its own mask gets no answer anyway, and may be that of longer ones too.
        avoid = self._avoid | {self.address, broadcasts_of(self.address, prefix)[0]}
        pairs = {each: pair for each, pair in pairs.items() if avoid.isdisjoint(pair)}
        yield tuple(own for own, _ in pairs.values())
        for longer, (own, beside) in pairs.items():
            if own in self._taken or beside in self._taken:
                continue
            if _is_inside((yield Probe(longer, kind, 0, own))):
                continue
            control = yield Probe(longer, kind, 0, beside)
            again = yield Probe(longer, kind, 0, own)
            if _is_inside(control) and not _is_inside(again):
                text = f"It has another address beside this one: one of them has the mask /{prefix}, the other"
                return self._hidden(f"{text} /{longer}, and which has which is not shown.")
        return None

    def _ask_until_named(self, prefix: int, kind: Kind) -> Generator[_Due, Reaction, None]:
        """Ask on where it sends through a gateway of which it remembers the MAC address, until it says whose it is."""
        for turn in range(_REMEMBERED):
            if not self._gateways or any(isinstance(each, IPv4Address) for each in self._named):
                return
            yield _REMEMBERS_S
            yield Probe(prefix - 1, kind, turn)

    @property
    def _named(self) -> list[IPv4Address | MacAddress]:
        return [self._owners.get(each, each) if isinstance(each, MacAddress) else each for each in self._gateways]

    def _conclude(self, prefix: int) -> Measurement:
        named = self._named
        known = [each for each in named if isinstance(each, IPv4Address)]
        if not named:
            text = f"Its mask was measured: /{prefix}. To addresses outside it stays silent: it has no gateway."
            return replace(self._found(prefix, None, text), has_gateway=False)
        if len(set(known)) > 1:
            text = f"Its mask was measured: /{prefix}. It sends through more than one gateway."
            return self._found(prefix, None, text)
        if not known:
            text = f"Its mask was measured: /{prefix}. It sends through a gateway that it had asked for before."
            return self._found(prefix, None, text)
        text = f"Its mask was measured: /{prefix}; its gateway: {known[0]}."
        return self._found(prefix, known[0], text)

    def _found(self, prefix: int, gateway: IPv4Address | None, because: str) -> Measurement:
        return Measurement(
            prefix=prefix, gateway=gateway, because=because, questions=self.questions, answered=self._has_answered
        )

    def _hidden(self, because: str) -> Measurement:
        text = f"Its mask cannot be measured from outside. {because}"
        return replace(self._found(0, None, text), prefix=None)

    # One question after the other

    def _go_on(self, step: Callable[[], _Due], now: float) -> None:
        try:
            due = step()
        except StopIteration as end:
            self._finish(end.value)
            return
        if self.questions + self._controls >= MAX_QUESTIONS:
            self._finish(self._hidden("It answered differently each time."))
        elif isinstance(due, float | tuple):
            self._question, self._source, self._is_asking = None, None, False
            if isinstance(due, tuple):
                self._is_nobodys.update(due)
                for each in due:
                    self._send(arp_question(self._laptop_mac, each))
            self._deadline = now + (due if isinstance(due, float) else _ASK_FIRST_S)
        else:
            self._prepare(due, now)

    def _prepare(self, question: Probe, now: float) -> None:
        """Ask whether anybody holds the source, before it is used; it is never announced."""
        self._question, self._is_asking, self._times = question, False, 0
        self._source = self._unused(question)
        if self._source is None:  # no answer may be made of a question that was not asked
            self._finish(self._hidden("Every address that it could be asked from is somebody's."))
            return
        self.sources.add(self._source)
        self._asked_from.add(self._source)
        if self._source in self._is_nobodys:
            self._ask(now)
            return
        self._is_nobodys.add(self._source)
        self._send(arp_question(self._laptop_mac, self._source))
        self._deadline = now + _ASK_FIRST_S

    def _unused(self, question: Probe) -> IPv4Address | None:
        """Return a source that nobody has: a fresh one, or one that was asked from before where there is no other."""
        nobodys = self._taken | self._avoid | {each for each in self._named if isinstance(each, IPv4Address)}
        if question.source:
            return question.source if question.source not in nobodys else None
        found = sources_sharing(self.address, question.shared, self._seed + question.variant)
        free = [each for each in found if each not in nobodys and each not in LINK_LOCAL and not host_fault_of(each)]
        small = question.shared >= _INNERMOST - 1
        plain = [each for each in free if small or int(each) & 0xFF not in _GATEWAY_LIKE]
        fresh = (each for each in plain if each not in self.sources)
        return next(fresh, None) or next(iter(plain), None)

    def _ask(self, now: float) -> None:
        if self._question is None or self._source is None:
            return
        if self._question.source is None:
            self.questions += 1
        else:
            self._controls += 1
        self._times += 1
        count = self.questions + self._controls
        frame = question_frame(self._laptop_mac, self.mac, self.address, self._source, self._question.kind, count)
        self._send(frame)
        self._is_asking, self._asked_at, self._asks_by_arp = True, now, False
        self._deadline = now + self._reacts_s

    def _reacted(self, reaction: Reaction, now: float) -> None:
        if reaction is not Reaction.SILENT:
            self._has_answered = True
            self._reacts_s = max(_LEAST_S, min(_MOST_S, 4 * (now - self._asked_at)), self._reacts_s / 2)
        self._is_asking = False
        self._go_on(lambda: self._search.send(reaction), now)

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
        if self.done or ethernet is None or ethernet.src == self._laptop_mac or stood_in_for(ethernet.src):
            return
        if ethernet.src != self.mac:
            if arp and arp.op == Op.REPLY and arp.spa == self._source:
                self._taken.add(arp.spa)
            self._finish(self._hidden(f"{ethernet.src} is on this wire too, and its neighbours would be disturbed."))
            return
        if arp:
            self._hear_arp(arp, ethernet, heard.at)
            return
        ipv4 = heard.packet.get(IPv4)
        if ipv4 and self._is_asking and ipv4.src == self.address and ipv4.dst == self._source:
            if closing := closing_frame(heard.packet, self._laptop_mac):
                self._send(closing)
            self._reacted(self._where_to(ethernet.dst, ipv4.dst), heard.at)

    def _where_to(self, mac: MacAddress, source: IPv4Address) -> Reaction:
        """Return what an answer's next hop says."""
        hop = stood_in_for(mac)
        if hop == source:
            return Reaction.INSIDE
        if mac == self._laptop_mac:
            return Reaction.STRAIGHT
        self._gateways.append(mac if hop is None else hop)
        return Reaction.THROUGH

    def _hear_arp(self, arp: Arp, ethernet: Ethernet, at: float) -> None:
        if arp.op == Op.REPLY and arp.spa in self._is_nobodys:
            self._is_nobodys.discard(arp.spa)
            self._taken.add(arp.spa)  # the device holds it too
            if self._question and arp.spa == self._source and not self._is_asking:
                self._prepare(self._question, at)
            return
        if arp.op != Op.REQUEST or arp.spa == arp.tpa or arp.is_probe or arp.tpa in self._ours - self.sources:
            return
        if not ethernet.dst.is_group and stood_in_for(ethernet.dst) is None and ethernet.dst != self._laptop_mac:
            self._owners[ethernet.dst] = arp.tpa  # it checks a neighbour that it remembers
        known = arp.tpa in self.sources | self._asked_for
        if not known and len(self._asked_for) >= _MOST_ASKED:
            return
        if arp.tpa not in self.sources:
            self._asked_for.add(arp.tpa)
        mac = stand_in_mac(arp.tpa)
        # Each is answered, or it would ask on and answer nothing. What it makes of that is seen in where it answers.
        reply = Arp(op=Op.REPLY, sha=mac, spa=arp.tpa, tha=self.mac, tpa=arp.spa)
        self._send(arp_frame(reply, to=self.mac))
        if self._is_asking:
            self._asks_by_arp = True
            self._deadline = max(self._deadline or at, at + self._reacts_s)

    def next_deadline(self) -> float | None:
        """Return when the question under way is over."""
        return self._deadline

    def handle_timer(self, now: float) -> None:
        """Ask, or take what has come."""
        if self._deadline is None or now < self._deadline:
            return
        if self._question is None:
            self._go_on(lambda: self._search.send(Reaction.SILENT), now)
        elif not self._is_asking or (self._times < _REPEATS and (self._asks_by_arp or not self._has_answered)):
            self._ask(now)
        else:
            self._reacted(Reaction.SILENT, now)


_WHY_HIDDEN = {
    Reaction.SILENT: "It reacted to neither ping, TCP nor UDP from addresses beside its own.",
    Reaction.STRAIGHT: "It answers straight to the sender's MAC address without asking for anybody by ARP.",
    Reaction.INSIDE: "It asks by ARP for every address, whether in its subnet or not.",
    Reaction.THROUGH: "Even the address next to its own is outside its subnet.",
}


def _is_inside(reaction: Reaction) -> bool:
    return reaction in (Reaction.INSIDE, Reaction.STRAIGHT)
