"""PROFINET DCP: a station is given its address, and says what it has, at its MAC address (IEC 61158-6-10 clause 4.3).

Nothing is borrowed for it: the station needs no address, and the laptop none either.
"""

from askport.core import machine, protocols, wire
from askport.core.addresses import UNSPECIFIED
from askport.core.finding.tracking import Sighting
from askport.core.formats import dcp
from askport.core.formats.dcp import Block, Dcp, dcp_frame
from askport.core.phrases import phrase, together
from askport.core.ways.conversation import Ended
from askport.core.ways.start import Start
from askport.core.ways.station_talk import ATTEMPTS, StationRequest, StationTalk, refusal_of
from askport.core.ways.way import FOLLOW_S, Result, Way
from askport.core.ways.way_entry import WayEntry, speaks

_ANSWERED = 1
_LOOKS_S = 5.0
"""How long one that did not answer is looked for at its new address: the answer may be what was lost."""


class SetByDcp(Way):
    """Tells a station its address, reads the error behind the success, and follows it there."""

    name = "dcp"
    gives = True
    wrote = ("mask", "gateway")  # there are no name servers in it

    def __init__(self, start: Start) -> None:
        ours = [each.ip for each in (start.laptop or start.free,) if each]
        super().__init__(
            start.mac, start.target, laptop_mac=start.laptop_mac, ours=ours, now=start.now, was=start.old,
            landings=start.landings,
        )  # fmt: skip
        self.permanent: bool | None = None
        self._lasts = not start.temporary
        at, gateway = start.target.interface, start.target.gateway or UNSPECIFIED
        if start.target.gateway is None and start.kind and start.kind.needs.gateway == "own-address":
            gateway = at.ip
        told = dcp.set_ip(start.xid(), at.ip, at.netmask, gateway, permanent=self._lasts)
        self._name = protocols.told_name("dcp", start.columns)
        self._then: Dcp | None = None
        if self._name:
            called = dcp.set_name(start.xid(), dcp.station_name(self._name), permanent=self._lasts)
            told, self._then = called, told  # a controller gives addresses by name: it must not find the old one
        self._question = StationRequest(told, start.now)
        self._follow_until: float | None = None
        self._is_unanswered = False

    @property
    def waits_for(self) -> str:
        """What it waits for."""
        if self._then:
            return phrase("Telling it by PROFINET DCP that it is called {name}.", name=self._name)
        if self._question.answer is None:
            if not self._lasts:
                return phrase("Telling it its address by PROFINET DCP, for now only.")
            return phrase("Telling it its address by PROFINET DCP.")
        return phrase("It took the request. Waiting for it at {ip}.", ip=self.target.interface.ip)

    def receive(self, heard: wire.Heard) -> None:
        if self.done:
            return
        self._question.hear(heard)
        if self._question.answer and self._follow_until is None:
            self._answered(self._question.answer, heard.at)
        if not self.done:
            self._tracker.receive(heard)
            self._see(heard.at)

    def _answered(self, answer: Dcp, now: float) -> None:
        if refusal := refusal_of(answer):
            self._finish(Result.REFUSED, phrase("It refused: {refusal}.", refusal=refusal), now)
            return
        lasts = phrase("to be kept") if self._lasts else phrase("for now only: it is gone at the next power cycle")
        if self._then:
            self._note(phrase("It took the name {name} by PROFINET DCP, {lasts}.", name=self._name, lasts=lasts), now)
            self._question, self._then = StationRequest(self._then, now), None
            return
        self._note(
            phrase(
                "It acknowledged {interface} by PROFINET DCP, {lasts}.", interface=self.target.interface, lasts=lasts
            ),
            now,
        )
        self._follow_until = now + FOLLOW_S
        self._tracker.look_from(now)

    def _see(self, now: float) -> None:
        for seen in self._tracker.news():
            if seen.kind is Sighting.ARRIVED and self._follow_until is not None and not self.done:
                self.permanent = None if self._is_unanswered else self._lasts
                how = "" if self._lasts else phrase("It said that this is for now only.")
                how = phrase("Its answer was lost.") if self._is_unanswered else how
                took = phrase("It took {address} by PROFINET DCP, same MAC.", address=seen.address)
                self._finish(Result.TAKEN, together(took, how), now)

    def handle_timer(self, now: float) -> None:
        """Ask, or look for it; give up where it does not answer."""
        if self.done:
            return
        question = self._question
        if self._follow_until is None and now >= question.next_at:
            if question.is_due:
                self._send(dcp_frame(self._laptop_mac, self.mac, question.message))
                question.ask(now)
            else:
                self._note(
                    phrase(
                        "It did not answer {attempts} requests by PROFINET DCP; it may have taken them.",
                        attempts=ATTEMPTS,
                    ),
                    now,
                )
                self._is_unanswered, self._follow_until = True, now + _LOOKS_S
                self._tracker.look_from(now)
        self._tracker.handle_timer(now)
        self._see(now)
        if self._follow_until is not None and now >= self._follow_until and not self.done:
            if self._is_unanswered:
                text = phrase(
                    "It did not answer {attempts} requests by PROFINET DCP, and has not moved.", attempts=ATTEMPTS
                )
                self._finish(Result.NO_ANSWER, text, now)
            else:
                self._not_come(now)

    def next_deadline(self) -> float | None:
        if self.done:
            return None
        asking = self._question.next_at if self._follow_until is None else None
        return machine.earliest(asking, self._follow_until, self._tracker.next_deadline())


class ReadByDcp(StationTalk):
    """Asks a station for its address and name."""

    def __init__(self, start: Start) -> None:
        message = dcp.get(start.xid(), Block.IP, Block.NAME_OF_STATION)
        super().__init__(start.mac, start.laptop_mac, message, phrase("get its address and its name"), start.now)

    def _answered(self, answer: Dcp) -> None:
        if answer.service_type > _ANSWERED or answer.ip is None:
            self._finish(Ended.REFUSED, phrase("it does not say its address by PROFINET DCP"))
            return
        address, mask, gateway = answer.ip
        own = gateway in (address, UNSPECIFIED)  # a station without a gateway has its own address there, or none
        self._found = {"address": str(address), "mask": str(mask), "gateway": "none" if own else str(gateway)}
        if address == UNSPECIFIED:
            del self._found["mask"]
        name = (answer.get(Block.NAME_OF_STATION) or b"").decode("ascii", "replace")
        self._found |= {"name": name} if name else {}
        self._found |= {"origin": "dhcp"} if answer.is_from_dhcp else {}
        self._finish(Ended.WELL, phrase("it says that somebody else has its address") if answer.has_conflict else "")


def shown_values(start: Start) -> list[str]:
    """Return what a station is told.

    Raises:
        BadInput: the plan calls it by what is no name of a station.
    """
    at, gateway, name = start.target.interface, start.target.gateway, protocols.told_name("dcp", start.columns)
    how = phrase("for now only") if start.temporary else phrase("to be kept")
    named = (
        [phrase("set name {station_name}, {how}", station_name=dcp.station_name(name).decode(), how=how)]
        if name
        else []
    )
    return [
        *named,
        phrase(
            "set {ip} {netmask} gateway {gateway}, {how}",
            ip=at.ip,
            netmask=at.netmask,
            gateway=gateway or "none",
            how=how,
        ),
    ]


ENTRY = WayEntry(
    name=SetByDcp.name,
    title=phrase("by PROFINET DCP"),
    done=phrase("by PROFINET DCP"),
    says=phrase("tells it by PROFINET DCP at its MAC address, to be kept; --temporary for now only. No address needed"),
    fits=speaks(
        "dcp", phrase("It speaks PROFINET DCP: it is told at its MAC address and needs no other."), by_mac=True
    ),
    by_mac=True,
    enter_does="tell it by PROFINET DCP, and follow it to {target}",
    says_lines=shown_values,
    tells=lambda _: SetByDcp.wrote,
    begin=SetByDcp,
    reads=ReadByDcp,
)
