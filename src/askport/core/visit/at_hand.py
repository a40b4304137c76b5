"""What is known of the one device at hand, from as found to as left."""

from dataclasses import replace
from ipaddress import IPv4Address, IPv4Interface

from askport.core.addresses import LINK_LOCAL, MacAddress
from askport.core.finding.clues import Identity
from askport.core.finding.device import Device
from askport.core.kinds import model, own_word, recognising
from askport.core.plan import claims, working_order
from askport.core.plan.target import Target
from askport.core.proofs import course, proof, service_again
from askport.core.proofs.calls import Calls
from askport.core.proofs.power_cycle import PowerCycle
from askport.core.proofs.reachable import Echo, PortOpens
from askport.core.protocols import PROTOCOLS, Protocol
from askport.core.reach.over_ipv6 import OverIpv6
from askport.core.register.as_left import AsLeft
from askport.core.visit.errand import Errand
from askport.core.ways.way import Result, Way


class AtHand:
    """One device on its way through the job."""

    def __init__(self, work: working_order.WorkItem, unit: int) -> None:
        """Begin with what is meant to be at the other end; ``unit`` is its number in the job's journal."""
        self.unit = unit
        self.errand: Errand | None = None
        """What a command wants of it, where it was named by one."""
        self.mean(work)
        self.as_left = AsLeft()
        """What it has been left with, as far as was found out."""
        self.look_again()

    def mean(self, work: working_order.WorkItem, *, is_meant: bool = False) -> None:
        """Mean a device of the work list, because it is next or because the technician chose it."""
        self.next_item, self.is_meant = work, is_meant
        self.decided: MacAddress | None = None
        """The device of which a person has decided what it is."""
        self._become(work, revisits=False)

    def _become(self, work: working_order.WorkItem, *, revisits: bool) -> None:
        self.work = work
        self.listed_as = work.tag
        """Its tag in the work list, whatever it is called later."""
        self.target: Target | None = work.target
        self.revisits = revisits
        """Whether it is one that the register has, and not the next of the work list."""

    def become(self, claim: claims.Claim) -> None:
        """Be the device of the job that speaks for itself; what was planned for the same one on the way stays."""
        if claim.item.tag != self.work.tag:
            self._become(claim.item, revisits=claim.revisits)

    def replan(self, target: Target) -> None:
        """Be meant to become something else."""
        mine = self.work.tag == self.next_item.tag
        self.target, self.work = target, replace(self.work, target=target)
        self.next_item = self.work if mine else self.next_item

    def look_again(self) -> None:
        """Forget what was found out, because another device may be meant."""
        self.decided = None
        if self.work.tag != self.next_item.tag:
            self._become(self.next_item, revisits=False)
        self.chosen: Device | None = None
        """The device as found."""
        self.landed_at: IPv4Address | None = None
        """A wrong address that it was given on the way, where it is now."""
        self.fits: list[recognising.Fit] = []
        """Kinds that fit, each with the reason, the strictest first."""
        self.takes_offer = ""
        """The name of a kind that only its maker speaks for, where a way of it was chosen, or the plan has it."""
        self.first_words: list[str] = []
        """The first text of its console, and its page's title, where they were read."""
        self.identities: tuple[Identity, ...] = ()
        """What it said of itself on a connection."""
        self.noted_identities: tuple[Identity, ...] = ()
        """Those that are in the journal."""
        self.title = ""
        """The title that its page was found with, where it was asked for."""
        self.ports_tried: list[proof.Proof] = []
        """What it answered at its old address."""
        self.over_ipv6: OverIpv6 | None = None
        """What it answers at its link-local IPv6 address, once it was asked."""
        self.ports_seen: list[proof.Proof] = []
        """The same at the address that it was given, where it had none before."""
        self.as_found: Target | None = None
        """The settings as found, where address and mask are known."""
        self.was_touched = False
        """Whether something was changed about it in this visit, or may have been."""
        self.restores = False
        """Whether it is to be put back as it was found."""
        self.became: list[Target] = []
        """What it was seen to take in this visit, in order."""
        self.says: own_word.ReadBack | None = None
        """What it said of itself as it was found, where it was read."""
        self.not_read = ""
        """What contradicts the wire in that, or why it was not read."""
        self.wants_log_in = False
        """Whether its page has asked for a log-in, whatever its kind says."""
        self.is_kept = False
        """Whether its console was told to keep what it has."""
        self.way_name: str | None = None
        self.way: Way | None = None
        self.left_way: Way | None = None
        """One that was left for another before it ended, and had told the device something."""
        self.target_holder: MacAddress | None = None
        """Who else holds the planned address, if anybody answered for it."""
        self.course: course.Course | None = None
        """What was proven of it, and what is being proven."""
        self.left_out: list[str] = []

    @property
    def fit(self) -> recognising.Fit | None:
        """Its kind with the reason, where one fits: of several, the strictest; an offered one, once it is taken."""
        return next((each for each in self.fits if not each.is_offer or each.kind.name == self.takes_offer), None)

    @property
    def kind(self) -> model.Kind | None:
        """Its kind, where one fits."""
        return self.fit.kind if self.fit else None

    @property
    def entered_as(self) -> str:
        """What devices like it are called where their log-in is kept: their kind, or all that speak a protocol."""
        if self.kind:
            return self.kind.name
        return next((each.log_in_as for each in self.protocols if each.log_in_as), "")

    @property
    def protocols(self) -> list[Protocol]:
        """The field protocols that it was heard to speak."""
        return [each for each in PROTOCOLS.values() if self.chosen and self.chosen.speaks(each.name)]

    def forget_proofs(self) -> None:
        """Begin to be proven anew."""
        self.course = None

    @property
    def proofs(self) -> list[proof.Proof]:
        """Its proofs, those by a power cycle aside."""
        return self.course.proofs if self.course else []

    @property
    def power_cycle(self) -> PowerCycle | None:
        """The proof by a power cycle, once it is due."""
        return self.course.cycle if self.course else None

    @property
    def services(self) -> service_again.Services | None:
        """When what it serves was back after the power cycle."""
        return self.course.services if self.course else None

    @property
    def again(self) -> list[proof.Proof]:
        """The same proofs, made once more after its power was cut."""
        return self.course.again if self.course else []

    @property
    def calls(self) -> Calls | None:
        """Whom it calls by itself after the power cycle."""
        return self.course.calls if self.course else None

    @property
    def old_address(self) -> IPv4Address | None:
        """The address as found, or None where it has none, or none that it keeps."""
        return address_of(self.chosen) if self.chosen else None

    @property
    def whereabouts(self) -> IPv4Address | None:
        """Where it is before it has its final address: as found, or where a slip of the fingers took it."""
        return self.landed_at or self.old_address

    @property
    def was_taken(self) -> bool:
        """Whether it has shown that it took its final address."""
        return self.way is not None and self.way.result is Result.TAKEN

    @property
    def took_after_restart(self) -> bool:
        """Whether somebody set it by hand, and it took that only after a restart."""
        return self.way is not None and not self.way.gives and self.way.wants_power

    @property
    def open_ports(self) -> list[int]:
        """TCP ports that opened to a bare question: as it was found, over IPv6, or at the address that it was given."""
        asked = (*self.ports_tried, *(self.over_ipv6.services if self.over_ipv6 else ()), *self.ports_seen)
        return [*dict.fromkeys(each.port for each in asked if isinstance(each, PortOpens) and each.passed)]

    @property
    def may_echo(self) -> bool:
        """Whether an echo can be expected of it: it answered one, or was never asked."""
        return not self.ports_tried or any(each.name == Echo.name and each.passed for each in self.ports_tried)

    @property
    def all_proofs(self) -> list[proof.Proof]:
        """Its proofs, the one by a power cycle last."""
        return self.course.all_proofs if self.course else []


def as_found(device: Device, says: own_word.ReadBack | None) -> Target | None:
    """Return the settings that a device was found with, as far as they were shown or said; None without a mask."""
    address, best = address_of(device), device.best
    if best is None and says and says.address and says.prefix is not None:  # read over IPv6
        return Target(interface=IPv4Interface((says.address, says.prefix)), gateway=says.gateway, dns=says.dns)
    if address is None or best is None or address in LINK_LOCAL:
        return None
    own = says if says and says.address == address else None
    prefix = best.prefix if best.prefix is not None or own is None else own.prefix
    if prefix is None:
        return None
    interface = IPv4Interface((address, prefix))
    gateway = best.gateway or (own.gateway if own else None)
    inside = gateway if gateway and gateway in interface.network else None
    return Target(interface=interface, gateway=inside, dns=own.dns if own else ())


def address_of(device: Device) -> IPv4Address | None:
    """Return where a device can be reached: one that asks has fallen back to link-local at the best."""
    best = device.best
    if best is None or (device.request and best.address not in LINK_LOCAL):
        return None
    return best.address
