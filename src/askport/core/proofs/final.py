"""Which proofs are made of a device's final state, on the screen and from the command line alike."""

from collections.abc import Callable
from ipaddress import IPv4Address

from askport.core.proofs.calls import Calls
from askport.core.proofs.measured import GatewayAsPlanned, MaskAsPlanned
from askport.core.proofs.name_servers import DnsAsPlanned
from askport.core.proofs.own_word_proof import Reads, ReadsBack
from askport.core.proofs.page_answers import PageAnswers
from askport.core.proofs.proof import Expected, Proof, Proving, Subject
from askport.core.proofs.reachable import Echo, PortOpens
from askport.core.proofs.who_holds import OldGone, SameMac


def final_proofs(
    subject: Subject,
    expected: Expected,
    *,
    now: float,
    heard_gateway: Callable[[], IPv4Address | None] = lambda: None,
    reads: Reads | None = None,
    asked_from: set[IPv4Address] | None = None,
    seed: int = 0,
    calls: Calls | None = None,
) -> Proving:
    """Return the proofs, beginning now.

    Args:
        subject: who is proven.
        expected: what must be.
        now: the wire's time.
        heard_gateway: tells whom the device keeps looking for, where it does.
        reads: begins to read its own word on its settings, where that can be done.
        asked_from: where the addresses are put that it is asked from, for those who listen.
        seed: from which addresses it is asked.
        calls: whom it was heard calling after its power cut, where that was listened for.
    """
    same = SameMac(subject, now=now)
    proofs: list[Proof] = [same]
    own_word = ReadsBack(reads, subject, expected, same, now=now) if reads else None
    proofs += [own_word] if own_word else []
    proofs += [OldGone(subject, each, now=now) for each in dict.fromkeys(expected.left) if each != subject.at.ip]
    answering: list[Proof] = [Echo(subject, now=now)] if expected.echo else []
    answering += [PortOpens(subject, port, now=now) for port in dict.fromkeys(expected.ports)]
    if expected.page is not None:
        answering.append(PageAnswers(subject, expected.page, expected.title, same, now=now))
    mask = MaskAsPlanned(subject, gateway=expected.gateway, explains=answering, asked_from=asked_from, seed=seed)
    then: list[Proof] = [mask]
    if expected.plans_gateway:
        then.append(GatewayAsPlanned(mask, expected.gateway, heard_gateway))
    if expected.dns:
        then.append(DnsAsPlanned(expected.dns, own_word, calls))
    return Proving([*proofs, *answering], then)
