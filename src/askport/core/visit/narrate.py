"""A session's state in sentences: what each step came to, and what to do next. Each step's own are its stage's."""

from dataclasses import dataclass

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
    return Next(trouble.message, said.action or "Close this message.") if trouble else said


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
    "same-mac": "MAC address",
    "old-gone": "old address",
    "echo": "ping",
    "power-cycle": "power cycle",
    "page": "web page",
    "services": "ping and ports back",
    "read-back": "read back",
    "calls": "DNS servers contacted",
    "mask": "subnet mask",
    "gateway": "default gateway",
    "dns": "DNS servers",
}
"""Neutral names: the verdict stands beside them."""
_BASES = {
    Basis.MEASURED: "measured",
    Basis.HEARD: "seen in traffic",
    Basis.READ_BACK: "read back",
    Basis.GIVEN: "sent and confirmed",
    Basis.TOLD: "entered, not verified",
}


def basis_words(basis: Basis | None) -> str:
    """Return what a value rests on in plain words."""
    return _BASES[basis] if basis else "not known"


def proof_words(name: str) -> str:
    """Return a proof's name in plain words."""
    return _PROOFS.get(name, name.replace("-", " "))
