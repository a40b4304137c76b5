"""Answering the BOOTP or DHCP requests of one chosen MAC address, and of nobody else (RFC 951, 1542, 2131, 2132)."""

from collections import Counter
from collections.abc import Collection
from enum import Enum, auto
from ipaddress import IPv4Address, IPv4Interface

from askport.core import machine, wire
from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, UNSPECIFIED, MacAddress, mask_of_prefix
from askport.core.finding.tracking import Sighting
from askport.core.formats import arp, udp
from askport.core.formats.dhcp import (
    BROADCAST_FLAG,
    CLIENT_PORT,
    SERVER_PORT,
    BootpOp,
    Dhcp,
    MessageType,
    OptionCode,
    Options,
    encode_dhcp,
)
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.packet import Ends, frame_between
from askport.core.phrases import phrase
from askport.core.plan.target import Target
from askport.core.ways.way import Result, Way

LEASE_S = 86_400
"""A day: time to make it permanent at leisure, while a device that nobody told to keep it fails soon, not in weeks."""
_CHECK_QUESTIONS_AT_S = (0.0, 1.0, 2.5)
"""When the laptop itself asks for address servers, from the start of the check."""
_CHECK_S = 6.0
"""How long an answer is waited for: a server may ping what it offers for 3 s first (RFC 2131 section 3.1 step 2)."""
_LINK_BACK_S = 20.0
"""How long a link that drops after an answer is waited for: some devices reset their port to take an address."""
_LOOK_AFTER_S = 0.3
_LOOK_INTERVAL_S = 0.5
"""When the laptop asks whether the address has been taken, after the answer and between questions."""


class State(Enum):
    """Where the way stands."""

    CHECKING = auto()
    """Asking whether somebody else offers DHCP addresses here."""
    READY = auto()
    """Waiting for a request of the chosen device."""
    ANSWERED = auto()
    """The device has its answer and is to show that it took it."""
    ENDED = auto()


class AnsweringRequests(Way):
    """An address server for one MAC address that stops when that device has what it needs.

    It never answers anybody else, first makes sure that no other server is on this wire, and stops for good when
    one is heard or when the link drops after an answer: the cable may be in another socket then.
    """

    name = "dhcp"
    gives = True
    permanent = False

    def __init__(
        self,
        mac: MacAddress,
        target: Target,
        *,
        laptop_mac: MacAddress,
        laptop: IPv4Interface,
        xid: machine.Xid,
        now: float,
        allow_others: bool = False,
        servers: Collection[IPv4Address] = (),
    ) -> None:
        """Prepare to answer.

        Args:
            laptop: the laptop's address in the target subnet, which is the server identifier.
            allow_others: the technician said that other devices on this wire are in order.
            servers: other address servers that this wire has told of already.
        """
        super().__init__(mac, target, laptop_mac=laptop_mac, ours=[laptop.ip], now=now)
        self._laptop = laptop
        self._xid = xid
        self._allow_others = allow_others
        self._pending: Dhcp | None = None
        self._other: MacAddress | None = None
        """Who else speaks here. Said only after the check: that it is an address server would matter more."""
        self._answers = 0
        self._replies: Counter[MessageType | None] = Counter()
        self._look_at: float | None = None
        self._link_gone_at: float | None = None
        self.state = State.CHECKING
        self._begin_check(now)
        self._told = next(iter(servers), None)
        """A server that was heard on this cable before; silent to the laptop, it may still serve those it knows."""

    @property
    def only_looks(self) -> bool:  # type: ignore[override]
        """Whether it still looks for other servers, and answers nobody."""
        return self.state is State.CHECKING

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        match self.state:
            case State.CHECKING:
                return phrase(
                    "Asking for {check_s:.0f} s whether another address server is on this wire.", check_s=_CHECK_S
                )
            case State.READY:
                return phrase(
                    "Waiting for {mac} to ask for an address. Pull its power if it stays silent.", mac=self.mac
                )
            case State.ANSWERED:
                return phrase(
                    "Answered. Waiting for {mac} to show that it took {ip}.", mac=self.mac, ip=self.target.interface.ip
                )
            case State.ENDED:
                return ""

    def _begin_check(self, now: float) -> None:
        self.state = State.CHECKING
        self._check_started_at = now
        self._check_asked = 0
        self._check_xid = self._xid()

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Look into a link that drops: some devices reset their port when they take an address.

        Whatever hangs there when it comes back, the check is made anew before anybody is answered.
        """
        if self.done:
            return
        self._tracker.forget()
        if not link.up and self._answers:
            self._link_gone_at = now
            self._note(phrase("The link went down after the answer: waiting whether it comes back."), now)
        elif link.up:
            self._link_gone_at = self._pending = self._other = self._told = None
            self._begin_check(now)
            if self._answers:
                self._look_at = now + _LOOK_AFTER_S

    def receive(self, heard: wire.Heard) -> None:
        """Answer the chosen device; stop for a server, for others on the wire, and when it is done."""
        if self.done:
            return
        ethernet, dhcp = heard.packet.get(Ethernet), heard.packet.get(Dhcp)
        if ethernet is None or ethernet.src == self._laptop_mac:
            return
        self._tracker.receive(heard)
        self._see(heard.at)
        server = _server_named(dhcp, ethernet.src, self._laptop.ip) if dhcp else None
        if self.done:
            return
        if server:
            by_client = dhcp is not None and dhcp.op == BootpOp.BOOTREQUEST
            self._refuse_server(f"{server}, {'whose offer is taken by ' if by_client else ''}{ethernet.src}", heard.at)
        elif ethernet.src != self.mac and not ethernet.src.is_group and not self._allow_others:
            self._other = ethernet.src
            if self.state is not State.CHECKING:
                self._refuse_company(heard.at)
        elif dhcp and dhcp.client == self.mac == ethernet.src and dhcp.op == BootpOp.BOOTREQUEST:
            if ethernet.vlan:
                text = phrase(
                    "It asks with a tag for VLAN {vlan}, and would not hear an answer without. Connect it "
                    "straight, or have its port send that VLAN untagged.",
                    vlan=ethernet.vlan,
                )
                self._end(Result.REFUSED, text, heard.at)
            else:
                self._request(dhcp, heard.at)

    def _see(self, now: float) -> None:
        arrived = any(seen.kind is Sighting.ARRIVED for seen in self._tracker.news())
        if self._answers and arrived and not self.done:
            self._end(Result.TAKEN, phrase("It shows that it holds {ip}.", ip=self.target.interface.ip), now)

    def _refuse_server(self, which: str, now: float) -> None:
        text = phrase("Another address server answers here ({which}): unplug the cable from that network.", which=which)
        self._end(Result.REFUSED, text, now)

    def _refuse_company(self, now: float) -> None:
        text = phrase(
            "Another device speaks on this wire ({other}): leave only {mac} connected, or allow it.",
            other=self._other,
            mac=self.mac,
        )
        self._end(Result.REFUSED, text, now)

    def _end(self, result: Result, because: str, now: float) -> None:
        self.state, self._look_at, self._pending = State.ENDED, None, None
        self._finish(result, because, now)

    def close(self, now: float) -> None:
        """End with what was reached."""
        if self._answers and not self.done:
            self._end(Result.SENT, phrase("It was answered, but has not shown that it took the address."), now)
        super().close(now)

    def _request(self, dhcp: Dhcp, now: float) -> None:
        if self.state is State.CHECKING:
            # A device may ask once in its life: what it asked during the check is answered right after it.
            self._pending = dhcp
            return
        if dhcp.giaddr != UNSPECIFIED:
            self._note(
                phrase("Its request came through a relay ({giaddr}) and was left alone.", giaddr=dhcp.giaddr), now
            )
            return
        match dhcp.message_type:
            case None:
                self._answer(dhcp, None, now)
            case MessageType.DISCOVER:
                self._answer(dhcp, MessageType.OFFER, now)
            case MessageType.REQUEST:
                self._requested(dhcp, now)
            case MessageType.DECLINE:
                text = phrase(
                    "It refused {ip}: it says that somebody else holds that address.", ip=self.target.interface.ip
                )
                self._end(Result.REFUSED, text, now)
            case MessageType.RELEASE:
                self._note(phrase("It gave {ciaddr} back.", ciaddr=dhcp.ciaddr), now)
            case MessageType.INFORM:
                self._note(phrase("DHCP: answered its INFORM: it has its address from elsewhere."), now)
                self._reply(dhcp, MessageType.ACK)

    def _requested(self, dhcp: Dhcp, now: float) -> None:
        """Confirm or refuse what it asks to have (RFC 2131 section 4.3.2)."""
        asked_for = dhcp.address(OptionCode.REQUESTED_IP_ADDRESS)
        wanted = dhcp.ciaddr if dhcp.ciaddr != UNSPECIFIED else asked_for
        if wanted is None and dhcp.option(OptionCode.SERVER_IDENTIFIER):
            wanted = self.target.interface.ip  # it names this server, and means what it was offered
        if wanted == self.target.interface.ip:
            self._answer(dhcp, MessageType.ACK, now)
        else:
            self._note(phrase("It asked to have {wanted} again and was told to ask anew.", wanted=wanted), now)
            self._reply(dhcp, MessageType.NAK)

    def _answer(self, dhcp: Dhcp, kind: MessageType | None, now: float) -> None:
        protocol = "BOOTP" if kind is None else "DHCP"
        self._note(
            phrase(
                "{protocol}: answered {asked_by} with {said}.",
                protocol=protocol,
                asked_by=self._asked_by(dhcp),
                said=self._said(kind),
            ),
            now,
        )
        self._reply(dhcp, kind)
        if kind is not MessageType.OFFER:
            self._answers += 1
            self.state = State.ANSWERED
            self._look_at = now + _LOOK_AFTER_S

    def _asked_by(self, dhcp: Dhcp) -> str:
        kind = dhcp.message_type
        return phrase("its request") if kind is None else phrase("its {name}", name=MessageType(kind).name)

    def _said(self, kind: MessageType | None) -> str:
        return str(self.target.interface) if kind is None else f"{kind.name} {self.target.interface}"

    def _reply(self, request: Dhcp, kind: MessageType | None) -> None:
        """Send the answer to where the client can take it (RFC 2131 section 4.1, RFC 1542 section 4.1.2)."""
        inform = kind is MessageType.ACK and request.message_type == MessageType.INFORM
        gives = kind is not MessageType.NAK and not inform
        reply = Dhcp(
            op=BootpOp.BOOTREPLY,
            xid=request.xid,
            chaddr=request.chaddr,
            flags=request.flags,
            ciaddr=request.ciaddr if kind is MessageType.ACK else UNSPECIFIED,
            yiaddr=self.target.interface.ip if gives else UNSPECIFIED,
            siaddr=self._laptop.ip if gives else UNSPECIFIED,
            options=(*self._options(kind, leased=gives), *_echoed(request)),
        )
        # Many small devices take only one of unicast and broadcast, flag or not: a repeated request gets the other.
        repeated = self._replies[kind] % 2 == 1
        self._replies[kind] += 1
        if kind is MessageType.NAK or request.wants_broadcast != repeated:
            dst_mac, dst = BROADCAST_MAC, LIMITED_BROADCAST
        else:
            known = request.ciaddr if request.ciaddr != UNSPECIFIED else reply.yiaddr
            dst_mac, dst = self.mac, known
        if kind is MessageType.NAK:
            reply = reply._replace(flags=request.flags | BROADCAST_FLAG)
        ends = Ends(src_mac=self._laptop_mac, src=self._laptop.ip, dst_mac=dst_mac, dst=dst)
        self._send(frame_between(ends, udp.Udp(src_port=SERVER_PORT, dst_port=CLIENT_PORT, payload=encode_dhcp(reply))))

    def _options(self, kind: MessageType | None, *, leased: bool) -> Options:
        options: list[tuple[int, bytes]] = []
        if kind is not None:
            options.append((OptionCode.MESSAGE_TYPE, bytes((kind,))))
            options.append((OptionCode.SERVER_IDENTIFIER, self._laptop.ip.packed))
        if kind is MessageType.NAK:
            return tuple(options)
        if leased and kind is not None:
            options.append((OptionCode.LEASE_TIME, LEASE_S.to_bytes(4, "big")))
        options.append((OptionCode.SUBNET_MASK, mask_of_prefix(self.target.interface.network.prefixlen).packed))
        if self.target.gateway:
            options.append((OptionCode.ROUTER, self.target.gateway.packed))
        if self.target.dns:
            options.append((OptionCode.DOMAIN_NAME_SERVER, b"".join(each.packed for each in self.target.dns)))
        return tuple(options)

    def handle_timer(self, now: float) -> None:
        """Ask for other servers, answer what came meanwhile, and look whether the address was taken."""
        if self.done:
            return
        self._tracker.handle_timer(now)
        self._see(now)
        if self._tracker.answers_for_others and self._answers and not self.done:
            self._end(Result.SENT, self._proxy_sentence(), now)
        if self._link_gone_at is not None:
            if now >= self._link_gone_at + _LINK_BACK_S:
                self._end(Result.SENT, phrase("The link went down after the answer and has not come back."), now)
            return
        if self.state is State.CHECKING:
            self._check(now)
        if self._look_at is not None and now >= self._look_at:
            # Not a probe from 0.0.0.0: to a device that is just probing its new address that is a conflict.
            self._send(arp.arp_question(self._laptop_mac, self.target.interface.ip, sender=self._laptop.ip))
            self._look_at = now + _LOOK_INTERVAL_S

    def _check(self, now: float) -> None:
        if now < self._check_due_at:
            return
        if self._check_asked < len(_CHECK_QUESTIONS_AT_S):
            self._check_asked += 1
            self._send(server_question(self._laptop_mac, self._check_xid))
            return
        if self._told:
            self._refuse_server(phrase("{told}, an address of which was taken or offered before", told=self._told), now)
            return
        self._note(phrase("No other address server answered on this wire in {check_s:.0f} s.", check_s=_CHECK_S), now)
        if self._other:
            self._refuse_company(now)
            return
        self.state = State.READY
        if self._pending:
            pending, self._pending = self._pending, None
            self._request(pending, now)

    @property
    def _check_due_at(self) -> float:
        return self._check_started_at + (*_CHECK_QUESTIONS_AT_S, _CHECK_S)[self._check_asked]

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        if self._link_gone_at is not None:
            return self._link_gone_at + _LINK_BACK_S
        check_at = self._check_due_at if self.state is State.CHECKING else None
        return machine.earliest(check_at, self._look_at, self._tracker.next_deadline())


def _server_named(dhcp: Dhcp, src: MacAddress, ours: IPv4Address) -> IPv4Address | str | None:
    """Return the other server that a message is from, or that a client takes an address from (RFC 2131 section 4.3.2).

    Only a client that takes an offer names a server in its REQUEST; one sent in another's name proves nothing.
    """
    server = dhcp.address(OptionCode.SERVER_IDENTIFIER)
    if dhcp.op == BootpOp.BOOTREPLY:
        return server or "unnamed"
    takes = dhcp.message_type == MessageType.REQUEST and dhcp.client == src
    return server if takes and server != ours else None


def _echoed(request: Dhcp) -> Options:
    """Return the client identifier as it came, by which some clients know their answer (RFC 6842 section 3)."""
    identifier = request.option(OptionCode.CLIENT_IDENTIFIER)
    return ((OptionCode.CLIENT_IDENTIFIER, identifier),) if identifier and request.message_type is not None else ()


def server_question(mac: MacAddress, xid: int) -> bytes:
    """Return a DISCOVER that only looks for address servers; no offer to it is ever taken up."""
    discover = Dhcp(
        op=BootpOp.BOOTREQUEST,
        xid=xid,
        chaddr=bytes(mac),
        flags=BROADCAST_FLAG,
        options=((OptionCode.MESSAGE_TYPE, bytes((MessageType.DISCOVER,))),),
    )
    ends = Ends(src_mac=mac, src=IPv4Address(0), dst_mac=BROADCAST_MAC, dst=LIMITED_BROADCAST)
    return frame_between(ends, udp.Udp(src_port=CLIENT_PORT, dst_port=SERVER_PORT, payload=encode_dhcp(discover)))
