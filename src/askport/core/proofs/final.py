"""Which proofs are made of a device's final state, on the screen and from the command line alike."""

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address

from askport.core.proofs.holding import OldGone, SameMac
from askport.core.proofs.measured import GatewayAsPlanned, MaskAsPlanned
from askport.core.proofs.proof import Proof, Proving, Subject
from askport.core.proofs.reachable import Echo, PortOpens


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """What a device's final state must be, beside its address."""

    gateway: IPv4Address | None = None
    plans_gateway: bool = True
    """Whether ``gateway`` is planned; False where nothing is said about it."""
    left: Collection[IPv4Address] = ()
    """Addresses that it must have left."""
    ports: Iterable[int] = ()
    echo: bool = True


def final_proofs(
    subject: Subject, expected: Expected, *, now: float, heard_gateway: Callable[[], IPv4Address | None] = lambda: None
) -> Proving:
    """Return the proofs, beginning now; ``heard_gateway`` tells whom the device keeps looking for, where it does."""
    proofs: list[Proof] = [SameMac(subject, now=now)]
    proofs += [OldGone(subject, each, now=now) for each in dict.fromkeys(expected.left) if each != subject.at.ip]
    answering: list[Proof] = [Echo(subject, now=now)] if expected.echo else []
    answering += [PortOpens(subject, port, now=now) for port in dict.fromkeys(expected.ports)]
    mask = MaskAsPlanned(subject, gateway=expected.gateway, explains=answering)
    then: list[Proof] = [mask]
    if expected.plans_gateway:
        then.append(GatewayAsPlanned(mask, expected.gateway, heard_gateway))
    return Proving([*proofs, *answering], then)
