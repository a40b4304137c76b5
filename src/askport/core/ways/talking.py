"""What setting a device over a conversation has in common, on its console as on its page: say, follow, keep."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address
from typing import Protocol

from askport.core import channels, machine, wire
from askport.core.finding.tracking import Sighting
from askport.core.kinds import model, own_word, placeholders
from askport.core.phrases import phrase, together
from askport.core.ways.conversation import Conversation, Ended, Spoken
from askport.core.ways.start import Start
from askport.core.ways.way import FOLLOW_S, Result, Way

_NOT_MEASURED = phrase("Mask not checked yet.")
_NOT_READ = phrase("What it has now was not read: look before going on.")
_HANDS_S = 600.0
"""How long a power cycle is waited for that somebody has to make."""


class _Part(Enum):
    SETTING = auto()
    FOLLOWING = auto()
    KEEPING = auto()
    READING = auto()
    """What it has now, because it refused after a part of it was taken."""


class Terms(Protocol):
    """How a device is set over a conversation: its console or page as its kind has it, or a field protocol."""

    @property
    def login(self) -> Sequence[object]:
        """What is said first."""

    @property
    def set(self) -> Sequence[object]:
        """What is said to set it."""

    @property
    def permanent(self) -> str | None:
        """``yes``, ``no``, or ``after keep``."""

    @property
    def takes_effect(self) -> str | None:
        """``at once``, or ``after restart``."""


@dataclass(frozen=True, slots=True)
class FieldTerms:
    """How a device is set in a field protocol."""

    set: Sequence[str]
    takes_effect: str = "at once"
    permanent: str = "yes"
    login: Sequence[str] = ()


class Talking(Way):
    """Says what its kind knows, sees the device move, and has it keep what was set where that is needed."""

    gives = True
    what: str
    """What is talked to: its console, or its page."""

    def __init__(self, start: Start, kind: model.Kind | None, by: Terms, texts: Iterable[str]) -> None:
        """Begin to talk.

        Args:
            start: the device, its final settings, and what it is reached with.
            kind: its kind, where it is known.
            texts: what will be said to set it, with placeholders.

        Raises:
            ValueError: it cannot be reached, before and after.
        """
        if start.laptop is None:
            raise ValueError(phrase("a device that is talked to needs a laptop address from which it is followed"))
        super().__init__(
            start.mac,
            start.target,
            laptop_mac=start.laptop_mac,
            ours=[start.laptop.ip],
            now=start.now,
            was=start.old,
            landings=start.landings,
        )
        self._start, self._kind, self._by, self._at = start, kind, by, start.old
        self.wrote = placeholders.wrote_by(texts)
        self._part = _Part.SETTING
        self._kept = self._looks = False
        self._waits_for_power = self._was_off = False
        self._follow_until = 0.0
        self._set_by_then: list[Spoken] = []
        """What was said until it refused."""
        self._tracker.look_from(start.now)  # before it moves, so that its first word there can be believed
        self._conversation = self._set()

    # What a console and a page do differently

    def _set(self) -> Conversation:
        """Begin to set it."""
        raise NotImplementedError

    def _keep(self, now: float) -> Conversation | None:
        """Begin to have it keep what it has at its new address, or return None where that is not needed."""
        return None

    def _read(self, now: float) -> Conversation | None:
        """Begin to read what it has now, or return None where nothing can."""
        return None

    @property
    def _where(self) -> str:
        return phrase("at {talks_at}", talks_at=self._start.talks_at)

    @property
    def _restarts(self) -> bool:
        """Whether it was told to start anew."""
        return False

    @property
    def _sets_until(self) -> int:
        """How many things are said until it is set; keeping and restarting come after."""
        return len(self._by.login) + len(self._by.set)

    @property
    def has_acted(self) -> bool:
        """Whether it told the device anything: the log-in does not count, and what only asks."""
        return any(each.changes for each in self._conversation.spoken[len(self._by.login) :])

    @property
    def has_changed(self) -> bool:
        """Whether the device took something of what it was told, though it refused the rest."""
        return super().has_changed or any(each.acknowledged and each.changes for each in self._set_by_then)

    def drop(self) -> list[machine.Effect]:
        if not self.done:
            self._note_spoken(self.steps[-1].at if self.steps else self._started_at)
        self._conversation.leave()
        return super().drop()

    # The way

    @property
    def permanent(self) -> bool | None:  # type: ignore[override]
        """Whether it lasts: by its kind, once it was told to keep it where that is needed."""
        match self._by.permanent:
            case "after keep":
                return self._kept
            case "yes":
                return True
            case "no":
                return False
        return None

    @property
    def moved_to(self) -> IPv4Address | None:
        """Where the device is now, if it has left its old address for another than the planned one."""
        return self._tracker.moved_to if self._part is _Part.FOLLOWING else None

    @property
    def wants_power(self) -> bool:
        """Whether it uses what was set after a restart only, and nobody has made one yet."""
        return self._part is _Part.FOLLOWING and self._waits_for_power and not self.done

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        target = self.target.interface.ip
        match self._part:
            case _Part.SETTING:
                said = self._conversation.unanswered
                return (
                    phrase("Said “{said}” to its {what}.", said=said, what=self.what)
                    if said
                    else phrase("Talking to its {what} {where}.", what=self.what, where=self._where)
                )
            case _Part.FOLLOWING if self._was_off:
                return phrase("Its power is off. Plug it in again, and it comes up at {target}.", target=target)
            case _Part.FOLLOWING if self.wants_power:
                return phrase("It has saved {target} and uses it after a restart: power-cycle it.", target=target)
            case _Part.FOLLOWING:
                waits = "Waiting for it at {target}; it may take {boot_s:.0f} s to start."
                waits = waits if self._boot_s else "Waiting for it at {target}."
                return phrase(waits, target=target, boot_s=self._boot_s)
            case _Part.KEEPING:
                return phrase("The device is at {target}. Saving the address ({what}).", target=target, what=self.what)
            case _Part.READING:
                return phrase("Its {what} refused. Reading what it has now.", what=self.what)

    @property
    def _boot_s(self) -> float:
        """How long it may take to start; many restart by themselves once they are set."""
        return (self._kind.needs.boot_s if self._kind else None) or 0.0

    def channel_event(self, event: channels.ChannelEvent, now: float) -> None:
        if not self.done:
            self._conversation.channel_event(event, now)
            self._go_on(now)

    def receive(self, heard: wire.Heard) -> None:
        """See where the device is; some talk in frames of their own."""
        if not self.done:
            self._conversation.receive(heard)
            self._tracker.receive(heard)
            self._go_on(heard.at)

    def link_changed(self, link: wire.Link, now: float) -> None:
        """Take in that it was restarted: its power went, and came back."""
        if self.wants_power:
            if link.up and self._was_off:
                self._waits_for_power = False
                self._follow_until = now + FOLLOW_S + self._boot_s
            self._was_off = not link.up

    def handle_timer(self, now: float) -> None:
        if self.done:
            return
        self._conversation.handle_timer(now)
        self._tracker.handle_timer(now)
        self._go_on(now)
        if self._part is _Part.FOLLOWING and not self.done and now >= self._follow_until:
            self._not_come(now)

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        until = self._follow_until if self._part is _Part.FOLLOWING else None
        return machine.earliest(self._conversation.next_deadline(), self._tracker.next_deadline(), until)

    @property
    def children(self) -> list[machine.Machine]:
        return [*super().children, self._conversation]

    def _go_on(self, now: float) -> None:
        talk, setting = self._conversation, self._part is _Part.SETTING
        self.wants_log_in |= talk.wants_log_in
        if talk.key and talk.key != self.shown_key:
            self.shown_key = talk.key
            self._note_key(talk.key, now)
        if setting and talk.has_said_all and not self._looks:
            self._looks = True  # it may move before it answers
        if talk.said and setting:
            self._note_spoken(now)
            self._was_set(talk.said.ended, talk.said.because, now)
        elif talk.said and self._part is _Part.READING:
            has = own_word.words_of(own_word.read_back(talk.said.found)) if talk.said.ended is Ended.WELL else ""
            now_has = phrase("It says that it has {has} now.", has=has) if has else _NOT_READ
            self._finish(Result.REFUSED, together(self.because, now_has), now)
        elif talk.said and self._part is _Part.KEEPING:
            self._note_spoken(now)
            self._kept = talk.said.ended is Ended.WELL
            at = self.target.interface.ip
            saved = phrase("Its {what} confirmed saving the address", what=self.what)
            saved = (
                saved
                if self._kept
                else phrase("Saving the address was not confirmed: {because}", because=talk.said.because)
            )
            self._finish(
                Result.TAKEN,
                phrase("It is at {at}. {saved}. {not_measured}", at=at, saved=saved, not_measured=_NOT_MEASURED),
                now,
            )
        for seen in self._tracker.news():
            if self.done:
                return
            if seen.kind is Sighting.ARRIVED and self._part is _Part.FOLLOWING:
                self._arrived(now)
            elif seen.kind is Sighting.ARRIVED and self._part is _Part.SETTING and self._looks:
                self._note_spoken(now)
                talk.leave()
                self._arrived(now)
            elif seen.kind is Sighting.MOVED and self._part is _Part.FOLLOWING:
                self._note(
                    phrase("It moved to {address} instead of {ip}.", address=seen.address, ip=self.target.interface.ip),
                    seen.at,
                )

    def _note_key(self, key: str, now: float) -> None:
        before = self._start.known_key
        if before is None:
            said = phrase("it is new here, and will be compared next time")
        elif before == key:
            said = phrase("as it was the last time")
        else:
            said = phrase("and it was another the last time: {before}. Is this the same device?", before=before)
        self._note(
            phrase("Its {what} shows the key {key}: {said}.", what=self.what, key=key, said=said).replace("?.", "?"),
            now,
        )

    def _note_spoken(self, now: float) -> None:
        for spoken in self._conversation.spoken[len(self._by.login) :]:
            self._note(f"“{spoken.text}”: {spoken.outcome}.", now)

    def _was_set(self, ended: Ended, because: str, now: float) -> None:
        spoken, entering = self._conversation.spoken, len(self._by.login)
        over = sum(each.is_over for each in spoken)
        where = phrase("Its {what} {where}", what=self.what, where=self._where)
        if ended is Ended.UNREACHED:
            self._finish(
                Result.NO_ANSWER, phrase("{where} does not open: {because}.", where=where, because=because), now
            )
        elif ended is Ended.REFUSED and over < self._sets_until:
            self._refused(phrase("{where} refused: {because}.", where=where, because=because), now)
        elif ended is Ended.WELL or len(spoken) >= self._sets_until:
            if ended is Ended.REFUSED:
                self._note(phrase("It was set, and then refused: {because}.", because=because), now)
            elif ended is not Ended.WELL:
                self._note(
                    phrase(
                        "After “{text}” {because}: it may have moved with that.", text=spoken[-1].text, because=because
                    ),
                    now,
                )
            self._follow(ended, now)
        else:
            last = (
                phrase("“{text}” was the last that was sent", text=spoken[-1].text)
                if spoken
                else phrase("nothing was sent")
            )
            took = max(0, over - entering)
            stopped = phrase("was lost") if ended is Ended.CLOSED else phrase("went no further")
            text = phrase(
                "{where} {stopped} after {took} of {count}: {because}; {last}.",
                where=where,
                stopped=stopped,
                took=took,
                count=len(self._by.set),
                because=because,
                last=last,
            )
            self._finish(Result.SENT if spoken[entering:] else Result.NO_ANSWER, text, now)

    def _refused(self, because: str, now: float) -> None:
        """End; where a part of it was taken, say which, and what the device has now."""
        self._set_by_then = self._conversation.spoken[len(self._by.login) :]
        taken = [each.text for each in self._set_by_then if each.acknowledged and each.changes]
        if not taken:
            self._finish(Result.REFUSED, because, now)
            return
        self.because = phrase("{because} It had taken by then: {taken}.", because=because, taken="; ".join(taken))
        reads = self._read(now)
        if reads is None:
            self._finish(Result.REFUSED, f"{self.because} {_NOT_READ}", now)
            return
        self._effects += self._conversation.poll()  # what it closes is closed before the next one opens it
        self._part, self._conversation = _Part.READING, reads

    def _follow(self, ended: Ended, now: float) -> None:
        self._part, self._looks = _Part.FOLLOWING, True
        self._waits_for_power = self._by.takes_effect == "after restart" and not (
            self._restarts and ended is not Ended.REFUSED
        )
        self._follow_until = now + FOLLOW_S + self._boot_s + (_HANDS_S if self._waits_for_power else 0.0)
        if self._waits_for_power:
            self._note(phrase("It uses that after a restart."), now)
        if self.target.interface.ip in self._tracker.seen:
            self._arrived(now)

    def _arrived(self, now: float) -> None:
        address = self.target.interface.ip
        came = "It moved: {at} to {address}, same MAC." if self._at else "It came to {address}, same MAC."
        self._note(phrase(came, at=self._at, address=address), now)
        self._tracker.stop_looking()
        if keeping := self._keep(now):
            self._effects += self._conversation.poll()  # its line has to be let go before the next one has it
            self._part, self._conversation = _Part.KEEPING, keeping
        else:
            self._finish(Result.TAKEN, self._is_there, now)

    @property
    def _is_there(self) -> str:
        """Say what was seen of what it was told: the address, and not its mask."""
        return phrase("It is at {ip}. {not_measured}", ip=self.target.interface.ip, not_measured=_NOT_MEASURED)
