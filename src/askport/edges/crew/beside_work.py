"""Meeting the crew's database beside the work: a thread of its own reads and pushes, and no key waits for it.

The thread never writes the job file. What it has read waits until whoever has the file open takes it (``adopt``), and
until then nothing more is read. A database that does not answer holds up nobody but the thread.
"""

import threading
import time
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from functools import partial
from queue import Empty, Queue

from askport.core import errors, text
from askport.core.crew.in_hand import ALONE, HELD_S, Others, others_of
from askport.core.phrases import phrase, phrase_of
from askport.edges import jobfile, kept_frames, log
from askport.edges.crew import frames, job_part, own_key, syncing
from askport.edges.crew.job_part import Membership
from askport.edges.crew.server import Server

_LOOKS_EVERY_S = 0.2
"""How soon it is seen that something new was written or taken in hand here."""
_ASKS_EVERY_S = 15.0
"""How often it is asked though nothing was told; what is in hand is renewed then."""
_FRAMES_EVERY_S = 60.0
_AT_ONCE = 100
_TRIES_AGAIN_S = (2.0, 5.0, 15.0, 30.0)
_SILENT_S = 5.0
"""After so long without an answer it is said that there is none."""
_PATIENCE_S = 1.5
"""How long the end of the program waits for what was in hand to be given up."""


@dataclass(frozen=True, slots=True)
class CrewState:
    """How it stands, for one line on the screen."""

    member: str
    site: str
    waits: int
    """Lines that the database does not have."""
    reached_s: float | None
    """How long ago it answered last; None where it never did."""
    fault: str
    """Why it does not answer; empty where it does."""
    wrong: str
    """What is not believed of what it has, the first of it."""

    @property
    def words(self) -> str:
        """The line."""
        if self.wrong:
            return phrase("crew: a record failed verification, open the register (r)")
        waits = phrase_of(self.waits, "{count} line waits", "{count} lines wait")
        if self.reached_s is None:
            said = phrase("crew: not reached yet")
        elif self.fault or self.reached_s > _ASKS_EVERY_S + _SILENT_S:
            said = phrase("crew: not reached for {span}", span=text.span_words(self.reached_s))
        elif self.member:
            said, waits = phrase("crew: {member}", member=self.member), waits if self.waits else phrase("all sent")
            return f"{said}, {waits}"
        else:
            return phrase("live")
        return f"{said}, {waits}" if self.waits else said


class CrewBeside:
    """Keeps a job file and its crew together while the file is open."""

    def __init__(self, job: jobfile.JobFile, crew: Membership, clock: Callable[[], float] = time.monotonic) -> None:
        self._job, self._crew, self._clock = job, crew, clock
        self.others: Others = ALONE
        self._inbox: Queue[Callable[[], object]] = Queue()
        self._adopted, self._stop = threading.Event(), threading.Event()
        self._wanted: frozenset[str] = frozenset()
        self._claimed: frozenset[str] | None = None
        self._reached_at: float | None = None
        self._fault, self._wrong, self._waits = "", "", 0
        self._count_met = -1
        self._first = True
        """Whether a connection has just begun: what was read before is compared once with what is there now."""
        self._frames_at = self._clock() + _FRAMES_EVERY_S
        self._take_block()
        self._thread = threading.Thread(target=self._run, name="crew", daemon=True)
        self._thread.start()

    def _take_block(self) -> None:
        with self._job.engine.connect() as connection:
            block = frozenset(job_part.block_in(connection))
            self._waits = job_part.waiting(connection)
        self.others = replace(self.others, block=block)

    # What the one who has the file open calls

    def want(self, claims: frozenset[str]) -> None:
        """Have exactly this in hand from now on."""
        self._wanted = claims

    def adopt(self) -> bool:
        """Write down what has come; return whether anything was."""
        try:
            write = self._inbox.get_nowait()
        except Empty:
            return False
        try:
            write()
        except errors.AskPortError as error:
            self._fault = error.message
        finally:
            self._crew = self._job.crew or self._crew
            self._adopted.set()
        return True

    @property
    def state(self) -> CrewState:
        """How it stands."""
        at = self._reached_at
        ago = None if at is None else self._clock() - at
        waits = self._waits + max(0, self._job.count - self._count_met) if self._count_met >= 0 else self._waits
        return CrewState(self._crew.member, self._crew.site, waits, ago, self._fault, self._wrong)

    def close(self) -> None:
        """End; what was in hand is given up, where the database answers in time."""
        self._wanted = frozenset()
        self._stop.set()
        self._adopted.set()
        self._thread.join(_PATIENCE_S)

    # The thread

    def _run(self) -> None:
        failed = 0
        while not self._stop.is_set():
            try:
                with closing(Server(self._crew.url)) as server:
                    server.listen()
                    self._first = True
                    while not self._stop.is_set():
                        self._meet(server)
                        failed = 0
                        self._wait(server)
                    with suppress(errors.AskPortError):
                        self._claim(server)
            except Exception as error:  # noqa: BLE001 - whatever it is: it is said, and tried again
                itself = phrase("A fault of Ask Port itself: {error}.", error=error)
                self._fault = error.message if isinstance(error, errors.AskPortError) else itself
                log.event("crew not reached", because=self._fault)
                self._stop.wait(_TRIES_AGAIN_S[min(failed, len(_TRIES_AGAIN_S) - 1)])
                failed += 1

    def _meet(self, server: Server) -> None:
        """Read what is new, push what is, and say what is in hand."""
        engine = self._job.engine
        self._crew = self._job.crew or self._crew
        key = own_key.key_of(self._crew.crew, self._crew.member) if self._crew.member else None
        digest = is_whole = self._first
        while not self._stop.is_set():
            told = syncing.pull(server, engine, self._crew, digest=digest, most=_AT_ONCE)
            put_back, digest, self._first = told.was_put_back, False, False
            self._wrong = str(told.wrong[0]) if told.wrong else self._wrong
            if told.wrong or (is_whole and told.is_all):
                sentences = [str(each) for each in told.wrong]
                doubts = job_part.keeping_doubts(sentences, anew=is_whole and told.is_all and not self._wrong)
                self._hand_over(partial(self._job.change, *doubts))
            if not told.is_empty or told.membership != self._crew:
                self._hand_over(partial(syncing.adopt, self._job, told))
            if put_back and key:
                self._hand_over(partial(syncing.push_again, server, self._job, told.membership))
            if told.is_all:
                break
        count = self._job.count
        while key and not self._stop.is_set():
            pushed = syncing.push(server, engine, self._crew, key)
            if not pushed:
                break
            self._hand_over(partial(syncing.mark_pushed, self._job, self._crew, pushed))
        with engine.connect() as connection:
            self._waits = job_part.waiting(connection)
            block = frozenset(job_part.block_in(connection))
        self._count_met = count
        self._claim(server)
        hand = server.in_hand()
        claims = {each.what: each.member for each in hand.claims}
        self.others = others_of(claims, hand.blocks, self._crew.member, block)
        self._reached_at, self._fault = self._clock(), ""
        if self._clock() >= self._frames_at:  # behind all lines, and not with each of them
            self._frames_at = self._clock() + _FRAMES_EVERY_S
            if key:
                frames.send_frames(server, engine)
            for capture in frames.lacking_frames(server, engine):
                self._hand_over(partial(self._job.change, kept_frames.keeping(capture)))

    def _claim(self, server: Server) -> None:
        wanted = self._wanted
        if self._crew.member:
            server.claim(self._crew.member, sorted(wanted), HELD_S)
        self._claimed = wanted

    def _hand_over(self, write: Callable[[], object]) -> None:
        """Have something written down, and wait until it is."""
        self._adopted.clear()
        self._inbox.put(write)
        while not self._adopted.wait(_LOOKS_EVERY_S) and not self._stop.is_set():
            pass

    def _wait(self, server: Server) -> None:
        """Wait until the database tells of something, or there is something to tell it."""
        until = self._clock() + _ASKS_EVERY_S
        while self._clock() < until and not self._stop.is_set():
            if self._wanted != self._claimed or self._job.count != self._count_met:
                return
            if server.wait(_LOOKS_EVERY_S):
                return
