"""Measuring a device's mask and gateway from outside.

A question goes to its MAC and IP address from a source that nobody has. Its answer goes straight to a source inside
its subnet, and to its gateway for a source outside; which of the two, the MAC address says that the answer goes to
(``questioning.stand_in_mac``). Halving the distance over the source finds the prefix length.

ARP requests alone decide nothing: a device asks for servers of its own meanwhile, asks late and again, and asks for
nobody whom it remembers. They are only answered, so that it can answer in its turn.
"""

from collections.abc import Callable, Collection, Generator, Iterable
from dataclasses import replace
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.addresses import LINK_LOCAL, UNSPECIFIED, MacAddress, common_prefix, host_fault_of
from askport.core.finding import beliefs, questioning
from askport.core.formats.arp import Arp, Op, arp_question
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.phrases import listed, phrase, together

_OUTERMOST, _INNERMOST = 7, 30
"""A source that shares 7 bits is outside of every private subnet; one that shares 30 is inside of all that have
room for two hosts."""
_NEAREST = (28, 27, 26, 25, 29)
"""How many bits the first source shares: of addresses like its own, many are planned for others."""
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
MAX_QUESTIONS = 120
_FAR = tuple(
    map(IPv4Address, ("192.0.2.9", "198.51.100.77", "203.0.113.33", "192.0.2.201", "198.51.100.154", "203.0.113.222"))
)
"""Addresses outside all private ranges that nobody has (RFC 5737): as many as show a second route of equal cost."""
_DIFFERS = phrase("It answered differently each time.")
_NO_SOURCE = phrase("Every address that it could be asked from is planned, or somebody's.")
_WIDEST_BESIDE = 16
"""Masks beside are looked for from here on; no device of the trade has a wider one as its narrower."""

_Due = questioning.Probe | float | tuple[IPv4Address, ...]
"""What comes next: a question, so many seconds of waiting, or sources that are to be asked about beforehand."""
_Search = Generator[_Due, questioning.Reaction, beliefs.Measurement]
_Asks = Generator[_Due, questioning.Reaction, questioning.Reaction]


class Measuring(machine.Machine):
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
        laptop_macs: Collection[MacAddress] = (),
    ) -> None:
        """Begin now.

        Args:
            avoid: addresses that it has asked for already, or that somebody is known to hold.
            ours: the laptop's addresses, which the device may look for meanwhile and which are no gateway of its.
            asked_from: where each source is put before it is used, so that nobody who listens takes it for a gateway.
            laptop_macs: all that the laptop has on this cable: one of its places may have borrowed a source meanwhile.
        """
        super().__init__()
        self._laptop_mac, self.mac, self.address, self._seed = laptop_mac, mac, address, seed
        self._avoid, self._ours, self._laptop_macs = set(avoid) | set(ours), set(ours), frozenset(laptop_macs)
        self._asked_from = asked_from if asked_from is not None else set()
        self.sources: set[IPv4Address] = set()
        """Addresses that were used as sources: what the device asks of these, it was made to ask."""
        self.result: beliefs.Measurement | None = None
        self.questions = 0
        """Frames that were asked with, beside those that see whether a source is somebody's."""
        self._gateways: list[IPv4Address | MacAddress] = []
        """The next hop of each answer that went to another than its source, by its address where that is known."""
        self._owners: dict[MacAddress, set[IPv4Address]] = {}
        """Of MAC addresses that the device remembers, whose they are: it asks them straight now and then."""
        self._asked_for: set[IPv4Address] = set()
        self._taken: set[IPv4Address] = set()
        self._is_nobodys: set[IPv4Address] = set()
        """Addresses that were asked for, and that nobody has answered for."""
        self._reacts_s, self._asked_at = _REACT_S, now
        self._source: IPv4Address | None = None
        self._question: questioning.Probe | None = None
        self._is_asking = self._asks_by_arp = self._has_answered = False
        self._times = 0
        self._deadline: float | None = now
        self._kinds, self._was_silent = list(questioning.Kind), False
        """Kinds of question, the one that got the last reaction first, and whether some question got none in any."""
        self._search = self._halve()
        self._go_on(lambda: next(self._search), now)

    @property
    def done(self) -> bool:
        return self.result is not None

    # The search

    def _halve(self) -> _Search:
        if self.address in LINK_LOCAL:
            return self._found(16, None, phrase("A link-local address always has /16 and no gateway (RFC 3927)."))
        # From a source that is surely inside of all but the smallest subnets.
        near = next((each for each in _NEAREST if self._sources(each)), None)
        if near is None:
            return self._hidden(_NO_SOURCE)
        yield tuple(found[0] for each in range(_OUTERMOST + 1, _INNERMOST + 1) if (found := self._sources(each)))
        reaction = yield from self._ask_any(near)
        outside, inside = _OUTERMOST, near
        if reaction is questioning.Reaction.THROUGH:
            hop = self._gateways[-1]
            # Its gateway is always inside, and may be the only other address there.
            inside = common_prefix(self.address, hop) if isinstance(hop, IPv4Address) else _INNERMOST
            outside, inside = near, min(_INNERMOST, inside)
            if inside <= outside:
                return self._hidden(phrase("Even the address next to its own goes through its gateway."))
        elif reaction is questioning.Reaction.SILENT:
            if not self._sources(_INNERMOST):  # those next to its own are planned for its neighbours
                return self._hidden(_WHY_HIDDEN[reaction])
            reaction = yield from self._ask_any(_INNERMOST)
            if not _is_inside(reaction):
                return self._hidden(_WHY_HIDDEN[reaction])
            outside, inside = near, _INNERMOST
        while inside - outside > 1:
            between = sorted(range(outside + 1, inside), key=lambda each: abs(each - (inside + outside) // 2))
            middle = next((each for each in between if self._sources(each)), None)
            if middle is None:
                return self._hidden(_NO_SOURCE)
            if _is_inside((yield from self._ask_any(middle))):
                inside = middle
            else:
                outside = middle
        return (yield from self._verify(inside))

    def _ask_any(self, shared: int, variant: int = 0, source: IPv4Address | None = None) -> _Asks:
        """Ask in the way that had an answer last, and in all others where that has none: one limits pings, one TCP."""
        kinds = self._kinds if self._was_silent else self._kinds[:1]  # at once, where silence is to be expected
        reaction = yield questioning.Probe(shared, tuple(kinds), variant, source)
        if reaction is questioning.Reaction.SILENT and (others := self._kinds[len(kinds) :]):
            again = self._source if self._source not in self._somebodys else None
            reaction = yield questioning.Probe(shared, tuple(others), variant, again)
        self._was_silent |= reaction is questioning.Reaction.SILENT
        return reaction

    def _verify(self, prefix: int) -> _Search:
        """Ask again on both sides of the end, from other sources and in more than one way, before believing it."""
        if prefix < _INNERMOST and not _is_inside((yield from self._ask_any(prefix, 1))):
            return self._hidden(
                phrase("It answered one source that shares {prefix} bits and not another.", prefix=prefix)
            )
        inside = self._source
        self._gateways.clear()  # what is beyond the end alone counts from here on
        for variant, shared in enumerate((prefix - 1, prefix - 1, prefix - 2, prefix - 3), 1):
            has_sources = variant == 1 or self._sources(shared, variant)
            if shared < _OUTERMOST or not has_sources or (variant > 1 and not self._gateways):
                break
            reaction = yield from self._ask_any(shared, variant)
            if _is_inside(reaction):
                if prefix == _OUTERMOST + 1:
                    return self._hidden(_WHY_HIDDEN[reaction])
                return self._hidden(
                    phrase("It answered one source that shares {shared} bits and not another.", shared=shared)
                )
        if not self._gateways and (hidden := (yield from self._end_unshown(prefix, inside))):
            return hidden
        if hidden := (yield from self._mask_beside(prefix)):
            return hidden
        beyond = list(self._gateways)
        if beyond:
            yield from self._ask_from_afar()
            yield from self._ask_until_named(prefix)
        return self._conclude(prefix, len(beyond))

    def _end_unshown(
        self, prefix: int, inside: IPv4Address | None
    ) -> Generator[_Due, questioning.Reaction, beliefs.Measurement | None]:
        """Where it is silent beyond the end, see that it is its mask that ends there, and not what it lets in.

        No host answers the broadcast address of its subnet as it answers a host: it stays silent (RFC 1122 section
        3.2.1.3), or answers everybody, as Linux does. With a wider mask, and a list of those whom it lets in, that
        address is one like any other.
        """
        own, _ = questioning.broadcasts_of(self.address, prefix)
        if own == self.address:
            return self._hidden(phrase("Beyond /{prefix} it answers nobody, which shows no mask.", prefix=prefix))
        yield (own,)
        if own in self._somebodys:
            return self._hidden(_NO_SOURCE)
        reaction = yield from self._ask_any(prefix, 0, own)
        if reaction is questioning.Reaction.TO_ALL:
            return None
        if reaction is questioning.Reaction.SILENT:
            is_told = yield from self._answers_all_but(own, inside, prefix)
            return None if is_told else self._hidden(_DIFFERS)
        why = phrase(
            "Beyond /{prefix} it answers nobody, but it does not treat {own} as its broadcast address",
            prefix=prefix,
            own=own,
        )
        return self._hidden(phrase("{why}: what ends there may be what it lets in.", why=why))

    def _answers_all_but(
        self, silent: IPv4Address, control: IPv4Address | None, shared: int
    ) -> Generator[_Due, questioning.Reaction, bool]:
        """Whether one source gets no answer, and another beside it does, in an order that chance or a limit has not."""
        for step in (control, control, silent, silent, control, silent, control):
            if _is_inside((yield questioning.Probe(shared, (self._kinds[0],), 1, step))) is (step is silent):
                return False
        return True

    def _mask_beside(self, prefix: int) -> Generator[_Due, questioning.Reaction, beliefs.Measurement | None]:
        """See whether a longer mask stands beside: its broadcast address gets no answer, though the mask has room.

        A device with two addresses answers all that either subnet holds, so that the wider hides the narrower. But no
        host answers the broadcast address of any of its subnets (RFC 1122 section 3.2.1.3), and hosts do answer the
        same address one subnet further, unless they take every address like it for a broadcast.
        """
        longer = range(max(prefix + 1, _WIDEST_BESIDE), _INNERMOST + 1)
        pairs = {each: questioning.broadcasts_of(self.address, each) for each in longer}
        # The broadcast address of its own mask gets no answer anyway, and may be that of longer ones too.
        avoid = self._avoid | {self.address, questioning.broadcasts_of(self.address, prefix)[0]}
        pairs = {each: pair for each, pair in pairs.items() if avoid.isdisjoint(pair)}
        yield tuple(own for own, _ in pairs.values())
        for length, (own, beside) in pairs.items():
            if own in self._taken or beside in self._taken:
                continue
            reaction = yield from self._ask_any(length, 0, own)
            if _is_inside(reaction):
                continue
            if reaction is questioning.Reaction.TO_ALL or (yield from self._answers_all_but(own, beside, length)):
                text = phrase(
                    "It has another address beside this one: one of them has the mask /{prefix}, the other",
                    prefix=prefix,
                )
                return self._hidden(
                    phrase("{text} /{length}, and which has which is not shown.", text=text, length=length)
                )
        return None

    def _ask_from_afar(self) -> Generator[_Due, questioning.Reaction, None]:
        """Ask from addresses outside all private ranges: what is just beyond its mask may have a route of its own."""
        far = [each for each in _FAR if each not in self._avoid and common_prefix(self.address, each) < _OUTERMOST]
        yield tuple(far)
        for source in far:
            if source not in self._taken:
                yield from self._ask_any(0, 0, source)

    def _ask_until_named(self, prefix: int) -> Generator[_Due, questioning.Reaction, None]:
        """Ask on where it sends through a gateway of which it remembers the MAC address, until it says whose it is."""
        for turn in range(_REMEMBERED):
            if any(isinstance(each, IPv4Address) for each in self._named(self._gateways)):
                return
            yield _REMEMBERS_S
            yield from self._ask_any(prefix - 1, turn)

    def _named(self, hops: Iterable[IPv4Address | MacAddress]) -> list[IPv4Address | MacAddress]:
        """Return next hops by their addresses; a MAC address of which none is known, or more than one, stays."""
        owned = {mac: next(iter(known)) for mac, known in self._owners.items() if len(known) == 1}
        return [owned.get(each, each) if isinstance(each, MacAddress) else each for each in dict.fromkeys(hops)]

    def _conclude(self, prefix: int, beyond: int) -> beliefs.Measurement:
        """Say what was measured; the next hops of the first answers are of sources just beyond the mask."""
        mask = phrase("Its mask was measured: /{prefix}", prefix=prefix)
        near, far = (dict.fromkeys(self._named(each)) for each in (self._gateways[:beyond], self._gateways[beyond:]))
        if not near:
            why = phrase(
                "To addresses outside its subnet it stays silent: it has no gateway, or it lets nobody outside in."
            )
            return replace(self._found(prefix, None, f"{mask}. {why}"), why_no_gateway=why)
        hops = far or near
        known = [each for each in hops if isinstance(each, IPv4Address)]
        if len(known) < len(hops):
            (mac, *_) = (each for each in hops if isinstance(each, MacAddress))
            owned = sorted(self._owners.get(mac, set()))
            why = (
                phrase(
                    "It sends through {mac}, which has the addresses {owned}, and does not say which address its "
                    "gateway has.",
                    mac=mac,
                    owned=listed(map(str, owned)),
                )
                if len(owned) > 1
                else phrase("It sends through {mac}, and does not say which address its gateway has.", mac=mac)
            )
        elif not far:
            why = phrase(
                "What is just beyond its subnet goes through {known}; to all other addresses it stays silent.",
                known=known[0],
            )
        elif len(known) > 1:
            why = phrase("It sends through more than one gateway: {gateways}.", gateways=listed(map(str, known)))
        else:
            others = [str(each) for each in near if each not in hops]
            said = phrase("{mask}; its gateway: {known}.", mask=mask, known=known[0])
            more = phrase("What is just beyond its subnet goes through {others}.", others=listed(others))
            return self._found(prefix, known[0], together(said, more if others else ""))
        several = tuple(known) if far and len(known) > 1 else ()
        return replace(self._found(prefix, None, f"{mask}. {why}"), why_no_gateway=why, gateways=several)

    def _found(self, prefix: int, gateway: IPv4Address | None, because: str) -> beliefs.Measurement:
        return beliefs.Measurement(
            prefix=prefix, gateway=gateway, because=because, questions=self.questions, answered=self._has_answered
        )

    def _hidden(self, because: str) -> beliefs.Measurement:
        text = phrase("Its mask cannot be measured from outside. {because}", because=because)
        return replace(self._found(0, None, text), prefix=None)

    # One question after the other

    def _go_on(self, step: Callable[[], _Due], now: float) -> None:
        try:
            due = step()
        except StopIteration as end:
            self._finish(end.value)
            return
        if self.questions >= MAX_QUESTIONS:
            self._finish(self._hidden(_DIFFERS))
        elif isinstance(due, float | tuple):
            self._question, self._source, self._is_asking = None, None, False
            if isinstance(due, tuple):
                self._is_nobodys.update(due)
                for each in due:
                    self._send(arp_question(self._laptop_mac, each))
            self._deadline = now + (due if isinstance(due, float) else _ASK_FIRST_S)
        else:
            self._prepare(due, now)

    def _prepare(self, question: questioning.Probe, now: float) -> None:
        """Ask whether anybody holds the source, before it is used; it is never announced."""
        self._question, self._is_asking, self._times = question, False, 0
        self._source = self._unused(question)
        if self._source is None:  # no answer may be made of a question that was not asked
            self._finish(self._hidden(_NO_SOURCE))
            return
        self.sources.add(self._source)
        if self._source in self._is_nobodys:
            self._ask(now)
            return
        self._is_nobodys.add(self._source)
        self._send(arp_question(self._laptop_mac, self._source))
        self._deadline = now + _ASK_FIRST_S

    def _unused(self, question: questioning.Probe) -> IPv4Address | None:
        """Return a source that nobody has: a fresh one, or one that was asked from before where there is no other."""
        if question.source:
            return question.source if question.source not in self._somebodys else None
        plain = self._sources(question.shared, question.variant)
        fresh = (each for each in plain if each not in self.sources)
        return next(fresh, None) or next(iter(plain), None)

    @property
    def _somebodys(self) -> set[IPv4Address]:
        hops = (each for each in self._named(self._gateways) if isinstance(each, IPv4Address))
        return self._taken | self._avoid | set(hops)

    def _sources(self, shared: int, variant: int = 0) -> list[IPv4Address]:
        """Return the sources that share so many bits and that nobody has."""
        somebodys, small = self._somebodys, shared >= _INNERMOST - 1
        return [
            each
            for each in questioning.sources_sharing(self.address, shared, self._seed + variant)
            if each not in somebodys and each not in LINK_LOCAL and not host_fault_of(each)
            if small or int(each) & 0xFF not in _GATEWAY_LIKE
        ]

    def _ask(self, now: float) -> None:
        if self._question is None or self._source is None:
            return
        self._times += 1
        self._asked_from.add(self._source)
        for kind in self._question.kinds:
            self.questions += 1
            self._send(
                questioning.question_frame(self._laptop_mac, self.mac, self.address, self._source, kind, self.questions)
            )
        self._is_asking, self._asked_at, self._asks_by_arp = True, now, False
        self._deadline = now + self._reacts_s

    def _reacted(self, reaction: questioning.Reaction, now: float) -> None:
        if reaction is not questioning.Reaction.SILENT:
            self._has_answered = True
            self._reacts_s = max(_LEAST_S, min(_MOST_S, 4 * (now - self._asked_at)), self._reacts_s / 2)
        self._is_asking = False
        self._go_on(lambda: self._search.send(reaction), now)

    def _finish(self, result: beliefs.Measurement) -> None:
        self.result, self._deadline = result, None

    # The machine

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Give up: what answers after this may be another device."""
        if not self.done:
            self._finish(self._hidden(phrase("The link went down meanwhile.")))

    def receive(self, heard: wire.Heard) -> None:
        ethernet, arp = heard.packet.get(Ethernet), heard.packet.get(Arp)
        if self.done or ethernet is None or ethernet.src == self._laptop_mac or questioning.stood_in_for(ethernet.src):
            return
        if ethernet.src != self.mac:
            if arp and arp.op == Op.REPLY and arp.spa in self._is_nobodys:
                self._is_somebodys(arp.spa, heard.at)
            # A switch that speaks of itself, or asks for groups without having an address (RFC 4541), is no neighbour.
            elif arp or ((ipv4 := heard.packet.get(IPv4)) and ipv4.src != UNSPECIFIED):
                text = phrase("{src} is on this wire too, and its neighbours would be disturbed.", src=ethernet.src)
                self._finish(self._hidden(text))
            return
        if arp:
            self._hear_arp(arp, ethernet, heard.at)
            return
        ipv4 = heard.packet.get(IPv4)
        if ipv4 is None or ipv4.src != self.address or ipv4.dst not in self.sources:
            return
        if closing := questioning.closing_frame(heard.packet, self._laptop_mac):
            self._send(closing)
        if self._is_asking and ipv4.dst == self._source:
            kind = questioning.kind_of(heard.packet)
            self._kinds.sort(key=lambda each: each is not kind)
            if ethernet.dst != self._laptop_mac and ethernet.dst in self._laptop_macs:
                self._is_asking = False
                self._is_somebodys(ipv4.dst, heard.at)
                return
            self._reacted(self._where_to(ethernet.dst, ipv4.dst), heard.at)

    def _is_somebodys(self, address: IPv4Address, at: float) -> None:
        """Ask from another source where somebody answers for this one, the device itself or one beside it."""
        self._is_nobodys.discard(address)
        self._taken.add(address)
        if self._question and address == self._source and not self._is_asking:
            self._prepare(self._question, at)

    def _where_to(self, mac: MacAddress, source: IPv4Address) -> questioning.Reaction:
        """Return what an answer's next hop says."""
        hop = questioning.stood_in_for(mac)
        if hop == source:
            return questioning.Reaction.INSIDE
        if mac == self._laptop_mac:
            return questioning.Reaction.STRAIGHT
        if mac.is_group:
            return questioning.Reaction.TO_ALL
        self._gateways.append(mac if hop is None else hop)
        return questioning.Reaction.THROUGH

    def _hear_arp(self, arp: Arp, ethernet: Ethernet, at: float) -> None:
        if arp.op == Op.REPLY and arp.spa in self._is_nobodys:
            self._is_somebodys(arp.spa, at)
            return
        if arp.op != Op.REQUEST or arp.spa == arp.tpa or arp.is_probe or arp.tpa in self._ours - self.sources:
            return
        if (
            not ethernet.dst.is_group
            and questioning.stood_in_for(ethernet.dst) is None
            and ethernet.dst != self._laptop_mac
        ):
            self._owners.setdefault(ethernet.dst, set()).add(arp.tpa)  # it checks a neighbour that it remembers
        known = arp.tpa in self.sources | self._asked_for
        if not known and len(self._asked_for) >= _MOST_ASKED:
            return
        if arp.tpa not in self.sources:
            self._asked_for.add(arp.tpa)
        # Each is answered, or it would ask on and answer nothing. What it makes of that is seen in where it answers.
        self._send(questioning.stand_in_answer(arp, self._laptop_mac))
        if self._is_asking:
            self._asks_by_arp = True
            self._deadline = max(self._deadline or at, at + self._reacts_s)

    def next_deadline(self) -> float | None:
        return self._deadline

    def handle_timer(self, now: float) -> None:
        if self._deadline is None or now < self._deadline:
            return
        if self._question is None:
            self._go_on(lambda: self._search.send(questioning.Reaction.SILENT), now)
        elif not self._is_asking or (self._times < _REPEATS and (self._asks_by_arp or not self._has_answered)):
            self._ask(now)
        else:
            self._reacted(questioning.Reaction.SILENT, now)


_WHY_HIDDEN = {
    questioning.Reaction.SILENT: phrase("It reacted to neither ping, TCP nor UDP from addresses beside its own."),
    questioning.Reaction.STRAIGHT: phrase(
        "It answers straight to the sender's MAC address without asking for anybody by ARP."
    ),
    questioning.Reaction.INSIDE: phrase("It asks by ARP for every address, whether in its subnet or not."),
    questioning.Reaction.THROUGH: phrase("Even the address next to its own is outside its subnet."),
    questioning.Reaction.TO_ALL: phrase("It answers everybody, and not whoever asks."),
}


def _is_inside(reaction: questioning.Reaction) -> bool:
    return reaction in (questioning.Reaction.INSIDE, questioning.Reaction.STRAIGHT)
