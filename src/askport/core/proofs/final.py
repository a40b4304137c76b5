"""Which proofs are made of a device's final state, on the screen and from the command line alike.

To have one more, write its module and one line in a table here: ``AT_ONCE`` where it can be made beside the others,
``ON_A_QUIET_WIRE`` where it measures what others would disturb.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import TypeVar

from askport.core.proofs import measured, name_servers, own_word_proof, page_answers, proof, reachable, who_holds
from askport.core.proofs.calls import Calls

P = TypeVar("P", bound=proof.Proof)


@dataclass(slots=True, kw_only=True)
class Making:
    """What proofs are made of: who is proven, what must be, and the proofs that were made before them."""

    subject: proof.Subject
    expected: proof.Expected
    now: float
    """The wire's time."""
    heard_gateway: Callable[[], IPv4Address | None] = lambda: None
    """Tells whom the device keeps looking for, where it does."""
    reads: own_word_proof.Reads | None = None
    """Begins to read its own word on its settings, where that can be done."""
    asked_from: set[IPv4Address] | None = None
    """Where the addresses are put that it is asked from, for those who listen."""
    somebodys: set[IPv4Address] = field(default_factory=set)
    """Planned, recorded or heard addresses, from which it is not asked."""
    seed: int = 0
    """From which addresses it is asked."""
    calls: Calls | None = None
    """Whom it was heard calling after its power cycle, where that was listened for."""
    made: list[proof.Proof] = field(default_factory=list)
    """The proofs by now, in their order."""

    def made_of(self, kind: type[P]) -> P | None:
        """Return the first proof of a class that was made by now, or None."""
        return next((each for each in self.made if isinstance(each, kind)), None)


Makes = Callable[[Making], Iterable[proof.Proof]]
"""Makes a proof, several, or none where nothing is expected of it."""


def _same_mac(making: Making) -> Iterator[proof.Proof]:
    yield who_holds.SameMac(making.subject, now=making.now)


def _own_word(making: Making) -> Iterator[proof.Proof]:
    same = making.made_of(who_holds.SameMac)
    if making.reads and same:
        yield own_word_proof.ReadsBack(making.reads, making.subject, making.expected, same, now=making.now)


def _old_gone(making: Making) -> Iterator[proof.Proof]:
    for each in dict.fromkeys(making.expected.left):
        if each != making.subject.at.ip:
            yield who_holds.OldGone(making.subject, each, now=making.now)


def _answers(making: Making) -> Iterator[proof.Proof]:
    expected, same = making.expected, making.made_of(who_holds.SameMac)
    if expected.echo:
        yield reachable.Echo(making.subject, now=making.now)
    for port in dict.fromkeys(expected.ports):
        yield reachable.PortOpens(making.subject, port, now=making.now)
    if expected.page is not None and same:
        yield page_answers.PageAnswers(making.subject, expected.page, expected.title, same, now=making.now)


def _mask(making: Making) -> Iterator[proof.Proof]:
    explains = [
        each
        for each in making.made
        if isinstance(each, who_holds.SameMac | reachable.Echo | reachable.PortOpens | page_answers.PageAnswers)
    ]
    yield measured.MaskAsPlanned(
        making.subject, gateway=making.expected.gateway, avoid=making.somebodys - {making.subject.at.ip},
        explains=explains, asked_from=making.asked_from, seed=making.seed,
    )  # fmt: skip


def _gateway(making: Making) -> Iterator[proof.Proof]:
    mask = making.made_of(measured.MaskAsPlanned)
    if making.expected.plans_gateway and mask:
        yield measured.GatewayAsPlanned(mask, making.expected.gateway, making.heard_gateway)


def _dns(making: Making) -> Iterator[proof.Proof]:
    if making.expected.dns:
        yield name_servers.DnsAsPlanned(making.expected.dns, making.made_of(own_word_proof.ReadsBack), making.calls)


AT_ONCE: list[Makes] = [_same_mac, _own_word, _old_gone, _answers]
ON_A_QUIET_WIRE: list[Makes] = [_mask, _gateway, _dns]


def final_proofs(making: Making) -> proof.Proving:
    """Return the proofs, beginning now."""
    for makes in AT_ONCE:
        making.made += makes(making)
    at_once = list(making.made)
    for makes in ON_A_QUIET_WIRE:
        making.made += makes(making)
    return proof.Proving(at_once, making.made[len(at_once) :])
