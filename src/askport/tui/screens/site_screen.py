"""The site: its subnets as address maps that one works in, and the devices in working order beside them."""

from collections import Counter
from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Interface

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, VerticalScroll

from askport.core.finding.calling import DEFAULT_RATE
from askport.core.phrases import phrase
from askport.core.plan import address_map, working_order
from askport.core.plan.target import Site, site_among
from askport.core.survey.against_plan import (
    MOST_ASKED,
    Surveyed,
    against_plan,
    ask_all,
    gateways_said,
    holders_in,
)
from askport.core.visit.stages.stage import Next
from askport.core.visit.steps import Phase, Step
from askport.core.visit.transitions import may_go_back
from askport.tui.desk import Desk
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, line, wrapped
from askport.tui.pictures import around, site_map
from askport.tui.screens.drawn_screen import DrawnScreen
from askport.tui.widgets import key_line, sheet
from askport.tui.workplace import Workplace

_LIST = 46
_BETWEEN = (Phase.PLUGGING, Phase.FINDING, Phase.RECORDED)
"""Where no device is at hand."""
_SURVEYED = {
    "as-left": (phrase("is there"), THEIRS),
    "held-by-another": ("another's", CONFLICT),
    "missing": ("missing", CONFLICT),
    "free": ("nobody", DIM),
    "not-asked": (phrase("not asked"), DIM),
}
"""What a survey found of a device, in a word, and how it is drawn."""


class SiteScreen(DrawnScreen[None]):
    """Says what is at each address; Enter takes the device that is planned there, or gives a free one to this one."""

    KEYS_ARE_COMMANDS = True
    CSS_PATH = "site_screen.tcss"
    DRAWS_EVERY_S = 1.0  # who is there may show meanwhile
    HORIZONTAL_BREAKPOINTS = [(0, "-narrow"), (130, "-wide")]
    BINDINGS = [
        Binding("enter", "take", phrase("Take it"), id="site.take"),
        Binding("s", "survey", phrase("Ask the site"), id="site.survey"),
        Binding("escape,p", "app.pop_screen", "Back", id="site.back"),
        Binding("tab", "device(1)", phrase("Next device"), id="site.next", priority=True),
        Binding("shift+tab", "device(-1)", phrase("Device before"), id="site.before", show=False, priority=True),
        Binding("left", "go(-1)", "Address", key_display="← → ↑ ↓", id="site.left"),
        Binding("right", "go(1)", "Right", id="site.right", show=False),
        Binding("up", f"go({-address_map.ROW})", "Up", id="site.up", show=False),
        Binding("down", f"go({address_map.ROW})", "Down", id="site.down", show=False),
    ]

    def __init__(self, workplace: Workplace, taken: Callable[[working_order.WorkItem], object]) -> None:
        """Show the site of a round; ``taken`` is called with a device that is to be next."""
        super().__init__()
        self._workplace, self._taken = workplace, taken
        run = workplace.run
        self._sites = run.sites
        target = run.session.device.target
        first = next(iter(self._sites), None)
        self._plan = run.job.register.plan()
        self._asked: frozenset[IPv4Address] = frozenset()
        self._cursor = target.interface.ip if target else first.network.network_address + 1 if first else IPv4Address(0)
        self._known = self._look()
        """What was known when it was drawn last."""

    @classmethod
    def over(cls, desk: Desk) -> "SiteScreen":
        """Return it as it opens over the screen of the job."""
        return cls(desk.workplace, desk.hands.take_up)

    def compose(self) -> ComposeResult:
        """Lay out the devices beside the maps."""
        yield sheet.Sheet(id="heading")
        with Horizontal(id="middle"):
            yield sheet.Sheet(id="devices")
            with VerticalScroll(id="scroll", can_focus=False):
                yield sheet.Sheet(id="map")
        yield sheet.Sheet(id="next")
        yield key_line.KeyLine()

    def _look(self) -> address_map.KnownAddresses:
        run = self._workplace.run
        targets = ((item.target.interface.ip, item.tag) for item in run.work if item.target)
        register = run.job.register
        planned = address_map.to_have((*targets, *((address, tag) for address, _, tag in register.left())))
        holders = {}
        for address, macs in holders_in(run.session.cable.finder).items():
            mac = min(macs)
            chosen = run.session.device.chosen
            mine = chosen is not None and chosen.mac == mac
            known = run.session.cable.around.known.get(mac)
            holders[address] = (mac, run.session.device.work.tag if mine else known.tag if known else "")
        return address_map.KnownAddresses(
            planned=planned, states=register.states(), at_hand=self._at_hand, holders=holders, others=run.others()
        )

    @property
    def _at_hand(self) -> str:
        """The tag of the device on the cable."""
        session = self._workplace.run.session
        return session.device.work.tag if session.phase is not Phase.RECORDED else ""

    def _heading(self, title: Ink) -> Ink:
        """Say more over the maps."""
        return title.put(f"   {self._survey_told()}", THEIRS)

    def _below(self, width: int) -> list[Ink]:
        """Draw more under the maps."""
        return []

    def draw(self) -> None:
        run = self._workplace.run
        known = self._known = self._look()
        width = max(40, self.query_one("#map", sheet.Sheet).size.width or self.room - _LIST - 5)
        rows: list[address_map.MapRow] = []
        lines: list[Ink] = []
        for site in self._sites:
            drawn = address_map.map_rows(site, known)
            lines += site_map.site_map_lines(site, drawn, self._cursor, width)
            rows += drawn
        if not self._sites:
            text = phrase(
                "No subnet is planned. 'askport plan import FILE --job {name}' reads a plan.", name=run.job.path.name
            )
            lines = wrapped(text, width, DIM)
        found = address_map.counts(rows)
        told = ", ".join(f"{number} {state}" for state, number in found.items())
        title = Ink().put(f"  {self._workplace.title}", STRONG).put(" · " + phrase("the site   {told}", told=told), DIM)
        self.query_one("#heading", sheet.Sheet).show([self._heading(title)])
        self.query_one("#map", sheet.Sheet).show([*lines, *site_map.legend_lines(rows, width), *self._below(width)])
        self.query_one("#devices", sheet.Sheet).show(self._devices(known))
        self.query_one("#next", sheet.Sheet).show(around.next_lines(self._next(), False, self.room))

    def _devices(self, known: address_map.KnownAddresses) -> list[Ink]:
        """Draw the devices in working order, as many around the cursor as there is room for."""
        room = max(4, self.query_one("#devices", sheet.Sheet).size.height - 2)
        items = self._workplace.run.work
        here = next((place for place, each in enumerate(items) if _address(each) == self._cursor), 0)
        first = max(0, min(here - room // 2, len(items) - room))
        surveyed = {each.tag: each for each in self._surveyed()}
        lines = [line(phrase("Work list") if not surveyed else phrase("Work list, and who is there"), STRONG)]
        for item in items[first : first + room]:
            state = known.states.get(item.tag, "")
            cell = self._cell(item.target.interface.ip) if item.target else None
            glyph, style = site_map.GLYPHS[cell.state] if cell else ("?", DIM)
            ink = Ink().put("▸ " if _address(item) == self._cursor else "  ", STRONG).put(f"{glyph} ", style)
            ink.put(item.tag[:12], STRONG if cell and cell.state is address_map.CellState.AT_HAND else "").to(18)
            ink.put(str(_address(item) or phrase("on the spot")), THEIRS if _address(item) else DIM).to(34)
            if found := surveyed.get(item.tag):
                waits = found.state in ("missing", "free") and not self._has_answered
                state, style = (phrase("asking"), DIM) if waits else _SURVEYED[found.state]
            elif member := known.others.holder_of(item.tag):
                state, style = member, STRONG
            else:
                style = CONFLICT if state == "unproven" else DIM
            lines.append(ink.put(state[: _LIST - 34], style))
        return lines

    @property
    def _has_answered(self) -> bool:
        return self._workplace.run.session.cable.finder.has_settled

    def _survey_told(self) -> str:
        """Return what the survey came to, in a few words."""
        if not self._asked:
            return ""
        if not self._has_answered:
            return phrase(
                "asking for {count} addresses, {default_rate:g} a second",
                count=len(self._asked),
                default_rate=DEFAULT_RATE,
            )
        number = Counter(each.state for each in self._surveyed())
        told = [f"{number[state]} {words}" for state, (words, _) in _SURVEYED.items() if number[state]]
        gone = gateways_said(self._plan, holders_in(self._workplace.run.session.cable.finder))
        return "; ".join([phrase("asked: {told}", told=", ".join(told)), *gone])

    def _surveyed(self) -> list[Surveyed]:
        """Return what the network shows of each device of the plan, once it was asked."""
        if not self._asked:
            return []
        register, finder = self._workplace.run.job.register, self._workplace.run.session.cable.finder
        return against_plan(self._plan, register.standings(), holders_in(finder), self._asked)

    def _cell(self, address: IPv4Address) -> address_map.Cell | None:
        site = self._site(address)
        return address_map.cell_at(address, site, self._known) if site else None

    def _site(self, address: IPv4Address) -> Site | None:
        site = site_among(self._sites, address)
        return site if site and address in site.network else None

    def _next(self) -> Next:
        cell, device = self._cell(self._cursor), self._workplace.run.session.device
        if not self._sites:
            return Next(phrase("Nothing is planned yet: 'askport plan import' reads a table. Press Escape to go back."))
        if cell is None:
            return Next(phrase("{cursor} is in no planned subnet.", cursor=self._cursor))
        says = f"{self._cursor}: {cell.words}."
        if item := self._item(cell):
            about = f"{says[:-1]}, {item.description}." if item.description else says
            if cell.state is address_map.CellState.PLANNED and self._may_take:
                return Next(about, self._takes)
            return Next(about)
        if cell.state is address_map.CellState.FREE and self._may_move:
            return Next(says, phrase("Assign it to {tag}, the current device.", tag=device.work.tag))
        return Next(says)

    def _item(self, cell: address_map.Cell) -> working_order.WorkItem | None:
        return next((each for each in self._workplace.run.work if each.tag in cell.tags), None)

    @property
    def _takes(self) -> str:
        session, device = self._workplace.run.session, self._workplace.run.session.device
        is_next = session.phase in _BETWEEN or device.chosen is None
        said = "Take it next." if is_next else "Take it for the current device, instead of {tag}."
        return phrase(said, tag=device.work.tag)

    @property
    def _may_take(self) -> bool:
        phase = self._workplace.run.session.phase
        return phase in _BETWEEN or may_go_back(phase, Step.REACH)

    @property
    def _may_move(self) -> bool:
        session = self._workplace.run.session
        return session.phase in (Phase.PLUGGING, Phase.FINDING, Phase.MAY_BORROW, Phase.MAY_SET, Phase.NOT_SET)

    def action_take(self) -> None:
        """Take the device that is planned here, or give the address to the one at hand."""
        self._known = self._look()
        run, cell = self._workplace.run, self._cell(self._cursor)
        if cell is None or not self._next().enter:
            return
        if item := self._item(cell):
            self._taken(item)
            self.dismiss()
            return
        site, target = self._site(self._cursor), run.session.device.target
        if site is None:
            return
        interface = IPv4Interface((self._cursor, site.network.prefixlen))
        moved = target.moved_to(interface) if target else site.target_at(interface)
        run.session.stages.setting.plan(moved, run.wire.now())
        run.wire.wake()
        self.dismiss()

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Ask the site only where nothing else is under way on the cable; offer Enter where it does something."""
        if action == "take":
            return True if self._next().enter else None
        return action != "survey" or self._workplace.run.session.phase is Phase.FINDING

    def action_survey(self) -> None:
        """Ask for every planned address, and for whole subnets where they are small; what answers is drawn."""
        run = self._workplace.run
        plan = {item.target.interface.ip for item in run.work if item.target}
        small = [each.network for each in self._sites if each.network.num_addresses <= MOST_ASKED]
        asked = dict.fromkeys([*plan, *(host for network in small for host in network.hosts())])
        asked |= dict.fromkeys(each.gateway for each in self._sites if each.gateway)
        self._asked = frozenset(asked)
        ask_all(run.session.cable.finder, asked, now=run.wire.now(), rate=DEFAULT_RATE)
        run.wire.wake()
        self.draw()

    def action_go(self, by: int) -> None:
        """Go to another address; behind the end of a subnet the next one begins."""
        address = IPv4Address(min(max(int(self._cursor) + by, 0), 2**32 - 1))
        if self._site(address) is None and self._sites:
            networks = [each.network for each in self._sites]
            here = next((place for place, each in enumerate(networks) if self._cursor in each), 0)
            other = networks[(here + (1 if by > 0 else -1)) % len(networks)]
            address = other.network_address if by > 0 else other.broadcast_address
        self._cursor = address
        self.draw()

    def action_device(self, by: int) -> None:
        """Go to the next device of the list that has an address."""
        addresses = [address for each in self._workplace.run.work if (address := _address(each))]
        if addresses:
            here = addresses.index(self._cursor) if self._cursor in addresses else -1
            self._cursor = addresses[(here + by) % len(addresses)]
            self.draw()


def _address(item: working_order.WorkItem) -> IPv4Address | None:
    return item.target.interface.ip if item.target else None
