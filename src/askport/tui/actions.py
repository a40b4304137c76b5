"""What can be done at the cable: one table, from which keys, footer, palette, help and the guide's list are made."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from textual.binding import Binding

from askport.core.crate.switch_crate import live_network
from askport.core.finding.blinking import can_blink
from askport.core.finding.loudness import Loudness
from askport.core.phrases import phrase
from askport.core.visit.session import Session
from askport.core.visit.stages.find_stage import DECIDING_KEYS
from askport.core.visit.steps import Phase, Step
from askport.tui import laptop_console, laptop_watch


class Touches(StrEnum):
    """What an action touches, the least first."""

    NOTHING = "only looks"
    JOB = "writes to the job"
    WIRE = "sends on the cable"
    DEVICE = "may change the device or the laptop"


@dataclass(frozen=True, slots=True, kw_only=True)
class Moment:
    """What decides whether an action is offered."""

    session: Session
    enter: bool
    """Whether the bottom line says that Enter does something."""
    typing: bool
    practice: bool
    in_crate: bool = False
    """Whether the rest of a crate goes by itself."""
    lesson: bool = False
    """Whether something was learned from the unit at hand, and not kept yet."""
    learned: bool = False
    """Whether what was learned from it is kept."""


def _was_given(session: Session) -> bool:
    """Whether the unit at hand was set by what its kind says, and is proven or recorded."""
    way = session.device.way
    done = session.phase in (Phase.POWER_CYCLE, Phase.PROVING_AGAIN, Phase.MAY_RECORD, Phase.RECORDED)
    return done and way is not None and way.gives and session.device.kind is not None


def _may_be_several(session: Session) -> bool:
    """Whether other devices may hang on the cable: always, because some say nothing, but on a live network."""
    return not live_network(session)


def _always(_: Moment) -> bool:
    return True


def _while(*phases: Phase) -> Callable[[Moment], bool]:
    return lambda moment: moment.session.phase in phases


def _during(*steps: Step) -> Callable[[Moment], bool]:
    return lambda moment: moment.session.phase.step in steps


def _loudness_can(change: Callable[[Session], bool]) -> Callable[[Moment], bool]:
    return lambda moment: moment.session.phase is Phase.FINDING and not moment.typing and change(moment.session)


def _sweeps(session: Session) -> bool:
    sweeping = session.cable.finder.sweeping
    return sweeping is not None and not sweeping.done


def _has_page(moment: Moment) -> bool:
    return not moment.practice and laptop_watch.page_at(moment.session) is not None


@dataclass(frozen=True, slots=True, kw_only=True)
class Action:
    """One thing that can be done."""

    name: str
    does: str = ""
    """The method of the screen, or of a part that it has, that does it."""
    opens: str = ""
    """The view that it opens instead: what makes it of the screen, as ``module:name``."""
    key: str
    title: str
    says: str
    touches: Touches = Touches.NOTHING
    offered: Callable[[Moment], bool] = _always
    greyed: bool = False
    """Whether its key stays in the footer while it is not offered, so that nothing jumps."""
    shown: bool = True
    """Whether it stands in the footer."""
    argument: str = ""

    def __post_init__(self) -> None:
        for name in ("title", "says"):
            object.__setattr__(self, name, phrase(getattr(self, name)))

    @property
    def id(self) -> str:
        """What it is known by, with its argument."""
        return f"{self.name}{self.argument}"

    def binding(self) -> Binding:
        """Return its key."""
        tooltip = f"{self.says}; {self.touches}" if self.touches is not Touches.NOTHING else self.says
        return Binding(self.key, f"do('{self.id}')", self.title, id=f"work.{self.id}", tooltip=tooltip, show=self.shown)


_VIEWS = "askport.tui.screens."

ACTIONS: list[Action] = [
    Action(
        name="next", does="do_next",
        key="enter", title="Continue", says="Do the action on the bottom line", touches=Touches.DEVICE,
        offered=lambda moment: moment.enter, greyed=True,
    ),
    Action(
        name="ask_for", does="ask_address", key="a", title="Address", touches=Touches.WIRE,
        says="Enter the address from its label or manual, a range to sweep, or another address for "
"the laptop",
        offered=_while(Phase.FINDING, Phase.MAY_BORROW, Phase.MAY_SET, Phase.MAY_PROVE),
    ),
    Action(
        name="label", does="ask_label", key="m", title="Label", says="Type or scan the MAC address on its label",
        offered=_while(Phase.FINDING),
    ),
    Action(
        name="switch", opens=_VIEWS + "switch_screen:SwitchScreen.over",
        key="x", title="Several on switch", touches=Touches.DEVICE,
        says="Set and prove all units on one switch, each by its label",
        offered=lambda moment: moment.session.phase is Phase.FINDING and _may_be_several(moment.session),
    ),
    Action(
        name="blink", does="search.blink", key="i", title="Blink", touches=Touches.DEVICE,
        says="Make it blink, to see which one it is",
        offered=lambda moment: moment.session.phase is Phase.FINDING
        and can_blink(moment.session.cable.search.candidate),
    ),
    Action(
        name="accept", does="search.accept", key="d", title="Use this device",
        says="The device itself runs this live network",
        offered=lambda moment: moment.session.phase is Phase.FINDING and moment.session.cable.search.may_accept,
    ),
    *(
        Action(
            name="decide", does="search.decide",
            argument=str(place), key=key, title="Choose device", touches=Touches.JOB, shown=False,
            says="Choose which device of the job this is, when plan and register differ",
            offered=lambda moment: bool(moment.session.stages.find.undecided),
        )
        for place, key in enumerate(DECIDING_KEYS)
    ),
    Action(
        name="louder", does="search.louder",
        key="plus,equals_sign", title="Search more", says="Send more, or sweep faster", touches=Touches.WIRE,
        offered=_loudness_can(
            lambda session: session.cable.finder.loudness is not Loudness.SWEEP or bool(session.cable.search.faster)
        ),
    ),
    Action(
        name="quieter", does="search.quieter", key="minus", title="Listen only", says="Send nothing more",
        offered=_loudness_can(lambda session: session.cable.finder.loudness is not Loudness.LISTEN),
    ),
    Action(
        name="hold", does="search.hold",
        key="space", title="Pause or resume", says="Pause the sweep, or resume it", touches=Touches.WIRE,
        offered=_loudness_can(_sweeps),
    ),
    Action(
        name="frames", does="search.show_frames", key="f", title="Frames", says="The frames behind each statement",
        offered=_during(Step.PLUG, Step.FIND, Step.REACH),
    ),
    Action(
        name="door", does="open_door",
        key="o", title="Open page", says="Open its page in a browser, over the cable", offered=_has_page,
        touches=Touches.WIRE,
    ),
    Action(
        name="console", does="lessons.open_console",
        key="v", title="Console", says="Type on its console, over the cable", touches=Touches.WIRE,
        offered=lambda moment: not moment.practice and laptop_console.console_of(moment.session) is not None,
    ),
    Action(
        name="plan", does="planning.begin", key="e", title="Plan", says="Change its new settings",
        offered=_during(Step.PLUG, Step.FIND, Step.REACH, Step.SET),
    ),
    Action(name="name", does="ask_tag", key="n", title="Tag", says="Choose or change its tag", touches=Touches.JOB),
    Action(
        name="other_way", does="other_way", key="w", title="Other way", says="Set the address by another way",
        offered=lambda moment: moment.session.phase.step is Step.SET and len(moment.session.visit.way_names) > 1,
    ),
    Action(
        name="log_in", does="ask_log_in", key="u", title="Log-in",
        says="The log-in for devices of its kind, or the serial line of its console",
        offered=lambda moment: bool(moment.session.stages.setting.asks_for),
    ),
    Action(
        name="restore", does="restore", key="z", title="Restore", touches=Touches.DEVICE,
        says="Restore the settings as found, as far as possible; again: set it as planned after all",
        offered=lambda moment: moment.session.stages.setting.may_restore,
    ),
    Action(
        name="crib", opens=_VIEWS + "crib_screen:CribScreen.over", key="c", title="Value card",
        says="The values in large type, as they are typed in; a key copies each",
        offered=lambda moment: moment.session.phase.step is Step.SET and moment.session.device.target is not None,
    ),
    Action(
        name="leave_out", does="leave_out", key="l", title="Skip", touches=Touches.JOB,
        says="Skip the power cycle, or saving its address",
        offered=_while(Phase.POWER_CYCLE, Phase.MAY_KEEP),
    ),
    Action(
        name="lesson", does="lessons.keep", key="s", title="Save lesson", touches=Touches.JOB,
        says="Save what was learned from setting this unit, for the next ones",
        offered=lambda moment: moment.lesson,
    ),
    Action(
        name="lessons", opens=_VIEWS + "lessons_screen:LessonsScreen.over", key="h", title="Lessons", shown=False,
        says="Lessons of this job, to view or delete",
    ),
    Action(
        name="crate", does="crate_keys.begin_or_end", key="g", title="Repeat for crate", touches=Touches.DEVICE,
        says="Set the rest of the crate like this unit, stopping when you are needed; again: stop",
        offered=lambda moment: moment.in_crate or moment.learned or _was_given(moment.session),
    ),
    Action(name="back", does="go_back", key="b", title="Back", says="Go back one step, or to the one looked at"),
    Action(
        name="site", opens=_VIEWS + "site_screen:SiteScreen.over", key="p", title="Site", touches=Touches.JOB,
        says="Address maps of the site, and which device is next",
    ),
    Action(
        name="register", opens=_VIEWS + "register_screen:RegisterScreen.over", key="r", title="Register",
        says="What was recorded",
    ),
    Action(
        name="point", does="search.point", argument="-1", key="up,k", title="Point up",
        says="Point at the device above", shown=False,
    ),
    Action(
        name="point", does="search.point", argument="1", key="down,j", title="Point down",
        says="Point at the one below", shown=False,
    ),
    *(
        Action(
            name="look", does="look", argument=str(place), key=str(place), title=step,
            says="View this step", shown=False,
        )
        for place, step in enumerate(Step, 1)
    ),
    Action(
        name="look", does="look", argument="0", key="escape", title="Now",
        says="Back to where it stands", shown=False,
    ),
    *(
        Action(
            name=name, does=does, key=key, title=title, says=says, shown=False, offered=lambda moment: moment.practice
        )
        for name, does, key, title, says in (
            ("hand_power", "hands.power", "f6", "Power", "In practice: pull its power, or plug it in"),
            ("hand_type", "hands.type_values", "f7", "Type", "In practice: type the planned values into it"),
            ("hand_mistype", "hands.mistype", "f8", "Mistype", "In practice: type them with two digits swapped"),
        )
    ),
]  # fmt: skip
"""In the order of the footer; to have one more, or a view, write one here."""


def action_of(wanted: str) -> Action:
    """Return the action that is known by a word."""
    return next(each for each in ACTIONS if each.id == wanted)


def is_offered(action: Action, moment: Moment) -> bool | None:
    """Say whether an action is offered now; None where its key is shown and does nothing."""
    if action.offered(moment):
        return True
    return None if action.greyed else False


def bindings() -> Iterator[Binding]:
    """Return the keys."""
    return (action.binding() for action in ACTIONS)
