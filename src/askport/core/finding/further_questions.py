"""What one answer leaves open is asked on, once: the rest of a service that is only named by its type (RFC 6763 section
4), and who has the IPv6 address that a MAC address gives, because some answer no echo to all nodes.
"""

from askport.core import addresses, machine, wire
from askport.core.finding.greeting import ask_for_link_local, service_question
from askport.core.formats.dns import Dns, Name, RecordType
from askport.core.formats.ethernet import Ethernet

MAX_QUESTIONS = 64
"""On one wire: a printer has ten, and whoever has more is no device of the trade."""
_TYPES: Name = (b"_services", b"_dns-sd", b"_udp", b"local")


class FurtherQuestions(machine.Machine):
    """Follows the answers of mDNS from the list of types to each service, and asks each device once for its IPv6."""

    def __init__(self, laptop_mac: addresses.MacAddress) -> None:
        super().__init__()
        self._laptop_mac = laptop_mac
        self._asked: set[tuple[addresses.MacAddress, Name]] = set()
        self._asked_ipv6: set[addresses.MacAddress] = set()

    def receive(self, heard: wire.Heard) -> None:
        """Ask for what an answer names and does not say."""
        dns, ethernet = heard.packet.get(Dns), heard.packet.get(Ethernet)
        if ethernet is None or ethernet.src.is_group:
            return
        if ethernet.src not in self._asked_ipv6 and len(self._asked_ipv6) < MAX_QUESTIONS:
            self._asked_ipv6.add(ethernet.src)
            self._send(ask_for_link_local(self._laptop_mac, ethernet.src))
        if dns is None or not dns.is_response:
            return
        known = {each.name for each in dns.answers if each.type == RecordType.SRV}
        for each in dns.answers:
            if each.type != RecordType.PTR or not each.target or not each.ttl or not each.name:
                continue
            if not each.name[0].startswith(b"_"):
                continue
            kind = RecordType.PTR if each.name == _TYPES else RecordType.SRV
            key = ethernet.src, each.target
            if each.target in known or key in self._asked or len(self._asked) >= MAX_QUESTIONS:
                continue
            self._asked.add(key)
            self._send(service_question(self._laptop_mac, each.target, kind))
