"""A session's state in sentences: what each step came to, and what to do next. Each step's own are its stage's."""

from dataclasses import dataclass

from askport.core.phrases import phrase
from askport.core.register.as_left import Basis
from askport.core.visit.session import Session
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Phase, Step


@dataclass(frozen=True, slots=True)
class StepLine:
    """One step of the way, with its result in a few words."""

    step: Step
    state: str
    """``done``, ``now`` or ``ahead``."""
    result: str


def next_line(session: Session, now: float) -> Next:
    """Say what to do next: what was refused goes first, and a lost link before all that needs one.

    Once a device is recorded its cable may be in the next one already.
    """
    step, way = session.phase.step, session.device.way
    expected = step is Step.PROVE or (session.phase is Phase.SETTING and way is not None and way.wants_power)
    if not session.cable.link.up and not expected and session.phase is not Phase.RECORDED:
        step = Step.PLUG
    said = session.stages.by_step[step].next(now)
    trouble = session.visit.trouble
    return Next(trouble.message, said.action or phrase("Close this message.")) if trouble else said


def step_lines(session: Session) -> list[StepLine]:
    """Return the way, each step with its result."""
    order = list(Step)
    at = order.index(session.phase.step)
    lines = []
    for place, step in enumerate(order):
        state = "done" if place < at or session.phase is Phase.RECORDED else "now" if place == at else "ahead"
        lines.append(StepLine(step, state, session.stages.by_step[step].result()))
    return lines


_PROOFS = {
    "same-mac": phrase("MAC address"),
    "old-gone": phrase("old address"),
    "echo": phrase("ping"),
    "power-cycle": phrase("power cycle"),
    "page": phrase("web page"),
    "services": phrase("ping and ports back"),
    "read-back": phrase("read back"),
    "calls": phrase("DNS servers contacted"),
    "mask": phrase("subnet mask"),
    "gateway": phrase("default gateway"),
    "dns": phrase("DNS servers"),
}
"""Neutral names: the verdict stands beside them."""
_BASES = {
    Basis.MEASURED: phrase("measured"),
    Basis.HEARD: phrase("seen in traffic"),
    Basis.READ_BACK: phrase("read back"),
    Basis.GIVEN: phrase("sent and confirmed"),
    Basis.TOLD: phrase("entered, not verified"),
}


def basis_words(basis: Basis | None) -> str:
    """Return what a value rests on in plain words."""
    return _BASES[basis] if basis else phrase("not known")


def proof_words(name: str) -> str:
    """Return a proof's name in plain words."""
    if name.startswith("port-"):
        return phrase("port {number}", number=name.removeprefix("port-"))
    return _PROOFS.get(name, name.replace("-", " "))
