"""A session's state in sentences: what each step came to, and what to do next."""

from collections.abc import Callable
from dataclasses import dataclass

from askport.core.finding.beliefs import Belief
from askport.core.finding.device import Device
from askport.core.finding.loudness import Loudness
from askport.core.finding.sweeping import Sweeping
from askport.core.proofs.power_cycle import Phase as CyclePhase
from askport.core.register.as_left import Basis
from askport.core.session import Session
from askport.core.steps import Phase, Step
from askport.core.ways.answering import Answering
from askport.core.words import listed, span_words

SILENCE_S = 10.0
"""Silence after which it is worth saying what to do about it."""
_POWER = "pull its power and plug it in again, most devices speak when they start"


@dataclass(frozen=True, slots=True)
class Next:
    """What to do next: one sentence, and whether Enter does it."""

    sentence: str
    enter: bool = True


@dataclass(frozen=True, slots=True)
class StepLine:
    """One step of the way, with its result in a few words."""

    step: Step
    state: str
    """``done``, ``now`` or ``ahead``."""
    result: str


def next_line(session: Session, now: float) -> Next:
    """Say what to do next."""
    if session.trouble:
        return Next(session.trouble.message)
    if not session.link.up and session.phase.step is not Step.PROVE:
        return _plug(session, now)
    return _NEXT[session.phase.step](session, now)


def _plug(session: Session, now: float) -> Next:
    if session.link.since > session.started_at:
        gone = f"The link went down {now - session.link.since:.0f} s ago"
        return Next(f"{gone}: put its power or the cable back. What it says when it starts is its own.", enter=False)
    return Next(f"Plug the cable into {session.laptop.adapter} and give the device power.", enter=False)


def _find(session: Session, now: float) -> Next:
    device, finder = session.search.candidate, session.finder
    if session.phase is Phase.MEASURING:
        return Next("Measuring its mask and gateway from outside.", enter=False)
    if device and device.is_found:
        obstacle = session.search.obstacle
        return Next(obstacle, enter=False) if obstacle else Next(_take(session, device))
    silent_s = now - max(session.link.since, session.started_at, device.last_at if device else 0.0)
    if finder.sweeping and not finder.sweeping.done:
        return _sweeping(finder.sweeping)
    if finder.calling and not finder.calling.done:
        share = f"{finder.calling.asked} of {finder.calling.total} questions"
        return Next(f"Asking by ARP for likely addresses: {share}. Meanwhile {_POWER}.", enter=False)
    heard = "It speaks but has not shown an address yet" if device else "Listening"
    if silent_s >= SILENCE_S:
        heard = f"Nothing heard for {span_words(silent_s)}: {_POWER}"
    return Next(f"{heard}. {_LOUDER[finder.loudness]}{_first(session)}.")


def _first(session: Session) -> str:
    delivered = session.work.delivered
    calls = session.finder.loudness in (Loudness.LISTEN, Loudness.GREET)
    return f", {delivered.ip} first, which its manual gives" if delivered and calls else ""


_LOUDER = {
    Loudness.LISTEN: "Ask who is there",
    Loudness.GREET: "Ask by ARP for likely addresses",
    Loudness.CALL: "Nobody has answered for the likely addresses: sweep all private ones, the likeliest first",
    Loudness.SWEEP: "The sweep is over: sweep once more",
}


def _sweeping(sweeping: Sweeping) -> Next:
    left = f"at {sweeping.at}, {sweeping.asked / sweeping.total:.1%} asked for, {span_words(sweeping.left_s)} left"
    if sweeping.is_paused:
        return Next(f"The sweep is held {left}. Space goes on with it.", enter=False)
    return Next(f"Sweeping: {left}. Space holds it.", enter=False)


def _take(session: Session, device: Device) -> str:
    who = f"{device.mac} ({session.maker(device.mac) or 'maker unknown'})"
    if known := session.known.get(device.mac):
        return f"This is {known.words}. Go on with {who} for another visit."
    codes = {hazard.code for hazard in session.finder.hazards()}
    check = "Several devices speak here: check the label first. " if "several-devices" in codes else ""
    if codes & {"address-server", "router"}:
        check = "The cable is in a live network, and this may be anybody: check the label first. "
    if session.search.label_mac and session.search.label_mac != device.mac:
        check = f"Its label was written down as {session.search.label_mac}, which this is not. "
    if device.asking:
        return f"{check}Go on with {who}: it asks for an address by {device.asking.protocol.upper()}."
    at = f" at {device.best.address}" if device.best else ""
    return f"{check}Go on with {who}{at}."


def _reach(session: Session, now: float) -> Next:
    match session.phase:
        case Phase.CHOOSING:
            return Next("Looking for a laptop address that nobody holds.", enter=False)
        case Phase.MAY_BORROW if session.offer and session.strayed_to and session.way:
            return Next(f"{session.way.because} Borrow {session.offer} to reach it there and correct it.")
        case Phase.MAY_BORROW if session.offer:
            return Next(
                f"Borrow {session.offer} on {session.laptop.adapter}, so that the laptop can talk to it. "
                "Nobody answers there."
            )
        case Phase.MAY_BORROW:
            return Next("No free laptop address was found there: press a and name another.", enter=False)
        case Phase.GREETING:
            return Next("Seeing what it answers as it was found: ping, and the usual ports.", enter=False)
    return Next("Borrowing the address.", enter=False)


def _set(session: Session, now: float) -> Next:
    target = session.target
    if target is None:
        return Next("Say what its final address is to be: press e.", enter=False)
    match session.phase:
        case Phase.PREPARING:
            return Next(f"Asking whether {target.interface.ip} is free.", enter=False)
        case Phase.MAY_SET if not session.may_set:
            failed = next(check.sentence for check in session.checks() if not check.passed)
            return Next(f"{failed} Press e to change the plan.", enter=False)
        case Phase.MAY_SET if not session.has_laptop_address:
            return Next(
                f"No free laptop address was found in {target.interface.network}: press a and name one.", enter=False
            )
        case Phase.MAY_SET if session.way_name == Answering.name:
            borrow = "" if session.laptop.reaching(target.interface.ip) else f"Borrow {session.offer} and "
            verb = "answer" if borrow else "Answer"
            return Next(f"{borrow}{verb} its requests with {target.interface}, once no other server is heard.")
        case Phase.NOT_SET if session.way:
            return Next(f"{session.way.because} Enter tries again.")
        case Phase.SETTING if session.way:
            return Next(session.way.waits_for, enter=False)
    return Next("Borrowing the address.", enter=False)


def _prove(session: Session, now: float) -> Next:
    match session.phase:
        case Phase.MAY_PROVE if session.offer:
            return Next(f"It has moved. Borrow {session.offer} and prove it there.")
        case Phase.MAY_PROVE:
            return Next("It has moved, but no free laptop address was found there: press a and name one.", enter=False)
        case Phase.NOT_PROVEN:
            failed = next((proof for proof in session.proofs if proof.passed is False), None)
            return Next(f"{failed.because if failed else 'It was not finished.'} Enter proves it again.")
        case Phase.POWER_CYCLE if session.power_cycle:
            return Next(_power(session), enter=session.power_cycle.phase is CyclePhase.UNSURE)
        case Phase.FORGOTTEN if session.power_cycle:
            return Next(f"{session.power_cycle.because} Enter goes back to setting it.")
    return Next("Proving it at its new address.", enter=False)


def _power(session: Session) -> str:
    cycle, way = session.power_cycle, session.way
    if cycle and cycle.phase is CyclePhase.OFF:
        return "Its power is off. Plug it in again."
    if cycle and cycle.phase is CyclePhase.STARTING:
        return "It is starting. Waiting for it to answer at its new address."
    if cycle and cycle.phase is CyclePhase.UNSURE:
        return (
            "It was silent and is there again, and nothing shows that its power was cut. Enter if you have pulled it; "
            "if not, pull it now."
        )
    keep = (
        "Tell it to keep this address, or it is gone at the next power cut. Then pull its power"
        if (way and way.permanent is False)
        else "Pull its power, wait three seconds"
    )
    wiggled = f"{cycle.wiggled} " if cycle and cycle.wiggled else ""
    return f"{wiggled}{keep} and put it back. l leaves this proof out."


def _record(session: Session, now: float) -> Next:
    if session.phase is Phase.RECORDED:
        return Next(f"{session.work.tag} is recorded and the laptop has its own settings back. On to the next one.")
    back = f", and give {listed(session.laptop.borrowed)} back" if session.laptop.borrowed else ""
    return Next(f"Record {session.work.tag}{back}.")


_NEXT: dict[Step, Callable[[Session, float], Next]] = {
    Step.PLUG: _plug,
    Step.FIND: _find,
    Step.REACH: _reach,
    Step.SET: _set,
    Step.PROVE: _prove,
    Step.RECORD: _record,
}


_PROOFS = {
    "same-mac": "same MAC",
    "old-gone": "old address left",
    "echo": "answers ping",
    "power-cycle": "survives a power cut",
    "mask": "mask as planned",
    "gateway": "gateway as planned",
}
_BASES = {
    Basis.MEASURED: "measured",
    Basis.HEARD: "heard",
    Basis.READ_BACK: "read back",
    Basis.GIVEN: "given to it",
    Basis.TOLD: "only told",
}


def basis_words(basis: Basis | None) -> str:
    """Return what a value rests on in plain words."""
    return _BASES[basis] if basis else "not known"


def proof_words(name: str) -> str:
    """Return a proof's name in plain words."""
    return _PROOFS.get(name, name.replace("-", " "))


def step_lines(session: Session) -> list[StepLine]:
    """Return the way, each step with its result."""
    order = list(Step)
    at = order.index(session.phase.step)
    lines = []
    for place, step in enumerate(order):
        state = "done" if place < at or session.phase is Phase.RECORDED else "now" if place == at else "ahead"
        lines.append(StepLine(step, state, _RESULTS[step](session)))
    return lines


def _plugged(session: Session) -> str:
    return f"{session.laptop.adapter}, link up" if session.link.up else f"{session.laptop.adapter}, no link"


def _found(session: Session) -> str:
    device = session.chosen or session.search.candidate
    if device is None:
        return "nothing heard yet"
    if device.asking:
        return f"asks by {device.asking.protocol.upper()}"
    best = device.best
    if best is None:
        return "speaks, no address yet"
    return f"{best.address}" if best.belief is Belief.CERTAIN else f"{best.address} {best.belief}"


def _reached(session: Session) -> str:
    if session.chosen is None:
        return ""
    if session.whereabouts is None:
        return "no address to reach yet"
    if session.reached_from and session.phase.step is not Step.REACH:
        return f"from {session.reached_from.ip}"
    return "borrow an address"


def _was_set(session: Session) -> str:
    if session.way and session.way.result == "taken" and session.target:
        return str(session.target.interface)
    if session.phase is Phase.NOT_SET:
        return "not set yet"
    return f"to {session.target.interface}" if session.target else "to be decided"


def _proven(session: Session) -> str:
    if not session.proofs:
        return ""
    proofs = [*session.proofs, *([session.power_cycle] if session.power_cycle else [])]
    failed = sum(proof.passed is False for proof in proofs)
    passed = sum(proof.passed is True for proof in proofs)
    return f"{failed} failed" if failed else f"{passed} of {len(proofs)} proven"


_RESULTS: dict[Step, Callable[[Session], str]] = {
    Step.PLUG: _plugged,
    Step.FIND: _found,
    Step.REACH: _reached,
    Step.SET: _was_set,
    Step.PROVE: _proven,
    Step.RECORD: lambda session: "recorded" if session.phase is Phase.RECORDED else "",
}
