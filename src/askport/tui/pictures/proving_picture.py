"""Prove: each proof with what was expected and measured, and the power cycle as a lane."""

from collections.abc import Sequence

from askport.core.phrases import phrase
from askport.core.proofs import power_cycle, service_again
from askport.core.proofs.measured import GatewayAsPlanned, MaskAsPlanned
from askport.core.proofs.name_servers import DnsAsPlanned
from askport.core.proofs.proof import Proof
from askport.core.visit.narrate import proof_words
from askport.core.visit.session import Session
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, blank, flow, heading, wrapped

_EXPECTED = 6
_MEASURED = 52


def prove_lines(session: Session, width: int, now: float) -> list[Ink]:
    """Draw the proofs as they come in."""
    if not session.device.proofs:
        text = phrase("No checks yet. They start when the device answers at its new address.")
        return wrapped(text, width, DIM)
    lines = [
        Ink()
        .put(phrase("Expected"), STRONG)
        .to(_MEASURED)
        .put(phrase("Measured"), STRONG)
        .put(" ")
        .to(width, "┈", DIM),
        blank(),
    ]
    for proof in session.device.proofs:
        lines += _proof(proof, width) if session.device.power_cycle is None else _passed(proof, width)
    if session.device.power_cycle:
        lines += [
            blank(),
            heading(phrase("After a power cycle"), width),
            blank(),
            *_proof(session.device.power_cycle, width),
        ]
        lines += _lane(session.device.power_cycle, session.device.services, width, now)
        if (services := session.device.services) and services.passed is False:
            lines += [blank(), *_proof(services, width)]
        lines += _again(session.device.again, width)
    if session.device.calls and session.device.calls.called:
        lines += [blank(), *_proof(session.device.calls, width)]
    return lines


def _proof(proof: Proof, width: int) -> list[Ink]:
    mark, style = mark_of(proof)
    first = Ink().to(2).put(f"{mark}   ", f"{STRONG} {style}").to(_EXPECTED).put(proof.expected, STRONG)
    waits = isinstance(proof, MaskAsPlanned | GatewayAsPlanned)
    awaited = (
        phrase("next, when the line is idle")
        if waits
        else phrase("next")
        if isinstance(proof, DnsAsPlanned)
        else phrase("measuring")
    )
    if isinstance(proof, power_cycle.PowerCycle) and proof.power is power_cycle.Power.ON:
        awaited = phrase("when its power is cut")
    measured = proof.measured or awaited
    measured_style = style if proof.passed is not True else ""
    lines = [first]
    if max(_MEASURED, first.width + 1) + len(measured) <= width:
        first.to(_MEASURED).put(measured, measured_style)
    else:
        lines += wrapped(measured, width, measured_style, _EXPECTED)
    because = wrapped(proof.because, width, DIM, _EXPECTED) if proof.because else []
    return [*lines, *because, blank()]


def _passed(proof: Proof, width: int) -> list[Ink]:
    """Draw a proof that is done with on one line, to leave room for what is going on."""
    mark, style = mark_of(proof)
    ink = Ink().to(2).put(f"{mark}   ", f"{STRONG} {style}").put(proof.expected)
    column = min(_MEASURED, width - len(proof.measured))  # a little to the left, rather than not at all
    return [ink.to(column).put(proof.measured, DIM) if column > ink.width else ink]


def _again(proofs: Sequence[Proof], width: int) -> list[Ink]:
    """Draw the proofs that are made once more, each in a few words; one that failed with all of them."""
    if not proofs:
        return []
    pieces = []
    for proof in proofs:
        mark, style = mark_of(proof)
        pieces.append(Ink().put(f"{mark} ", f"{STRONG} {style}").put(proof_words(proof.name), style))
    lines = [blank(), Ink().to(2).put(phrase("Once more"), STRONG), *flow(pieces, width, _EXPECTED)]
    for proof in proofs:
        if proof.passed is False:
            lines += [blank(), *_proof(proof, width)]
    return lines


def mark_of(proof: Proof) -> tuple[str, str]:
    """Return the mark of a proof, and its style."""
    unfinished = ("–", DIM) if proof.not_made else ("◌", DIM)
    return {True: ("✓", THEIRS), False: ("✗", CONFLICT), None: unfinished}[proof.passed]


def _lane(cycle: power_cycle.PowerCycle, services: service_again.Services | None, width: int, now: float) -> list[Ink]:
    """Draw power off, link, first word, answer and what it serves on one line of time."""
    lane = cycle.lane
    marks = [
        (phrase("power off"), lane.off_at),
        (phrase("link up"), lane.link_at),
        (phrase("first word"), lane.first_heard_at),
        (phrase("answers"), lane.back_at),
    ]
    if services and lane.off_at is not None:
        last = max(services.moments.values(), default=None)
        marks.append((phrase("ports open"), lane.off_at + last if last is not None and services.passed else None))
    part = (width - _EXPECTED) // len(marks)
    rail, names, times = Ink().to(_EXPECTED), Ink().to(_EXPECTED), Ink().to(_EXPECTED)
    for place, (name, at) in enumerate(marks):
        reached = at is not None
        ahead = marks[place + 1][1] is not None if place + 1 < len(marks) else False
        rail.put("●" if reached else "○", THEIRS if reached else DIM)
        if place + 1 < len(marks):
            rail.put(("━" if ahead else "╌") * (part - 1), THEIRS if ahead else DIM)
        names.to(_EXPECTED + place * part).put(name, STRONG if reached else DIM)
        since = lane.off_at if lane.off_at is not None else now
        times.to(_EXPECTED + place * part).put(f"{at - since:.1f} s" if at is not None else "–", DIM)
    return [rail, names, times]
