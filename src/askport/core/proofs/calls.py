"""Whom a device calls by itself once it has started: for a while the laptop stands in for its gateway.

Only on a wire that carries this one device, only from its start after a power cycle on, and only for a while: what it
learns of the laptop's MAC address then is gone with its next start, and with the time that neighbours are kept.
"""

from collections.abc import Callable, Iterable
from ipaddress import IPv4Address

from askport.core import machine, wire
from askport.core.finding.questioning import stand_in_answer, stood_in_for
from askport.core.finding.readers.ipv4_clues import SENT_WITH
from askport.core.formats import tcp, udp
from askport.core.formats.arp import Arp, Op
from askport.core.formats.ethernet import Ethernet
from askport.core.formats.ipv4 import IPv4
from askport.core.phrases import listed, phrase
from askport.core.proofs import power_cycle, proof

LISTENS_S = 20.0
"""After it is back at its address; most call their servers in their first seconds."""
_SERVICES = {
    53: "DNS", 123: "NTP", 514: "syslog", 162: phrase("SNMP traps"), 25: "mail", 587: "mail", 389: "LDAP", 1883: "MQTT",
    8883: "MQTT", 80: "HTTP", 443: "HTTPS",
}  # fmt: skip
_MOST = 64


class Calls(proof.Proof):
    """Answers ARP for the planned gateway and servers, and takes down what comes for them and for elsewhere."""

    name = "calls"
    is_aside = True

    def __init__(
        self,
        subject: proof.Subject,
        gateway: IPv4Address | None,
        dns: Iterable[IPv4Address],
        cycle: power_cycle.PowerCycle,
        is_alone: Callable[[], bool],
    ) -> None:
        """Wait for the device to start.

        Args:
            subject: the device, and from where it is seen.
            is_alone: says whether the wire carries this device only.
        """
        super().__init__()
        self._subject, self._cycle, self._is_alone = subject, cycle, is_alone
        self._dns = tuple(dns)
        inside = (each for each in self._dns if each in subject.at.network)
        stands_for = {*inside, *filter(None, (gateway,))} - {subject.at.ip, subject.laptop.ip}
        self._stands_for = frozenset(stands_for)
        self._until: float | None = None
        self._over = False
        self.called: dict[tuple[str, IPv4Address], None] = {}
        """Each service with the address that was called for it, in the order in which they were."""
        self.expected = (
            phrase("contacts DNS servers {dns}", dns=listed(self._dns))
            if self._dns
            else phrase("contacts no DNS server")
        )

    @property
    def done(self) -> bool:
        """Whether the power cycle has come to its end, and it was listened for long enough after it."""
        return self._cycle.done and (not self._cycle.passed or self._until is None or self._over)

    @property
    def dns_called(self) -> tuple[IPv4Address, ...]:
        """The DNS servers that it called."""
        return tuple(address for service, address in self.called if service == "DNS")

    def listen_on(self, now: float) -> None:
        """Go on after the power cycle was survived."""
        self._until = now + LISTENS_S

    def stop(self) -> None:
        """Answer no more."""
        self._over = True

    def receive(self, heard: wire.Heard) -> None:
        """Answer where it looks for its gateway, and take down what it sends there."""
        ethernet = heard.packet.get(Ethernet)
        if ethernet is None or ethernet.src != self._subject.mac or self._over:
            return
        if self._cycle.power not in (power_cycle.Power.STARTING, power_cycle.Power.UNSURE) and not self._cycle.passed:
            return
        if not self._is_alone():
            self._over = True
            return
        arp = heard.packet.get(Arp)
        if arp and arp.op == Op.REQUEST and arp.spa == self._subject.at.ip and arp.tpa in self._stands_for:
            self._send(stand_in_answer(arp, self._subject.laptop_mac))
        elif stood_in_for(ethernet.dst) in self._stands_for:
            self._take(heard)

    def _take(self, heard: wire.Heard) -> None:
        ipv4, message = heard.packet.get(IPv4), heard.packet.get(udp.Udp) or heard.packet.get(tcp.Tcp)
        if ipv4 is None or message is None or ipv4.src != self._subject.at.ip or ipv4.dst == self._subject.laptop.ip:
            return
        if ipv4.ttl not in SENT_WITH:  # somebody behind it sent this, under its address
            return
        service = _SERVICES.get(message.dst_port, phrase("port {dst_port}", dst_port=message.dst_port))
        if len(self.called) < _MOST:
            self.called.setdefault((service, ipv4.dst))
        self._judge()

    def _judge(self) -> None:
        self.measured = listed([f"{service} {address}" for service, address in self.called])
        wrong = [each for each in self.dns_called if each not in self._dns]
        if wrong:
            planned = listed(self._dns) or phrase("none")
            self.passed, self.not_made, self.because = (
                False,
                False,
                phrase("It asks {wrong} for names; planned is {planned}.", wrong=listed(wrong), planned=planned),
            )
        elif self.dns_called:
            self.passed, self.not_made, self.because = True, False, phrase("It asks them for names by itself.")
        else:
            self.not_made, self.because = True, phrase("It asked nobody for names while Ask Port listened.")

    def handle_timer(self, now: float) -> None:
        if self._until is not None and now >= self._until:
            self._over = True

    def next_deadline(self) -> float | None:
        return None if self.done else machine.earliest(self._until)
