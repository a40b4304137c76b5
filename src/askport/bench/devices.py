"""The stand-ins of the scenario, each with its own character. A new one is one class and one line in the scenario."""

from ipaddress import IPv4Interface

from askport.bench import consoles, page_device, pages, stand_in
from askport.core.addresses import BROADCAST_MAC, LIMITED_BROADCAST, UNSPECIFIED, prefix_of_mask
from askport.core.errors import Refused
from askport.core.formats.dhcp import CLIENT_PORT, SERVER_PORT, BootpOp, Dhcp, OptionCode, encode_dhcp
from askport.core.formats.packet import Ends, frame_between, read_packet
from askport.core.formats.udp import Udp
from askport.core.plan.target import Target


class TankGateway(page_device.PageDevice):
    """TG-01: looks for its gateway after power-up; its page loses the connection at the moment of saving."""

    boot_s = 6.0
    restart_s = 2.5
    title = "Tank Level Gateway"
    says_saved = "Saved. The page does not come back: the connection was lost at that moment."
    _looks_at_s = (0.0, 1.0, 2.0, 5.0)
    _looks_every_s = 10.0

    def started(self, now: float) -> list[bytes]:
        """Come up, open its page, and look for the gateway."""
        frames = super().started(now)
        self._looks = 0
        self._began_at = now
        return [*frames, *self.due(now)]

    def save(self, settings: stand_in.Settings) -> pages.Answer | None:
        """Lose the connection at that moment."""
        super().save(settings)
        return None

    def due(self, now: float) -> list[bytes]:
        """Look for the gateway: a burst, then now and then."""
        self._looks += 1
        at = self._looks_at_s
        later = at[-1] + self._looks_every_s * (self._looks - len(at) + 1)
        self.next_at = self._began_at + (at[self._looks] if self._looks < len(at) else later)
        return self.host.look_for_gateway()


class BlowerDrive(stand_in.StandIn):
    """BL-01: asks by BOOTP, and forgets on a power cycle until it was told on its console to keep the address."""

    boot_s = 5.0
    hand = "console"
    name = b""
    """What it calls itself in its requests."""
    _asks_at_s = (0.0, 2.0, 4.0, 8.0, 12.0)
    _pause_s = 10.0

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.ports = (23,)
        self._began_at, self._asked = now, 0
        return self.host.announce() if self.host.interface else self.due(now)

    def due(self, now: float) -> list[bytes]:
        """Ask: five times in twelve seconds, then a pause, and again."""
        if self.host.interface:
            return []
        self._asked += 1
        if self._asked < len(self._asks_at_s):
            self.next_at = self._began_at + self._asks_at_s[self._asked]
        else:
            self._asked, self._began_at = 0, now + self._pause_s
            self.next_at = self._began_at
        request = Dhcp(
            op=BootpOp.BOOTREQUEST,
            xid=0xB1_0000 + self._asked,
            chaddr=bytes(self.mac),
            secs=int(now) & 0xFF,
            options=((OptionCode.HOST_NAME, self.name),) if self.name else (),
        )
        ends = Ends(src_mac=self.mac, src=UNSPECIFIED, dst_mac=BROADCAST_MAC, dst=LIMITED_BROADCAST)
        return [frame_between(ends, Udp(src_port=CLIENT_PORT, dst_port=SERVER_PORT, payload=encode_dhcp(request)))]

    def receive(self, data: bytes, now: float) -> list[bytes]:
        if not self.up:
            return []
        reply = read_packet(data).get(Dhcp)
        if reply is None or reply.op != BootpOp.BOOTREPLY or reply.client != self.mac or self.host.interface:
            return super().receive(data, now)
        mask = reply.address(OptionCode.SUBNET_MASK)
        prefix = prefix_of_mask(mask) if mask else None
        if prefix is None:
            return []
        self.host.take(IPv4Interface((reply.yiaddr, prefix)), reply.address(OptionCode.ROUTER))
        self.next_at = None
        return self.host.announce()

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Tell it on its console to keep the address that it has."""
        self._need_power()
        if self.host.interface is None:
            raise Refused("Its console can only save an address, and it has none yet: answer its DHCP request first.")
        if not over_the_cable:
            raise Refused("Its console does not open: the laptop cannot talk to it yet.")
        self.saved = stand_in.Settings(self.host.interface, self.host.gateway)
        return f"Console: keeps {self.host.interface.ip} from now on and asks no more."

    def talk(self, port: int) -> stand_in.Talk | None:
        """Offer its line console."""
        return consoles.LineConsole("Blower Drive 2", "> ", self._verb)

    def _verb(self, line: str) -> str | None:
        match line.split():
            case ["show", "ip"]:
                at, via = self.host.interface, self.host.gateway
                return f"address {at.ip if at else '-'} mask {at.netmask if at else '-'} gateway {via or '0.0.0.0'}"
            case ["ip", address, mask, gateway]:
                return f"error: {wrong}" if (wrong := consoles.take(self, address, mask, gateway)) else "ok"
            case ["save"]:
                consoles.keep(self)
                return "saved"
            case ["exit"]:
                return None
        return f"error: what is {line.split()[0]}"

    @property
    def unsaved(self) -> str | None:
        """An address that was given to it is gone at the next power cycle until its console was told to keep it."""
        return None if self.saved.interface else "its address was not saved"


class SterilizerPanel(stand_in.StandIn):
    """UV-01: silent, answers ARP only, and is set at its own keypad."""

    boot_s = 6.0
    hand = "keypad"

    def started(self, now: float) -> list[bytes]:
        super().started(now)
        self.host.answers_echo = False
        return []

    def type_in(self, target: Target, now: float, *, over_the_cable: bool) -> str:
        """Enter the values on its keypad; no cable is needed for that."""
        self._need_power()
        self.saved = stand_in.Settings(target.interface, target.gateway, target.dns)
        self.host.take(target.interface, target.gateway)
        return "Keypad: saved."
