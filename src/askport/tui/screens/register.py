"""The register: every device as found and as left, with its proofs."""

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.screen import Screen
from textual.widgets import Footer

from askport.core.narrate import basis_words, proof_words
from askport.core.plan.work import WorkItem
from askport.core.register.as_left import Basis
from askport.core.register.fold import Row
from askport.core.ways.table import entry_of
from askport.tui.ink import CONFLICT, DIM, STRONG, THEIRS, Ink, blank, flow, heading, line, wrapped
from askport.tui.widgets.sheet import Sheet
from askport.tui.workplace import Workplace

_FOUND, _LEFT, _STATE = 54, 80, 104


class RegisterScreen(Screen[None]):
    """What this job has recorded."""

    CSS_PATH = "register.tcss"
    BINDINGS = [Binding("escape,r,enter", "app.pop_screen", "Back to the cable", id="register.back")]

    def __init__(self, workplace: Workplace) -> None:
        super().__init__()
        self._workplace = workplace

    def compose(self) -> ComposeResult:
        """Lay out the list."""
        yield Sheet(id="heading")
        with VerticalScroll(id="rows"):
            yield Sheet(id="sheet")
        yield Footer(compact=True)

    def on_mount(self) -> None:
        """Read the job file."""
        self.draw()

    def on_resize(self) -> None:
        """Draw to the new width."""
        self.draw()

    def draw(self) -> None:
        """Show the rows."""
        rows, job, work = self._workplace.run.rows, self._workplace.run.job.path, self._workplace.run.work
        proven = sum(row.is_proven for row in rows)
        title = Ink().put(f"  {self._workplace.title}", STRONG).put(" · register of ", DIM).put(job.name)
        self.query_one("#heading", Sheet).show([title.put(f"   {proven} of {len(rows)} proven", DIM)])
        width = max(60, self.size.width - 8)
        done = {row.tag for row in rows if row.last.recorded_at}
        lines = [*register_lines(rows, width), *_left_lines([item for item in work if item.tag not in done], width)]
        self.query_one("#sheet", Sheet).show(lines)


def register_lines(rows: list[Row], width: int) -> list[Ink]:
    """Draw each device: what it was, an arrow, what it is, and how that was proven."""
    if not rows:
        return wrapped("Nothing recorded yet. The first device appears here as soon as it was found.", width, DIM)
    wide = width >= _STATE + 20
    lines = []
    for row in rows:
        head = Ink().put(row.tag or "no tag", STRONG).to(10).put(row.mac, DIM).to(29).put(row.maker or "")
        if not wide:
            lines.append(head)
            head = Ink().to(10)
        found, left = (_FOUND, _LEFT) if wide else (10, 32)
        head.to(found).put(row.first.as_found).put(" ").to(left - 3, "─", DIM).put("▸  ", DIM)
        visit = row.last
        head.put(visit.as_left.words() if row.left else "not set", f"{STRONG} {THEIRS}")
        style = CONFLICT if row.state == "unproven" else STRONG
        lines.append(head.to(_STATE if wide else 54).put(row.state, style))
        marks = [_mark(proof.name, passed=proof.passed) for proof in visit.proofs.values()]
        marks += [Ink().put(f"– {proof_words(name)}: left out", CONFLICT) for name in visit.left_out]
        lines += flow(marks or [line("no proofs yet", DIM)], width, 10)
        way = entry_of(visit.way)
        how = [way.done] if way else []
        kept = visit.as_left
        how.append(_with_basis("mask", f"/{kept.prefix.value}", kept.prefix.basis))
        how.append(_with_basis("gateway", kept.gateway.value, kept.gateway.basis))
        how.append(_with_basis("DNS", " ".join(map(str, kept.dns.value or ())), kept.dns.basis))
        if visit.recorded_at:
            at = visit.recorded_at.astimezone()
            how.append(f"recorded {at:%Y-%m-%d}\N{NO-BREAK SPACE}{at:%H:%M}")
        if len(row.visits) > 1:
            how.append(f"{len(row.visits)} visits, the first {row.first.found_at.astimezone():%Y-%m-%d}")
        how = [each for each in how if each]
        lines += [*wrapped(", ".join(how), width, DIM, 10), blank()]
    return lines


def _left_lines(items: list[WorkItem], width: int) -> list[Ink]:
    """Draw what of the work list is still to do."""
    pieces = [
        Ink().put(item.tag, STRONG).put(f" {item.target.interface}" if item.target else "", DIM) for item in items
    ]
    return [blank(), heading("Still to do", width), *flow(pieces, width, 2)] if items else []


def _with_basis(name: str, value: object, basis: Basis | None) -> str:
    """Return a value with what it rests on, or nothing where it is not known."""
    return f"{name} {value or 'none'} ({basis_words(basis)})" if basis else ""


def _mark(name: str, *, passed: bool | None) -> Ink:
    sign, style = {True: ("✓ ", THEIRS), False: ("✗ ", CONFLICT), None: ("– not made: ", DIM)}[passed]
    return Ink().put(sign, style).put(proof_words(name), DIM)
