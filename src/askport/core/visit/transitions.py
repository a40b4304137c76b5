"""From which phase to which one a session goes, and by what: the only place where that is said."""

from enum import Enum, auto

from askport.core.visit.steps import Phase, Step


class Event(Enum):
    """What takes a session from one phase to another."""

    LINK_CAME = auto()
    LOOKS_AGAIN = auto()
    """Finding is done anew, with a link."""
    WAITS_FOR_LINK = auto()
    """Finding is done anew, without one."""
    MEASURES = auto()
    """A device was chosen, and its mask and gateway are measured first."""
    OUT_OF_REACH = auto()
    """The device has an address that the laptop does not reach: one that does is looked for."""
    OFFERED = auto()
    BORROWS = auto()
    BORROWS_TO_SET = auto()
    BORROWS_TO_PROVE = auto()
    SEES_WHOM_IT_ANSWERS = auto()
    """The laptop has borrowed beside the adapter what reaches it where it was set to be: is it answered there?"""
    GOES_ON_ADAPTER = auto()
    """The device answers the adapter only, and not what is borrowed beside it."""
    NOT_BORROWED = auto()
    """The laptop did not get the address."""
    TRIES_PORTS = auto()
    """The laptop reaches the device as found, or over IPv6, and sees what it answers."""
    PREPARES = auto()
    """Whether the planned values can be set is found out."""
    PREPARED = auto()
    """What can be known before setting is known; without a plan that is nothing."""
    SETS = auto()
    NOT_TAKEN = auto()
    MAY_BE_KEPT = auto()
    """It took its address for now, and its kind can be told to keep it."""
    KEEPS = auto()
    NOT_KEPT = auto()
    """It was not told, or would not."""
    MOVED_AWAY = auto()
    """The device has its new address, and the laptop does not reach it there."""
    PROVES = auto()
    FAILED = auto()
    PASSED = auto()
    PROVES_AGAIN = auto()
    """It kept its address over a power cycle, and all else is proven once more."""
    FORGOT = auto()
    """It did not keep its address over a power cycle."""
    KEPT = auto()
    """It kept everything, or that is left out."""
    RECORDS = auto()


_OPEN = frozenset(Phase) - {Phase.RECORDED}
"""Every phase but the last: what is recorded stays."""
_CHOSEN = _OPEN - {Phase.PLUGGING}

MOVES: dict[Event, dict[Phase, Phase]] = {
    Event.LINK_CAME: {Phase.PLUGGING: Phase.FINDING},
    Event.LOOKS_AGAIN: dict.fromkeys(_OPEN, Phase.FINDING),
    Event.WAITS_FOR_LINK: dict.fromkeys(_OPEN, Phase.PLUGGING),
    Event.MEASURES: {Phase.FINDING: Phase.MEASURING},
    Event.OUT_OF_REACH: dict.fromkeys(_CHOSEN, Phase.CHOOSING),
    Event.OFFERED: {Phase.CHOOSING: Phase.MAY_BORROW},
    Event.BORROWS: {Phase.MAY_BORROW: Phase.BORROWING},
    Event.BORROWS_TO_SET: {Phase.MAY_SET: Phase.BORROWING_TO_SET},
    Event.BORROWS_TO_PROVE: {Phase.MAY_PROVE: Phase.BORROWING_TO_PROVE},
    Event.SEES_WHOM_IT_ANSWERS: {Phase.BORROWING_TO_PROVE: Phase.BORROWING_TO_PROVE},
    Event.GOES_ON_ADAPTER: {
        Phase.TRYING_PORTS: Phase.BORROWING,
        Phase.BORROWING_TO_PROVE: Phase.BORROWING_TO_PROVE,
    },
    Event.NOT_BORROWED: {
        Phase.BORROWING: Phase.MAY_BORROW,
        Phase.BORROWING_TO_SET: Phase.MAY_SET,
        Phase.BORROWING_TO_PROVE: Phase.MAY_PROVE,
    },
    Event.TRIES_PORTS: dict.fromkeys(
        (Phase.FINDING, Phase.MEASURING, Phase.MAY_BORROW, Phase.BORROWING, Phase.TRYING_PORTS), Phase.TRYING_PORTS
    ),
    Event.PREPARES: dict.fromkeys(_CHOSEN, Phase.PREPARING),
    Event.PREPARED: dict.fromkeys(_CHOSEN, Phase.MAY_SET),
    Event.SETS: dict.fromkeys((Phase.MAY_SET, Phase.BORROWING_TO_SET), Phase.SETTING),
    Event.NOT_TAKEN: {Phase.SETTING: Phase.NOT_SET},
    Event.MAY_BE_KEPT: {Phase.SETTING: Phase.MAY_KEEP},
    Event.KEEPS: {Phase.MAY_KEEP: Phase.KEEPING},
    Event.NOT_KEPT: {Phase.KEEPING: Phase.MAY_KEEP},
    Event.MOVED_AWAY: dict.fromkeys(_CHOSEN, Phase.MAY_PROVE),
    Event.PROVES: dict.fromkeys(_CHOSEN, Phase.PROVING),
    Event.FAILED: dict.fromkeys((Phase.PROVING, Phase.POWER_CYCLE, Phase.PROVING_AGAIN), Phase.NOT_PROVEN),
    Event.PASSED: {Phase.PROVING: Phase.POWER_CYCLE},
    Event.FORGOT: {Phase.POWER_CYCLE: Phase.FORGOTTEN},
    Event.PROVES_AGAIN: {Phase.POWER_CYCLE: Phase.PROVING_AGAIN},
    Event.KEPT: dict.fromkeys((Phase.PROVING, Phase.POWER_CYCLE, Phase.PROVING_AGAIN), Phase.MAY_RECORD),
    Event.RECORDS: {Phase.MAY_RECORD: Phase.RECORDED},
}


def after(phase: Phase, event: Event) -> Phase | None:
    """Return the phase behind an event, or None where the event has no place in this phase."""
    return MOVES[event].get(phase)


def may_go_back(phase: Phase, step: Step) -> bool:
    """Whether a step can be done again: it was done before, and nothing is recorded yet."""
    order = list(Step)
    return phase is not Phase.RECORDED and order.index(step) <= order.index(phase.step)
